// Package postgres logs in to PostgreSQL servers and asks them things, over pgx's pgconn.
//
// The driver gets a connection that is already greeted and, where the profile wants it, already encrypted.
// Between the two stands an inspector, which reads each message of the login as the driver does: it bounds
// and checks the first one, notes which way of logging in the server chose, and tells when the login and the
// database were granted. The protocol is the one of PostgreSQL's manual, "Frontend/Backend Protocol" 3.0.
package postgres

import (
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"gentle-harbor/internal/engine"
)

// Engine opens connections to PostgreSQL. Its zero value is ready.
type Engine struct{}

// loginLimit bounds each message of the login; a server's largest is its certificate of error, a few KB.
const loginLimit = 1 << 20

// template is a configuration of the driver's that owes nothing to the environment. The driver makes one only
// by parsing, and parsing reads the environment and files below the home folder; so it is parsed once, with
// the driver's variables taken away meanwhile and no file to find, and every field is set on each copy.
var template = sync.OnceValues(func() (*pgconn.Config, error) {
	for _, pair := range os.Environ() {
		name, value, _ := strings.Cut(pair, "=")
		if strings.HasPrefix(name, "PG") {
			_ = os.Unsetenv(name)
			defer os.Setenv(name, value)
		}
	}
	return pgconn.ParseConfig("host=gentle.invalid port=1 user=nobody dbname=none password=none sslmode=disable sslrootcert='' sslcert='' sslkey='' passfile=" + os.DevNull)
})

// Open implements engine.Engine.
func (Engine) Open(ctx context.Context, conn net.Conn, login engine.Login, watch engine.Watch) (s engine.Session, err error) {
	defer func() {
		if cause := recover(); cause != nil {
			s, err = nil, engine.Malformed(cause)
		}
		if err != nil {
			_ = conn.Close()
		}
	}()
	in := &inspector{login: login, watch: watch}
	over, encryption := conn, ""
	if login.TLS != nil {
		encrypted, saw, err := in.encrypt(ctx, conn)
		if err != nil {
			return nil, err
		}
		over, encryption = encrypted, saw
	}
	config, err := configure(login, over, in)
	if err != nil {
		return nil, &engine.Failure{Code: "settings.unknown", Err: err, Words: err.Error()}
	}
	pg, err := pgconn.ConnectConfig(ctx, config)
	if err != nil {
		return nil, in.failure(ctx, err)
	}
	pg.Frontend().SetMaxBodyLen(1 << 30)
	opened := &session{pg: pg, login: login, method: in.method, encryption: encryption}
	if encrypted, ok := over.(*tls.Conn); ok {
		opened.certificate = engine.Describe(encrypted.ConnectionState())
	}
	if login.Role != "" {
		if err := opened.takeRole(ctx, login.Role); err != nil {
			return nil, err
		}
	}
	return opened, nil
}

func configure(login engine.Login, over net.Conn, in *inspector) (*pgconn.Config, error) {
	base, err := template()
	if err != nil {
		return nil, err
	}
	c := base.Copy()
	c.Host, c.Port, c.Fallbacks = "192.0.2.1", 1, nil // an address that is never dialled: conn is open already
	c.LookupFunc = func(context.Context, string) ([]string, error) { return []string{"192.0.2.1"}, nil }
	c.DialFunc = func(context.Context, string, string) (net.Conn, error) { return over, nil }
	c.BuildFrontend = func(r io.Reader, w io.Writer) *pgproto3.Frontend {
		in.from, in.to = r, w
		return pgproto3.NewFrontend(in, in)
	}
	c.Database, c.User, c.Password = login.Database, login.User, login.Password.Reveal()
	c.TLSConfig, c.SSLNegotiation, c.SSLCertMode = nil, "", ""
	c.ConnectTimeout = 0
	c.KerberosSrvName, c.KerberosSpn = "", ""
	c.ChannelBinding = "prefer"
	c.MinProtocolVersion, c.MaxProtocolVersion = "3.0", "3.0"
	c.MaxProtocolMessageBodyLen = loginLimit
	c.RequireAuth = "!gss,!sspi"
	switch {
	case !login.Password.Given():
		c.RequireAuth = "none"
	case !login.MayShow:
		c.RequireAuth = "!password,!gss,!sspi"
	}
	c.RuntimeParams = map[string]string{"application_name": "gharbor"}
	for name, value := range login.Options {
		c.RuntimeParams[name] = value
	}
	c.AfterNetConnect, c.ValidateConnect, c.AfterConnect = nil, nil, nil
	c.OnNotice, c.OnNotification = nil, nil
	return c, nil
}

