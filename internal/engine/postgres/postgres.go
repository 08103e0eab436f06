// Package postgres logs in to PostgreSQL servers and asks them things, over pgx's pgconn.
//
// The driver gets a connection that is already greeted and, where the profile wants it, already
// encrypted. Between the two stands an inspector, which reads each message of the login as the
// driver does: it bounds and checks the first one, notes which login method the server chose, and
// says when the login and the database were granted. The protocol is the one of PostgreSQL's
// manual, "Frontend/Backend Protocol" 3.0.
package postgres

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// Engine opens connections to PostgreSQL. Its zero value is ready.
type Engine struct{}

// loginLimit bounds each message of the login; a server's largest is its certificate of error, a
// few KB.
const loginLimit = 64 << 10

// template is a configuration of the driver's that owes nothing to the environment. The driver
// makes one only by parsing, and parsing reads the environment and files below the home folder;
// so it is parsed once, with the driver's variables taken away meanwhile and no file to find, and
// every field is set on each copy.
var template = sync.OnceValues(func() (*pgconn.Config, error) {
	for _, pair := range os.Environ() {
		name, value, _ := strings.Cut(pair, "=")
		if strings.HasPrefix(name, "PG") {
			_ = os.Unsetenv(name)
			defer os.Setenv(name, value)
		}
	}
	return pgconn.ParseConfig("host=gentle.invalid port=1 user=nobody dbname=none password=none sslmode=disable " +
		"sslrootcert='' sslcert='' sslkey='' passfile=" +
		os.DevNull)
})

// Open implements engine.Engine.
func (Engine) Open(ctx context.Context, end engine.Endpoint, login engine.Login,
	watch engine.Watch) (s engine.Session, err error) {
	line, err := end.Connect(ctx, end.At)
	if err != nil {
		return nil, err
	}
	conn := line.Conn
	defer func() {
		if cause := recover(); cause != nil {
			s, err = nil, engine.Malformed(cause)
		}
		if err != nil {
			_ = conn.Close()
		}
	}()
	in := &inspector{login: login, line: line, watch: watch, unix: end.At.Network == "unix"}
	over, encryption := conn, ""
	if line.TLS != nil {
		encrypted, saw, err := in.encrypt(ctx, conn)
		if err != nil {
			return nil, err
		}
		over, encryption = encrypted, saw
	}
	beside := &said{}
	config, err := configure(login, over, in)
	if err != nil {
		return nil, &finding.Problem{Code: finding.SettingsUnknown, Err: err, Words: outside.Said(err.Error())}
	}
	config.OnNotice = beside.hear
	pg, err := pgconn.ConnectConfig(ctx, config)
	if err != nil {
		return nil, in.failure(ctx, err)
	}
	opened := &session{pg: pg, said: beside, again: func(ctx context.Context) (engine.Line, error) {
		return end.Connect(ctx, end.At)
	}, login: login, method: in.method, encryption: encryption}
	if encrypted, ok := over.(*tls.Conn); ok {
		opened.certificate = engine.Describe(encrypted.ConnectionState())
	}
	if err := opened.settle(ctx); err != nil {
		return nil, err
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
		in.raw, in.from, in.to = r, bufio.NewReader(r), w
		return pgproto3.NewFrontend(in, in)
	}
	// The driver reads the password from here when it needs it; the inspector puts it there.
	c.Database, c.User, c.Password = login.Database, login.User, ""
	in.driver = c
	c.TLSConfig, c.SSLNegotiation, c.SSLCertMode = nil, "", ""
	c.ConnectTimeout = 0
	c.KerberosSrvName, c.KerberosSpn = "", ""
	c.ChannelBinding = "prefer"
	if len(login.Methods) > 0 && !slices.Contains(login.Methods, "scram-sha-256") &&
		slices.Contains(login.Methods, "scram-sha-256-plus") {
		c.ChannelBinding = "require"
	}
	c.MinProtocolVersion, c.MaxProtocolVersion = "3.0", "3.0"
	c.MaxProtocolMessageBodyLen = loginLimit
	c.RequireAuth = "!gss,!sspi"
	if !in.line.MayShow {
		c.RequireAuth = "!password,!gss,!sspi"
	}
	c.RuntimeParams = map[string]string{"application_name": "gharbor"}
	// else they are set once the session is open
	if login.Pooled == engine.PoolingUnknown || login.Pooled == engine.NotPooled {
		for name, value := range login.Options {
			c.RuntimeParams[name] = value
		}
	}
	c.AfterNetConnect, c.ValidateConnect, c.AfterConnect = nil, nil, nil
	c.OnNotice, c.OnNotification = nil, nil
	return c, nil
}

