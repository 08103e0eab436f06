package engine

import (
	"bytes"
	"fmt"
	"strings"

	"gentle-harbor/internal/finding"
)

// Answer is what some service says of itself by its first bytes.
type Answer struct {
	Kind    string // "postgres", "mysql", "mariadb", "http", "ssh", "redis", "smtp", "tls", "vnc" or "" for one that tells nothing
	Title   string // as people write it, with an article: "a MariaDB server"
	Version string // "" when it does not say; not yet cleaned of control characters
	Busy    string // the server's error when it answers with one, such as "Too many connections"
}

// Database tells whether the answer is a database server's that profiles can reach.
func (a Answer) Database() bool { _, known := Lookup(a.Kind); return known }

// Identify names the service whose first bytes are data. It knows what a server says by itself (MySQL's
// initial handshake, RFC 4253 for SSH, RFC 5321 for SMTP, RFC 6143 for VNC) and what servers answer to a
// PostgreSQL client's first message.
func Identify(data []byte) Answer {
	if a, ok := identifyMySQL(data); ok {
		return a
	}
	line, _, _ := bytes.Cut(data, []byte("\n"))
	text := strings.TrimRight(string(line), "\r")
	switch {
	case strings.HasPrefix(text, "SSH-"):
		return Answer{Kind: "ssh", Title: "an SSH server", Version: text}
	case strings.HasPrefix(text, "HTTP/"), strings.HasPrefix(text, "<!DOCTYPE"), strings.HasPrefix(text, "<html"):
		return Answer{Kind: "http", Title: "a web server"}
	case strings.HasPrefix(text, "RFB "):
		return Answer{Kind: "vnc", Title: "a remote desktop (RFB) server", Version: text}
	case strings.HasPrefix(text, "-ERR"), strings.HasPrefix(text, "-DENIED"):
		return Answer{Kind: "redis", Title: "a Redis server"}
	case strings.HasPrefix(text, "220 "), strings.HasPrefix(text, "220-"):
		return Answer{Kind: "smtp", Title: "a mail or file transfer server", Version: text}
	case len(data) >= 5 && data[0] == 0x15 && data[1] == 3:
		return Answer{Kind: "tls", Title: "a server that speaks TLS from the first byte"}
	case len(data) == 1 && (data[0] == 'S' || data[0] == 'N'):
		return Answer{Kind: "postgres", Title: "a PostgreSQL server"}
	case len(data) >= 9 && data[0] == 'E' && data[1] == 0 && data[5] == 'S':
		return Answer{Kind: "postgres", Title: "a PostgreSQL server", Busy: errorField(data[5:], 'M')}
	}
	return Answer{}
}

// errorField reads a field of a PostgreSQL ErrorResponse's body.
func errorField(body []byte, want byte) string {
	for _, field := range bytes.Split(body, []byte{0}) {
		if len(field) > 1 && field[0] == want {
			return string(field[1:])
		}
	}
	return ""
}

func identifyMySQL(data []byte) (Answer, bool) {
	if len(data) < 6 || data[3] != 0 {
		return Answer{}, false
	}
	size := int(data[0]) | int(data[1])<<8 | int(data[2])<<16
	body := data[4:]
	switch {
	case body[0] == 10 && size > 20 && size < 4096:
		version, _, ok := bytes.Cut(body[1:], []byte{0})
		if !ok || len(version) == 0 {
			return Answer{}, false
		}
		kind, title := "mysql", "a MySQL server"
		text := strings.TrimPrefix(string(version), "5.5.5-")
		if strings.Contains(strings.ToLower(text), "mariadb") {
			kind, title = "mariadb", "a MariaDB server"
		}
		return Answer{Kind: kind, Title: title, Version: text}, true
	case body[0] == 0xff && size >= 3 && size < 4096:
		message := body[3:]
		message = message[:min(len(message), max(size-3, 0))]
		if len(message) > 6 && message[0] == '#' {
			message = message[6:]
		}
		a := Answer{Kind: "mysql", Title: "a MySQL or MariaDB server", Busy: string(message)}
		if bytes.Contains(message, []byte("MariaDB")) {
			a.Kind, a.Title = "mariadb", "a MariaDB server"
		}
		return a, true
	}
	return Answer{}, false
}

// NotThis is the failure of the leg "greeting" for a service that is not of the engine titled want.
func NotThis(want string, first []byte) *finding.Problem {
	a := Identify(first)
	about := map[string]string{"wanted": want, "found": a.Title, "version": a.Version}
	switch {
	case a.Database():
		return &finding.Problem{Code: "greeting.other-engine", Facts: about}
	case a.Kind != "":
		return &finding.Problem{Code: "greeting.not-a-database", Facts: about}
	}
	about["first"] = fmt.Sprintf("%q", first[:min(len(first), 24)])
	return &finding.Problem{Code: "greeting.malformed", Facts: about}
}
