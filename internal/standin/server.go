// Package standin holds practice servers: they speak PostgreSQL's or MySQL's wire protocol, check
// the password for real, and run statements on an embedded SQLite database with the tables of
// Fellside Huts. The demo shows the program at work on them, and tests make them misbehave in
// ways that a real server will not.
//
// They listen on loopback addresses alone, and are for practice: they know as much of SQL as
// SQLite does.
package standin

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"
)

// Config says what a practice server is like.
type Config struct {
	Engine    string            // "postgres", "mysql", "mariadb", "oracle" or "mongodb"
	Address   string            // where to listen; "127.0.0.1:0" when empty
	Ports     []int             // ports of 127.0.0.1 to listen on, the first that is free, where Address is empty
	Unlisted  bool              // listen nowhere: Dial alone leads there, as only a hop leads to a server behind it
	Accounts  map[string]string // user names and their passwords
	Superuser string            // the account that may do anything
	Replica   bool              // say that it follows another server
	Identity  int64             // another number is another server
	Databases []string          // "bunkhouse" when empty, beside those that every server has
	TLS       *tls.Config       // nil offers no encryption
	// Login names how mysql accounts log in: "caching_sha2_password" (also when empty),
	// "mysql_native_password" or "sha256_password"; postgres accounts log in by SCRAM-SHA-256.
	// For oracle it is the form in which passwords are stored: "verifier-12c" (also when empty),
	// "verifier-11g", "verifier-11g-old" for the login of servers before 12c, or "verifier-10g".
	Login  string
	Faults Faults

	State    State    // oracle: of the database behind the listener; see Become
	Instance string   // oracle: "HUTS1" when empty
	Shut     []string // oracle: accounts that may open no session
}

// Faults are how a practice server can misbehave. Each is off in the zero value.
type Faults struct {
	Stall       bool   // accept connections and say nothing
	Hangup      bool   // accept connections and close them immediately
	Greeting    []byte // say these bytes instead of a greeting
	StartingUp  bool   // refuse logins as a server does that is starting up
	TooMany     bool   // refuse connections as a full server does
	Locked      bool   // refuse logins as for a locked account
	AskClear    bool   // ask to be shown the password
	OwnKey      bool   // mysql: ask for the password itself, encrypted with a key of the server's own
	Echo        bool   // put the password, as far as it is known here, into error texts
	ErrorText   string // refuse every login with this text
	Refusal     string // refuse with this code of the server's: a SQLSTATE or an error number
	Early       bool   // mysql: refuse instead of the greeting
	StallLogin  bool   // greet, and say nothing to a login
	StallQuery  bool   // log in, and say nothing to a statement
	HangupQuery bool   // log in, and hang up at a statement
	AskNothing  bool   // let everyone in without a password
	Pooled      bool   // give another number of the session than the session says, as a pooler does
	Rounds      int    // postgres and oracle: how many rounds a login has, 4096 when 0
	Unproven    string // postgres and oracle: let in with "no proof" of knowing the account, or with a "wrong proof"
	// oracle: hand each connection on to this address; "here" for its own. mongodb: say that the
	// set's primary is there
	Redirect string
	Members  []string // mongodb: the set names these servers too, HOST:PORT
	TooOld   bool     // mongodb: speak a version of the protocol that nobody speaks any more
	Resend   int      // oracle: how often the connect packet is wanted again
	Script   []byte   // oracle: answer a connect packet with these bytes
	Expires  string   // oracle: say this of the password's end when someone is let in
	// OwnEncryption has oracle insist on the encryption of its own protocol.
	OwnEncryption bool
	// After says what becomes of the second statement: "silence", "endless" rows, or one "giant" row.
	After string
}

// Server is a practice server that listens.
type Server struct {
	config   Config
	listener net.Listener
	data     *data
	group    sync.WaitGroup

	mu     sync.Mutex
	conns  map[net.Conn]bool
	more   map[string]string // accounts that were made since
	shown  []string          // passwords that clients showed
	opened []string          // the databases of the logins that were tried
	cached map[string]bool
	about  map[string]string // what the last client said of itself
	last   uint32            // session numbers
	lists  int               // lists of documents that were given in part, and are open
	closed bool
}

// Start makes a server and has it listen. Close ends it.
func Start(config Config) (*Server, error) {
	wanted := config.Address != ""
	if !wanted {
		config.Address = "127.0.0.1:0"
	}
	if config.Databases == nil {
		config.Databases = []string{"bunkhouse"}
	}
	if config.Login == "" && (config.Engine == "mysql" || config.Engine == "mariadb") {
		config.Login = "caching_sha2_password"
	}
	host, _, err := net.SplitHostPort(config.Address)
	if err != nil {
		return nil, err
	}
	if ip := net.ParseIP(host); ip == nil || !ip.IsLoopback() {
		return nil, fmt.Errorf("a practice server listens on a loopback address, and %q is none", host)
	}
	s := &Server{config: config, conns: map[net.Conn]bool{}, more: map[string]string{},
		cached: map[string]bool{}, last: 100}
	if s.data, err = openData(s); err != nil {
		return nil, err
	}
	if config.Unlisted {
		return s, nil
	}
	if !wanted {
		for _, port := range config.Ports {
			if s.listener, err = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
				break
			}
		}
	}
	if s.listener == nil {
		if s.listener, err = net.Listen("tcp", config.Address); err != nil {
			s.data.close()
			return nil, err
		}
	}
	s.group.Add(1)
	go s.accept()
	return s, nil
}