// state is how far the login has come: it says which messages the server may send next
// (PostgreSQL's manual, "Message Flow", section "Start-up").
type state int

const (
	started   state = iota // the server may name a login method, or let us in without one
	answering              // our answer to a method with one step is on its way
	exchange               // SCRAM: our first message is on its way (RFC 5802, section 3)
	proof                  // SCRAM: our proof is on its way
	verified               // SCRAM: the server's signature is there; the driver checks it before it reads on
	granted                // the login was
	open                   // the database is; nothing is inspected from here on
)

// messageLimit is how many messages a server may send until the database is open.
const messageLimit = 1000

// inspector stands between the driver and the connection until the database is open. It reads one
// message after the other and lets pass only what may come in each [state], and the driver has no
// password until the server has named a login method for which it may be used.
type inspector struct {
	login  engine.Login
	line   engine.Line
	watch  engine.Watch
	driver *pgconn.Config // the driver reads the password there when it needs it
	unix   bool           // it is a socket of this machine
	raw    io.Reader
	from   *bufio.Reader // over raw
	to     io.Writer

	held     []byte // read, checked, not yet given to the driver
	greeted  bool
	state    state
	messages int
	checked  bool   // the driver has found the server's signature right
	asked    uint32 // the login method that the server asked for
	offered  []string
	method   string
	refused  error // why no more is read
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
		encrypted, saw, err := engine.Encrypt(ctx, conn, in.line.TLS)
		var header tls.RecordHeaderError
		if errors.As(err, &header) {
			// Another protocol's greeting can begin with an S.
			first := append(answer, header.RecordHeader[:]...)
			return nil, "", engine.Unexpected(append(first, waiting(conn)...))
		}
		if err != nil {
			return nil, "", err
		}
		in.watch("tls", saw)
		return encrypted, saw, nil
	case 'N':
		if rest := waiting(conn); len(rest) > 0 {
			return nil, "", engine.Unexpected(append(answer, rest...))
		}
		in.greet("a PostgreSQL server, without encryption")
		return nil, "", &finding.Problem{Code: finding.TLSNotOffered}
	}
	first := append(answer, waiting(conn)...)
	if found, ok := (Engine{}).Identify(first); ok && found.Busy != "" {
		return nil, "", &finding.Problem{Code: finding.GreetingUnknown, Words: outside.Said(found.Busy)}
	}
	return nil, "", engine.Unexpected(first)
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

// Read implements io.Reader for the driver: whole messages until the database is open, bytes from
// then on.
func (in *inspector) Read(p []byte) (int, error) {
	if in.state == verified {
		in.checked = true // it would not read on otherwise
	}
	for len(in.held) == 0 {
		switch {
		case in.refused != nil:
			return 0, in.refused
		case in.state == open && in.from.Buffered() > 0:
			return in.from.Read(p)
		case in.state == open:
			return in.raw.Read(p)
		}
		if err := in.next(); err != nil {
			in.refused = err
			return 0, err
		}
	}
	n := copy(p, in.held)
	in.held = in.held[n:]
	return n, nil
}

