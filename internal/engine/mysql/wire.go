package mysql

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"

	"gentle-harbor/internal/engine"
)

// greetingLimit bounds the first packet, loginLimit each later one until the login is granted. Real ones have
// some hundred bytes; the largest is an RSA key.
const (
	greetingLimit = 4 << 10
	loginLimit    = 64 << 10
)

// Flags and markers of the protocol ("Client/Server Protocol", MySQL source documentation).
const (
	clientSSL = 0x800 // in the capabilities: an SSL request comes first

	packetOK      = 0x00
	packetMore    = 0x01 // more data for the way of logging in
	packetSwitch  = 0xfe // use another way of logging in
	packetErr     = 0xff
	fullLogin     = 0x04 // after packetMore, caching_sha2_password: show the password
	handshakeV10  = 10
	sslRequestLen = 32
)

// wire stands between the driver and the connection until the login is granted. The driver is told of no
// encryption: wire makes it, underneath, when the driver sends its first packet, and shifts the packets'
// sequence numbers by the one that the request for encryption takes. So it sees each packet of the login in
// plain and can stop the one that would show the password.
type wire struct {
	net.Conn
	ctx   context.Context
	login engine.Login
	watch engine.Watch

	greeted bool
	granted bool
	shift   byte
	held    []byte // packets read, checked, and not yet given to the driver
	full    bool   // the server has asked for the password itself
	stopped error  // what ended the conversation from our side
	method  string
	version string
	product string
	offers  bool // the server can encrypt
	saw     string
}

// Read implements net.Conn for the driver: whole packets until the login is granted, bytes from then on.
func (w *wire) Read(p []byte) (int, error) {
	if w.stopped != nil {
		return 0, w.stopped
	}
	for len(w.held) == 0 {
		if w.granted {
			return w.Conn.Read(p)
		}
		if err := w.packet(); err != nil {
			w.stopped = err
			return 0, err
		}
	}
	n := copy(p, w.held)
	w.held = w.held[n:]
	return n, nil
}

func (w *wire) packet() error {
	if !w.greeted {
		return w.greeting()
	}
	header := make([]byte, 4)
	if _, err := io.ReadFull(w.Conn, header); err != nil {
		return err
	}
	size := length(header)
	if size > loginLimit || size == 0 {
		return engine.Malformed(fmt.Sprintf("a packet of %d bytes during the login", size))
	}
	body := make([]byte, size)
	if _, err := io.ReadFull(w.Conn, body); err != nil {
		return err
	}
	header[3] -= w.shift
	w.held = append(header, body...)
	switch body[0] {
	case packetOK:
		w.granted = true
		w.watch("login", "as "+w.login.User+": "+w.method)
	case packetSwitch:
		name, _, _ := strings.Cut(string(body[1:]), "\x00")
		if name == "" {
			name = "mysql_old_password"
		}
		w.method = name
	case packetMore:
		w.full = len(body) == 2 && body[1] == fullLogin
	}
	return nil
}

func length(header []byte) int {
	return int(header[0]) | int(header[1])<<8 | int(header[2])<<16
}

// greeting reads the server's first packet and refuses what no server of this family says.
func (w *wire) greeting() error {
	first := make([]byte, 512)
	n, err := io.ReadAtLeast(w.Conn, first, 5)
	if n == 0 {
		return err
	}
	first = first[:n]
	size := length(first[:min(4, n):4])
	if err != nil || size < 3 || size > greetingLimit || first[3] != 0 || first[4] != handshakeV10 && first[4] != packetErr {
		return engine.NotThis("MySQL or MariaDB", first)
	}
	for len(first) < 4+size {
		more := make([]byte, 4+size-len(first))
		n, err := w.Conn.Read(more)
		first = append(first, more[:n]...)
		if err != nil && n == 0 {
			return engine.NotThis("MySQL or MariaDB", first)
		}
	}
	if len(first) > 4+size {
		return engine.NotThis("MySQL or MariaDB", nil) // a server waits for us after its greeting
	}
	w.greeted, w.held = true, first
	if first[4] == packetErr {
		number := binary.LittleEndian.Uint16([]byte{first[5], first[6]})
		if code := byNumber[number]; code != "" && !strings.HasPrefix(code, "greeting.") {
			w.watch("greeting", "a MySQL or MariaDB server, which answers with an error at once")
		}
		return nil
	}
	if !w.read(first[4:]) {
		return engine.NotThis("MySQL or MariaDB", nil)
	}
	w.watch("greeting", "a "+w.product+" server, "+w.version)
	if w.login.TLS != nil && !w.offers {
		return &engine.Failure{Code: "tls.not-offered"}
	}
	return nil
}

// read takes the greeting's fields; false when it is too short for what it says it holds.
func (w *wire) read(body []byte) bool {
	found := engine.Identify(append([]byte{byte(len(body)), byte(len(body) >> 8), 0, 0}, body...))
	version, rest, ok := strings.Cut(string(body[1:]), "\x00")
	// After the version: thread id 4, scramble 8, filler 1, capabilities 2, character set 1, status 2,
	// capabilities 2, length of scramble 1, reserved 10, scramble 13, name of the way of logging in.
	if !found.Database() || !ok || version == "" || len(rest) < 44 {
		return false
	}
	w.version, w.product = found.Version, "MySQL"
	if found.Kind == "mariadb" {
		w.product = "MariaDB"
	}
	w.offers = binary.LittleEndian.Uint16([]byte(rest[13:15]))&clientSSL != 0
	w.method, _, _ = strings.Cut(rest[44:], "\x00")
	return true
}

// errShow is what the driver gets for a packet that would have shown the password.
var errShow = errors.New("the password would have been shown")

// Write implements net.Conn for the driver, which writes a whole packet at a time.
func (w *wire) Write(p []byte) (int, error) {
	if w.stopped != nil {
		return 0, w.stopped
	}
	if w.granted {
		return w.Conn.Write(p)
	}
	if w.full && !w.login.MayShow {
		w.stopped = errShow
		return 0, errShow
	}
	packet := append([]byte(nil), p...)
	if w.login.TLS != nil {
		if w.shift == 0 {
			if err := w.encrypt(packet); err != nil {
				w.stopped = err
				return 0, err
			}
			w.shift = 1
			packet[5] |= clientSSL >> 8
		}
		packet[3] += w.shift
	}
	if _, err := w.Conn.Write(packet); err != nil {
		return 0, err
	}
	return len(p), nil
}

// encrypt sends the request for encryption, which is the head of the first packet, and makes the handshake.
func (w *wire) encrypt(response []byte) error {
	if len(response) < 4+sslRequestLen {
		return engine.Malformed("a login packet that is too short")
	}
	request := append([]byte{sslRequestLen, 0, 0, response[3]}, response[4:4+sslRequestLen]...)
	request[5] |= clientSSL >> 8
	if _, err := w.Conn.Write(request); err != nil {
		return engine.Broken(w.ctx, "tls", err)
	}
	encrypted, saw, err := engine.Encrypt(w.ctx, w.Conn, w.login.TLS)
	if err != nil {
		return err
	}
	w.Conn, w.saw = encrypted, saw
	w.watch("tls", saw)
	return nil
}
