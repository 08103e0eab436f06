package postgres

import (
	"encoding/binary"
	"io"
	"net"
)

// Codes that stand instead of a version in a client's first message (PostgreSQL's "Message
// Formats").
const (
	cancelRequest = 80877102
	sslRequest    = 80877103
	gssRequest    = 80877104
)

// maxStartup bounds a client's first message, as the server does.
const maxStartup = 10000

// Refuse answers a client's first message with an error of class 08 (connection exception).
func (Engine) Refuse(conn net.Conn, text string) {
	for range 3 {
		var head [8]byte
		if _, err := io.ReadFull(conn, head[:]); err != nil {
			return
		}
		length, code := binary.BigEndian.Uint32(head[:4]), binary.BigEndian.Uint32(head[4:])
		switch {
		case code == sslRequest || code == gssRequest:
			if _, err := conn.Write([]byte("N")); err != nil {
				return
			}
			continue
		case code == cancelRequest || length < 8 || length > maxStartup:
			return
		}
		if _, err := io.CopyN(io.Discard, conn, int64(length)-8); err != nil {
			return
		}
		_, _ = conn.Write(errorMessage(text))
		return
	}
}

// errorMessage makes an error of class 08 (connection exception), after which a server ends the
// connection.
func errorMessage(text string) []byte {
	var body []byte
	for _, field := range []string{"SFATAL", "VFATAL", "C08001", "M" + text} {
		body = append(append(body, field...), 0)
	}
	body = append(body, 0)
	message := binary.BigEndian.AppendUint32([]byte{'E'}, uint32(len(body)+4))
	return append(message, body...)
}
