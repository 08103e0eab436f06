package mysql

import (
	"net"
)

// unknownError is the server's number for an error without one of its own (ER_UNKNOWN_ERROR).
const unknownError = 1105

// Refuse speaks first, as the server does, with an error packet instead of a greeting (MySQL's
// "ERR_Packet").
func (Engine) Refuse(conn net.Conn, text string) {
	text = text[:min(len(text), 500)]
	payload := append([]byte{0xff, unknownError & 0xff, unknownError >> 8}, text...)
	_, _ = conn.Write(append([]byte{byte(len(payload)), byte(len(payload) >> 8), 0, 0}, payload...))
}