// next reads a message, and fails when it is none that may come.
func (in *inspector) next() error {
	head, err := in.from.Peek(5)
	if !in.greeted {
		if len(head) == 0 {
			return err
		}
		if err != nil && finding.Silent(context.Background(), err) && begins(head) {
			return err // what came so far may be a message's
		}
		if err != nil || !plausible(head) {
			first, _ := in.from.Peek(max(len(head), min(512, in.from.Buffered())))
			return engine.Unexpected(first)
		}
		in.greet("a PostgreSQL server")
	}
	if err != nil {
		return err
	}
	size := int64(binary.BigEndian.Uint32(head[1:]))
	if in.messages++; size < 4 || size > loginLimit || in.messages > messageLimit {
		return engine.Malformed(fmt.Sprintf("message %d of the login, of kind %q and %d bytes", in.messages, head[0], size))
	}
	message := make([]byte, 1+size)
	if _, err := io.ReadFull(in.from, message); err != nil {
		return err
	}
	if err := in.step(message[0], message[5:]); err != nil {
		return err
	}
	in.held = message
	return nil
}

// plausible reports whether a message's head is one of those with which a server answers a
// client's first: an begins reports whether some first bytes can be the beginning of the first
// message: a request for authentication, an error, or a notice, of a length that such a message
// has.
func begins(head []byte) bool {
	if !bytes.Contains([]byte("REN"), head[:1]) {
		return false
	}
	return !bytes.ContainsFunc(head[1:min(len(head), 3)], func(r rune) bool { return r != 0 })
}

// authentication request, an error, a notice, or word of another protocol version.
func plausible(head []byte) bool {
	size := binary.BigEndian.Uint32(head[1:5])
	// No first message has a size of 10; another engine's greeting looks like one: the length of
	// its packet, three zeros, and its version 10.
	return strings.ContainsRune("RENv", rune(head[0])) && size >= 4 && size != 10 && size <= loginLimit
}

// step follows one message of the server's.
func (in *inspector) step(kind byte, body []byte) error {
	switch {
	case kind == 'E', kind == 'N': // an error ends the login in every state; a notice is for the log
		return nil
	case kind == 'R' && len(body) >= 4 && in.state < granted:
		return in.authentication(binary.BigEndian.Uint32(body), body[4:])
	case kind == 'v' && in.state == started, (kind == 'S' || kind == 'K') && in.state == granted:
		return nil
	case kind == 'Z' && in.state == granted:
		in.state = open
		in.watch("database", in.login.Database+" is open")
		return nil
	}
	return engine.Malformed(fmt.Sprintf("a message of kind %q that may not come at this point of the login", kind))
}

// Authentication requests, by the number in them.
const (
	authOK           = 0
	authCleartext    = 3
	authMD5          = 5
	authSASL         = 10
	authSASLContinue = 11
	authSASLFinal    = 12
)

// methods are the login methods by their number, as people know them.
var methods = map[uint32]string{
	2: "Kerberos", authCleartext: "password in clear", authMD5: "MD5", 7: "GSSAPI", 8: "GSSAPI", 9: "SSPI",
	authSASL: "SASL",
}

// The mechanisms of SASL that are known here (RFC 7677).
const (
	scram     = "SCRAM-SHA-256"
	scramPlus = "SCRAM-SHA-256-PLUS"
)

// authentication follows one authentication request.
func (in *inspector) authentication(number uint32, body []byte) error {
	switch {
	case number == authOK && in.state == started:
		in.method = engine.Unasked
		if !in.login.Accepts(engine.NothingAsked) {
			return in.unsupported("one that asks for nothing")
		}
		in.grant()
		return nil
	case number == authOK && (in.state == answering || in.state == verified):
		in.grant()
		return nil
	case number == authCleartext && in.state == started:
		return in.choose(number, methods[number], "password", answering)
	case number == authMD5 && in.state == started:
		return in.choose(number, methods[number], "md5", answering)
	case number == authSASL && in.state == started:
		return in.sasl(body)
	case number == authSASLContinue && in.state == exchange:
		in.state = proof
		return in.rounds(string(body))
	case number == authSASLFinal && in.state == proof:
		in.state = verified
		return nil
	case in.state == exchange || in.state == proof:
		return &finding.Problem{Code: finding.LoginServerUnproven, Facts: finding.Facts{finding.FactMethod: in.method}}
	}
	name := methods[number]
	if name == "" {
		name = fmt.Sprintf("number %d", number)
	}
	if in.state != started {
		name += " after " + in.method
	}
	return in.unsupported(name)
}