// Dial gives a connection inside this process.
func (s *Server) Dial() (net.Conn, error) {
	ours, theirs := net.Pipe()
	if !s.take(ours) {
		return nil, net.ErrClosed
	}
	return theirs, nil
}

// Let gives the server a further account, such as a temporary one.
func (s *Server) Let(user, password string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, known := s.more[user]; !known && s.family() == "postgres" {
		_, _ = s.data.db.Exec("insert into pg_roles values (?, ?)", user, false)
	}
	s.more[user] = password
}

// account gives the password of an account, and whether there is one.
func (s *Server) account(user string) (password string, known bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if password, known = s.more[user]; known {
		return password, true
	}
	password, known = s.config.Accounts[user]
	return password, known
}

// Port gives the port that the server listens on.
func (s *Server) Port() int { return s.listener.Addr().(*net.TCPAddr).Port }

// Address gives host:port.
func (s *Server) Address() string { return s.listener.Addr().String() }

// Connections gives how many clients are connected.
func (s *Server) Connections() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.conns)
}

// Lists gives how many lists of documents are open, with which clients may go on.
func (s *Server) Lists() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.lists
}

// list counts a list that is opened, or closed.
func (s *Server) list(by int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lists += by
}

// Shown lists the passwords that clients let the server see.
func (s *Server) Shown() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.shown)
}

// Opened lists the databases that clients asked for, one for each login that was tried; "" for
// none.
func (s *Server) Opened() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.opened)
}

func (s *Server) open(database string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.opened = append(s.opened, database)
}

func (s *Server) show(password string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shown = append(s.shown, password)
}

// Close ends the server and every connection to it, and waits for them.
func (s *Server) Close() {
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		return
	}
	s.closed = true
	if s.listener != nil {
		_ = s.listener.Close()
	}
	for conn := range s.conns {
		_ = conn.Close()
	}
	s.mu.Unlock()
	s.group.Wait()
	s.data.close()
}

func (s *Server) accept() {
	defer s.group.Done()
	for {
		conn, err := s.listener.Accept()
		if err != nil {
			return
		}
		if !s.take(conn) {
			return
		}
	}
}

// take serves a connection, unless the server has ended.
func (s *Server) take(conn net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		_ = conn.Close()
		return false
	}
	s.conns[conn] = true
	s.last++
	number := s.last
	s.group.Add(1)
	go func() {
		defer s.group.Done()
		defer s.forget(conn)
		s.serve(conn, number)
	}()
	return true
}

func (s *Server) forget(conn net.Conn) {
	_ = conn.Close()
	s.mu.Lock()
	delete(s.conns, conn)
	s.mu.Unlock()
}

func (s *Server) serve(conn net.Conn, number uint32) {
	_ = conn.SetDeadline(time.Now().Add(10 * time.Minute))
	defer s.data.leave(number)
	switch {
	case s.config.Faults.Hangup:
		return
	case s.config.Faults.Stall:
		wait(conn)
		return
	case s.config.Faults.Greeting != nil:
		_, _ = conn.Write(s.config.Faults.Greeting)
		wait(conn)
		return
	}
	if s.config.Engine == "postgres" {
		(&postgresConn{server: s, conn: conn, number: number}).serve()
		return
	}
	if s.config.Engine == "mongodb" {
		(&mongodbConn{server: s, conn: conn, number: number}).serve()
		return
	}
	if s.config.Engine == "oracle" {
		(&oracleConn{server: s, conn: conn, number: number}).serve()
		return
	}
	(&mysqlConn{server: s, conn: conn, number: number}).serve()
}

// wait keeps a connection open until the other side or Close ends it.
func wait(conn net.Conn) {
	rest := make([]byte, 512)
	for {
		if _, err := conn.Read(rest); err != nil {
			return
		}
	}
}

// flood writes the same bytes again and again, until the other side or Close ends it.
func flood(conn net.Conn, bytes []byte) {
	for block := slices.Repeat(bytes, 64<<10/len(bytes)); ; {
		if _, err := conn.Write(block); err != nil {
			return
		}
	}
}

// has reports whether the server has a database.
func (s *Server) has(database string) bool {
	return slices.Contains(s.config.Databases, database) || slices.Contains(builtIn[s.family()], database)
}

// builtIn names the databases that every server of a family has.
var builtIn = map[string][]string{"postgres": {"postgres"}, "mysql": {"information_schema"},
	"mongodb": {"admin", "local"}}

func (s *Server) family() string {
	if s.config.Engine == "mariadb" {
		return "mysql"
	}
	return s.config.Engine
}

// words gives the text of a refusal: the given one, or what the faults ask for.
func (s *Server) words(usual, user string) string {
	f := s.config.Faults
	if f.ErrorText != "" {
		usual = f.ErrorText
	}
	if f.Echo {
		password, _ := s.account(user)
		usual += " (you sent " + password + ")"
	}
	return usual
}

var errStalled = errors.New("the practice server stalls")

// statement runs a statement for a session, or stalls as the faults ask for.
func (s *Server) statement(conn net.Conn, as identity, text string, values ...any) (result, error) {
	switch {
	case s.config.Faults.StallQuery:
		wait(conn)
		return result{}, errStalled
	case s.config.Faults.HangupQuery:
		return result{}, errStalled
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	return s.data.run(ctx, as, text, values...)
}
