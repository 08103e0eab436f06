package engine

import (
	"net"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/finding"
)

// Answer is what some service says of itself by its first bytes.
type Answer struct {
	// an engine's name, "http", "ssh", "proxy", "redis", "smtp", "tls", "vnc", or "" for one that
	// says nothing of itself
	Kind    string
	Title   string // as people write it, with an article: "a web server"
	Version string // "" when it does not say; not yet cleaned of control characters
	Busy    string // the server's error when it answers with one, such as "Too many connections"
}

// Other names a service that is no database server, by its first bytes: RFC 4253 for SSH, RFC
// 9112 for HTTP, RFC 5321 for SMTP, RFC 6143 for remote desktops, the PROXY protocol's versions 1
// and 2 for a proxy that takes us for its server.
func Other(first []byte) (Answer, bool) {
	text, _, _ := strings.Cut(string(first), "\n")
	text = strings.TrimRight(text, "\r")
	switch {
	case strings.HasPrefix(text, "SSH-"):
		return Answer{Kind: "ssh", Title: "an SSH server", Version: text}, true
	case strings.HasPrefix(text, "HTTP/"), strings.HasPrefix(text, "<!DOCTYPE"), strings.HasPrefix(text, "<html"):
		return Answer{Kind: "http", Title: "a web server"}, true
	case strings.HasPrefix(text, "RFB "):
		return Answer{Kind: "vnc", Title: "a remote desktop (RFB) server", Version: text}, true
	case strings.HasPrefix(text, "-ERR"), strings.HasPrefix(text, "-DENIED"):
		return Answer{Kind: "redis", Title: "a Redis server"}, true
	case strings.HasPrefix(text, "220 "), strings.HasPrefix(text, "220-"):
		return Answer{Kind: "smtp", Title: "a mail or file transfer server", Version: text}, true
	case strings.HasPrefix(text, "PROXY "), strings.HasPrefix(string(first), "\r\n\r\n\x00\r\nQUIT\n"):
		return Answer{Kind: "proxy", Title: "a proxy that announces its clients (PROXY protocol)"}, true
	case len(first) >= 5 && first[0] == 0x15 && first[1] == 3:
		return Answer{Kind: "tls", Title: "a server that speaks TLS from the first byte"}, true
	}
	return Answer{}, false
}

// Heard gives the first bytes of a service with what else has come: names of services stand
// further behind. It waits for a tenth of a second at most.
func Heard(conn net.Conn, first []byte) []byte {
	more := make([]byte, 512)
	_ = conn.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
	n, _ := conn.Read(more)
	return append(slices.Clone(first), more[:n]...)
}

// Unexpected is the problem of the leg "greeting" for a service whose first bytes are not this
// engine's. Who knows all engines can say whose they are.
func Unexpected(first []byte) *finding.Problem {
	return &finding.Problem{Code: finding.GreetingMalformed, Facts: finding.Facts{finding.FactFirstBytes: string(first)}}
}