// inspector stands between the driver and the connection until the database is open.
type inspector struct {
	login engine.Login
	watch engine.Watch
	from  io.Reader
	to    io.Writer

	held    []byte // read, checked, not yet given to the driver
	greeted bool
	granted bool // the login was
	open    bool // the database is; nothing is inspected from here on

	header  []byte // of the message that is being read
	left    int    // bytes of its body still to come
	body    []byte // the body of an authentication request so far
	asked   uint32 // the way of logging in that the server asked for
	offered []string
	method  string
	refused *engine.Failure // why the greeting was not accepted
}

// encrypt asks for encryption and takes it (SSLRequest, in the manual's "Message Flow").
func (in *inspector) encrypt(ctx context.Context, conn net.Conn) (*tls.Conn, string, error) {
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	request := binary.BigEndian.AppendUint32([]byte{0, 0, 0, 8}, 80877103)
	if _, err := conn.Write(request); err != nil {
		return nil, "", engine.Broken(ctx, "greeting", err)
	}
	answer := make([]byte, 1)
	if _, err := io.ReadFull(conn, answer); err != nil {
		return nil, "", engine.Broken(ctx, "greeting", err)
	}
	switch answer[0] {
	case 'S':
		in.greet("a PostgreSQL server")
		encrypted, saw, err := engine.Encrypt(ctx, conn, in.login.TLS)
		var header tls.RecordHeaderError
		if errors.As(err, &header) {
			// Another protocol's greeting can begin with an S.
			first := append(answer, header.RecordHeader[:]...)
			if other := engine.NotThis("PostgreSQL", append(first, waiting(conn)...)); other.Code != "greeting.malformed" {
				return nil, "", other
			}
		}
		if err != nil {
			return nil, "", err
		}
		in.watch("tls", saw)
		return encrypted, saw, nil
	case 'N':
		if rest := waiting(conn); len(rest) > 0 {
			return nil, "", engine.NotThis("PostgreSQL", append(answer, rest...))
		}
		in.greet("a PostgreSQL server, without encryption")
		return nil, "", &engine.Failure{Code: "tls.not-offered"}
	}
	first := append(answer, waiting(conn)...)
	if found := engine.Identify(first); found.Kind == "postgres" && found.Busy != "" {
		return nil, "", &engine.Failure{Code: "greeting.unknown", Words: found.Busy}
	}
	return nil, "", engine.NotThis("PostgreSQL", first)
}

// waiting gives what else has come, with next to no wait for more.
func waiting(conn net.Conn) []byte {
	_ = conn.SetReadDeadline(time.Now().Add(30 * time.Millisecond))
	rest := make([]byte, 512)
	n, _ := conn.Read(rest)
	return rest[:n]
}

func (in *inspector) greet(saw string) {
	if !in.greeted {
		in.greeted = true
		in.watch("greeting", saw)
	}
}

// Read implements io.Reader for the driver.
func (in *inspector) Read(p []byte) (int, error) {
	if in.open {
		return in.from.Read(p)
	}
	if in.refused != nil {
		return 0, in.refused
	}
	if in.header == nil && in.held == nil {
		if err := in.first(); err != nil {
			return 0, err
		}
	}
	if len(in.held) > 0 {
		n := copy(p, in.held)
		in.held = in.held[n:]
		return n, nil
	}
	n, err := in.from.Read(p)
	in.scan(p[:n])
	return n, err
}

// first reads the head of the first message and refuses what no PostgreSQL server says, before the driver
// makes room for what the head promises.
func (in *inspector) first() error {
	first := make([]byte, 512)
	n, err := io.ReadAtLeast(in.from, first, 5)
	if n == 0 {
		return err
	}
	first = first[:n]
	if err != nil || !plausible(first) {
		in.refused = engine.NotThis("PostgreSQL", first)
		return in.refused
	}
	in.greet("a PostgreSQL server")
	in.held = first
	in.scan(first)
	return nil
}