func (in *inspector) grant() {
	in.state = granted
	in.watch("login", "as "+in.login.User+": "+in.method)
}

// choose takes a login method that the server names, and gives the driver the password when it
// may be used for it. Title is its name for people, and names are those that profiles have for
// it.
func (in *inspector) choose(number uint32, title, names string, then state) error {
	in.asked, in.method = number, title
	about := finding.Facts{finding.FactMethod: title}
	accepted := false
	for name := range strings.SplitSeq(names, " ") {
		accepted = accepted || in.login.Accepts(name)
	}
	switch {
	case !accepted:
		return in.unsupported(title)
	case !in.line.Given:
		return &finding.Problem{Code: finding.LoginPasswordWanted, Facts: about}
	case number == authCleartext && !in.line.MayShow:
		return &finding.Problem{Code: finding.LoginWouldShowPassword, Facts: about}
	}
	in.state = then
	in.driver.Password = in.line.Release(title)
	return nil
}

func (in *inspector) unsupported(title string) error {
	about := finding.Facts{finding.FactMethod: title}
	if len(in.login.Methods) > 0 {
		about[finding.FactAccepted] = strings.Join(in.login.Methods, ", ")
	}
	return &finding.Problem{Code: finding.LoginMethodNotSupported, Facts: about}
}

// sasl takes the list of mechanisms that the server offers.
func (in *inspector) sasl(body []byte) error {
	in.offered = strings.Split(strings.TrimRight(string(body), "\x00"), "\x00")
	if !slices.Contains(in.offered, scram) {
		return in.unsupported(in.offered[0])
	}
	names := "scram-sha-256"
	if slices.Contains(in.offered, scramPlus) && in.line.TLS != nil {
		names += " scram-sha-256-plus"
	}
	return in.choose(authSASL, scram, names, exchange)
}

// rounds refuses a server's first SCRAM message when its number of rounds makes the password easy
// to guess, or would keep this machine at work for longer than the leg may take.
func (in *inspector) rounds(message string) error {
	text := message[strings.LastIndex(message, ",")+1:]
	n, err := strconv.Atoi(strings.TrimPrefix(text, "i="))
	if err != nil {
		return nil // the driver says what is wrong with it
	}
	return engine.Rounds{Method: in.method, Hash: sha256.New, N: n, Setting: "scram_iterations",
		Unverified: in.line.Unverified, Limit: in.login.Leg}.Check()
}

// Write implements io.Writer for the driver; it notes which SASL mechanism the driver chose.
func (in *inspector) Write(p []byte) (int, error) {
	if in.state == exchange && len(p) > 5 && p[0] == 'p' {
		for _, name := range in.offered {
			if strings.HasPrefix(string(p[5:]), name+"\x00") {
				in.method = name
			}
		}
	}
	return in.to.Write(p)
}

// failure says what the driver's error means, given how far the inspector saw it come.
func (in *inspector) failure(ctx context.Context, err error) *finding.Problem {
	var known *finding.Problem
	var refusal *pgconn.PgError
	switch {
	case errors.As(in.refused, &known):
		return known
	case errors.As(err, &refusal):
		return refused(refusal, in)
	case in.state == verified && !in.checked && !finding.Silent(ctx, err):
		return &finding.Problem{Code: finding.LoginServerUnproven, Err: err,
			Facts: finding.Facts{finding.FactMethod: in.method}}
	}
	leg := "greeting"
	switch {
	case in.state >= granted:
		leg = "database"
	case in.greeted:
		leg = "login"
	}
	if in.state == verified && finding.Silent(ctx, err) {
		// The proof was taken, and the word that comes with it did not: a pooler takes logins by
		// itself, and waits for a server then.
		return &finding.Problem{Code: finding.DatabaseNoServer, Err: err, Facts: finding.Facts{finding.FactMethod: in.method}}
	}
	broken := engine.Broken(ctx, leg, err)
	if !broken.Words.Empty() {
		// The driver puts the account and the address before its cause; only the cause is news.
		for cause := err; cause != nil; cause = errors.Unwrap(cause) {
			broken.Words = outside.Said(cause.Error())
		}
	}
	return broken
}