// plausible tells whether a message's head is one of those with which a server answers a client's first: an
// authentication request, an error, a notice, or word of another protocol version.
func plausible(head []byte) bool {
	size := binary.BigEndian.Uint32(head[1:5])
	return strings.ContainsRune("RENv", rune(head[0])) && size >= 4 && size <= loginLimit
}

// scan follows the server's messages as they pass.
func (in *inspector) scan(data []byte) {
	for len(data) > 0 && !in.open {
		if in.left == 0 {
			take := min(5-len(in.header), len(data))
			in.header = append(in.header, data[:take]...)
			data = data[take:]
			if len(in.header) < 5 {
				return
			}
			in.left = int(binary.BigEndian.Uint32(in.header[1:])) - 4
			in.body = in.body[:0]
			if in.left > 0 {
				continue
			}
		}
		take := min(in.left, len(data))
		if len(in.body) < 512 {
			in.body = append(in.body, data[:take]...)
		}
		in.left -= take
		data = data[take:]
		if in.left > 0 {
			return
		}
		in.message(in.header[0], in.body)
		in.header = in.header[:0]
	}
}

// Authentication requests, by the number in them.
const (
	authOK        = 0
	authCleartext = 3
	authMD5       = 5
	authSASL      = 10
)

var methods = map[uint32]string{
	2: "Kerberos", authCleartext: "password in clear", authMD5: "MD5", 7: "GSSAPI", 9: "SSPI", authSASL: "SASL",
}

func (in *inspector) message(kind byte, body []byte) {
	switch {
	case kind == 'R' && len(body) >= 4:
		switch number := binary.BigEndian.Uint32(body); number {
		case authOK:
			if in.method == "" {
				in.method = "no password asked for"
			}
			in.granted = true
			in.watch("login", "as "+in.login.User+": "+in.method)
		case 8, 11, 12: // the later steps of a conversation
		default:
			in.asked, in.method = number, methods[number]
			if number == authSASL {
				in.offered = strings.Split(strings.Trim(string(body[4:]), "\x00"), "\x00")
				in.method = in.offered[0]
			}
		}
	case kind == 'Z' && in.granted:
		in.open = true
		in.watch("database", in.login.Database+" is open")
	}
}

// Write implements io.Writer for the driver; it notes which SASL mechanism the driver chose.
func (in *inspector) Write(p []byte) (int, error) {
	if !in.open && in.asked == authSASL && len(p) > 5 && p[0] == 'p' {
		for _, name := range in.offered {
			if strings.HasPrefix(string(p[5:]), name+"\x00") {
				in.method = name
			}
		}
	}
	return in.to.Write(p)
}

// failure tells what the driver's error means, given how far the inspector saw it come.
func (in *inspector) failure(ctx context.Context, err error) *engine.Failure {
	var refusal *pgconn.PgError
	about := map[string]string{"method": in.method}
	switch {
	case in.refused != nil:
		return in.refused
	case errors.As(err, &refusal):
		return refused(refusal, in)
	case in.asked == authCleartext && in.login.Password.Given() && !in.login.MayShow:
		return &engine.Failure{Code: "login.would-show-password", Err: err, About: about}
	case in.asked != 0 && !in.granted && !in.login.Password.Given() && (in.asked == authCleartext || in.asked == authMD5 || in.asked == authSASL):
		return &engine.Failure{Code: "login.password-wanted", Err: err, About: about}
	case in.asked != 0 && !in.granted && methods[in.asked] != "" && in.asked != authCleartext && in.asked != authMD5 && in.asked != authSASL:
		return &engine.Failure{Code: "login.method-not-supported", Err: err, About: about}
	}
	leg := "greeting"
	switch {
	case in.granted:
		leg = "database"
	case in.greeted:
		leg = "login"
	}
	broken := engine.Broken(ctx, leg, err)
	if broken.Words != "" {
		// The driver puts the account and the address before its cause; only the cause is news.
		for cause := err; cause != nil; cause = errors.Unwrap(cause) {
			broken.Words = cause.Error()
		}
	}
	return broken
}
