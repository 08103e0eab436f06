// Package engine says what Gentle Harbor needs of each kind of database server, and what the
// kinds are.
//
// An [Engine] is handed a connection that others dialled and logs in over it. It never dials,
// resolves or reads a setting by itself, and it reports each leg as it passes, so that a test of
// a profile is one connection that was watched and not several that were tried. The kinds are in
// the folders below: postgres and mysql.
package engine

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
)

// Info is what is known of a kind of server before one is met.
type Info struct {
	Name     string // as profiles write it
	Family   string // the same for kinds that speak one protocol
	Title    string // as people write it
	Port     int    // the registered port
	Database string // what to open when a profile names none, "" for none
	// Serves says that a listener answers for several databases, and that a login asks it for
	// one: for a service by name, or for an instance.
	Serves bool
	// EncryptsFirst says that encryption comes before the greeting.
	EncryptsFirst bool
	// Modes are the privileged modes of a login, where a profile's role is one of them; nil where
	// roles are taken on in the session.
	Modes []string
	// Language is what its statements are written in; its zero value is of an engine without
	// statements.
	Language Language
	// Can lists what its sessions can do beside what all can.
	Can []Ability
	// Options lists the session settings that a profile may set.
	Options []string
	// Instead names the profile's setting for what its connection strings carry beside
	// Parameters, in small letters.
	Instead map[string]string
	// Methods lists the login methods that are accepted, by their usual names.
	Methods []string
	// Accounts are the system accounts as which the server usually runs: what is behind a socket
	// of theirs is trusted to be the server.
	Accounts []string
	// Schemes are those of connection strings (RFC 3986), the usual one first; Words are what
	// others call the engine, and Prefixes how variables of it begin.
	Schemes, Words, Prefixes []string
	// AccountsIn is the option that names the database which knows the account; "" where there is
	// one place for accounts.
	AccountsIn string
	// Nobody says that many of its servers know no accounts: a profile that sends no password
	// needs no user then.
	Nobody bool
	// Records is how names begin whose SRV records (RFC 2782) say where its servers are: a scheme
	// that ends in +srv asks for them. "" where it has none.
	Records string
	// TXT are the options that the TXT record of such a name may say (RFC 1035), by their names here.
	TXT []string
	// Switches are the options that are true or false.
	Switches []string
	// Bare says that its clients also write connections as //host:port/service, and as
	// descriptions in brackets (see [Namer]).
	Bare bool
	// Pairs says that its clients also write connections as name=value pairs, and Milliseconds
	// that some of its connection strings count a time to connect so.
	Pairs, Milliseconds bool
	// Parameters names a connection string's parameters and values for "mode", "ca", "cert",
	// "key", "off", "encrypt" and "verify", as the engine's own documentation has them; and for
	// "address" the one that says where to connect while the host is the name to verify, where
	// clients have such a one; "timeout" for the time to connect, in seconds or as Milliseconds
	// says, "option" for the one setting of the session that is a parameter of its own, and
	// "options" for the rest of them; "alone" for the one that keeps a client at the host it is
	// given; "unchecked" for the one that is false where the mode says encryption and the
	// certificate is not checked, or as NAME=VALUE another one that says so; "option NAME" for an
	// option whose parameter has another name, and "instance" for the name of an instance.
	Parameters map[string]string
	// Binding is the type of a service binding (servicebinding.io); several kinds of one type are
	// told apart by their names as provider.
	Binding string
	// SocketFile is the file in a folder of sockets that is used when a profile names the folder,
	// up to the port that its name ends in; "" when a profile names the socket itself.
	SocketFile string
	// Sockets are patterns of where the server's sockets usually are.
	Sockets []string
	// Listens are the server's settings of where it listens, for people.
	Listens string
	// Opening is what is said to a server that greets only when it is spoken to, nil where it
	// greets by itself.
	Opening []byte
	// Processes are the names of the server's programs.
	Processes []string
	// Started lists how the server is installed and started, the likeliest first.
	Started []Started
	// Image says how the well-known container images of the server are set up.
	Image Image
}

// Image says how the well-known container images of a server are set up: by variables that count
// while the data folder is empty. A variable is also read with _FILE behind its name, where it
// names a file inside the container with the value.
type Image struct {
	// Repositories are the last parts of the images' names.
	Repositories []string
	// Accounts are those that variables make, the one to use first.
	Accounts []ImageAccount
	// Databases are the variables that name the database; where none is set, it has the user's
	// name if UserNames says so, or the usual name.
	Databases []string
	UserNames bool
	Usual     string
	// Hosts are variables of servers whose names end in HOST: they say from where one may come,
	// or which server this one follows.
	Hosts []string
	// Trusting are variables with a value, NAME=VALUE, by which the server asks for no password.
	Trusting []string
	// Folders are where the data is, inside the container, and FolderVariable names another;
	// Firsts are files there that the server writes once, at its first start.
	Folders        []string
	FolderVariable string
	Firsts         []string
	// Setting are words in the command line of a process that shows that the server is setting
	// itself up.
	Setting []string
}

// ImageAccount is an account that an image's variables make.
type ImageAccount struct {
	// Users are the variables that name the user, Usual is the user where none is set; "" for no
	// account then.
	Users []string
	Usual string
	// Passwords are the variables that hold the password. Empty and Random are those by which it
	// has none, or one that the server made up and wrote to its log.
	Passwords, Empty, Random []string
	// Password is the statement that sets the account's password, with {user} as a quoted name.
	Password string
}

// Refuser is an engine that can answer a client in its own form of error, instead of a server
// that cannot be reached. The text is clean. The connection has a deadline, and is closed
// afterwards.
type Refuser interface {
	Refuse(conn net.Conn, text string)
}

// Started is one way in which a server is installed and started.
type Started struct {
	Needs string // a file or folder that shows that this is in use; "" for always
	Found string // a pattern of what shows the server
	Proof string // {name} is the found file's name without its ending, {path} the whole
	Start string // the command that starts it
}

// Subject is what advice is about.
type Subject struct {
	User, Database string
	// Account is the account as the server names it, with the host that it is for where that is a
	// part of it; "" when the server did not show it.
	Account string
}

// Advice is what an administrator of the server would do about a failure.
type Advice struct {
	Quote         string // what names are quoted with
	FirstDatabase string // one that every server has
	// Hidden says, as the end of a sentence, what else the failure can mean where the server
	// hides which; "" where it does not.
	Hidden string
	// Statements: one shows the account, one who is connected, one who holds what a statement
	// needs; one makes the database, and one gives the user the right to use it.
	Account, Connections, Holders, Create, Grant string
	// Rules shows the access rules, or the accounts of the user, in the server's order.
	Rules string
	// Session gives the user the right to open a session; "" where every account has it.
	Session string
	// Unlock unlocks the account, Limit takes a limit off it, and Password gives it a password;
	// "" where the server did not show which account it is. BaseLimit takes a limit off the
	// database.
	Unlock, Limit, Password, BaseLimit string
}

// NothingAsked stands among login methods for a server that asks for nothing: it trusts the
// address, knows the system's user at the other end of a socket, or took a client certificate.
const NothingAsked = "nothing-asked"

// Unasked is what [Facts.Login] says of a server that let us in and did not ask for the password.
const Unasked = "no password asked for"

// Method gives the login method of a name as a profile writes it, in capital letters or not; ""
// when this kind of server has none of that name.
func (i Info) Method(name string) string {
	for _, method := range i.Methods {
		if strings.EqualFold(method, name) {
			return method
		}
	}
	return ""
}

// Able reports whether the sessions of an engine can do something.
func (i Info) Able(a Ability) bool { return slices.Contains(i.Can, a) }

// settings names the profile's setting for the words of the trade, and for the parts of a
// connection string by the keys of [Info.Parameters].
var settings = map[string]string{
	"host": "host", "port": "port", "user": "user", "username": "user", "database": "database",
	"password": "secret", "passwd": "secret", "role": "role",
	"tls": "tls mode", "ssl": "tls mode", "timeout": "timeout", "socket": "socket", "mode": "tls mode",
	"ca": "tls ca", "cert": "tls cert", "key": "tls key", "address": "host",
}

// settingFor gives the setting that does what a parameter of the engine's connection strings
// does, "" for none.
func (i Info) settingFor(name string) string {
	for part, of := range i.Parameters {
		if strings.ToLower(of) == name && settings[part] != "" {
			return settings[part]
		}
	}
	return cmp.Or(i.Instead[name], settings[name])
}

// Stays gives the option that has clients stay at the host of their connection string; "" for none.
func (i Info) Stays() string {
	for part, of := range i.Parameters {
		if option, is := strings.CutPrefix(part, "option "); is && of == i.Parameters["alone"] {
			return option
		}
	}
	return ""
}

// CheckOption says why a profile may not set a session setting to a value, nil when it may.
func (i Info) CheckOption(name, value string) error {
	if slices.Contains(i.Switches, name) && value != "true" && value != "false" {
		return errors.New("it is true or false")
	}
	if slices.Contains(i.Options, name) {
		return nil
	}
	if setting := i.settingFor(strings.ToLower(name)); setting != "" {
		return fmt.Errorf("use the setting %s for it", setting)
	}
	return fmt.Errorf("it is not on the list for %s: %s", i.Title, strings.Join(i.Options, ", "))
}

// Pooling is what a profile says of a pooler in front of its server: a program that lends a few
// sessions of the server's to many clients.
type Pooling string

// The kinds of pooling.
const (
	PoolingUnknown Pooling = ""            // it is found out
	NotPooled      Pooling = "no"          // the server itself answers
	BySession      Pooling = "session"     // each client has a session of its own until it leaves
	ByTransaction  Pooling = "transaction" // each transaction, or each statement, may meet another session
)

// Login is the user as which a session is opened, and how.
type Login struct {
	User     string
	Database string // "" for none; the service, where the engine serves several
	Instance string // what is asked for instead of a service, "" for none
	Role     string // "" for none
	// Methods are the only login methods to accept, by the names of [Info.Methods]; empty for all
	// of those.
	Methods []string
	// Leg is the longest that one leg may take. Work that a server asks for and that would take
	// longer is refused. 0 stands for five seconds.
	Leg     time.Duration
	Options map[string]string
	// Pooled is what the profile says of a pooler in front of the server.
	Pooled Pooling
	// Files says that statements of the session name files of this machine, which the server may
	// ask for.
	Files bool
}

// Accepts reports whether a login method may be used at all.
func (l Login) Accepts(method string) bool {
	return len(l.Methods) == 0 || slices.Contains(l.Methods, method)
}

// Endpoint is where a server is, and how a connection to it is made. An engine whose servers lead
// elsewhere connects again, to another address; what may be shown there is decided anew.
type Endpoint struct {
	At      route.Address
	Connect func(ctx context.Context, at route.Address) (Line, error)
}

// Line is a connection to a server, and what may be sent over it.
type Line struct {
	net.Conn
	// TLS is how it is to be encrypted; nil for not at all.
	TLS *tls.Config
	// MayShow permits login methods that show the password to the server.
	MayShow bool
	// Unverified says that whoever answers could be another than the server, and can try to guess
	// a password from what it is sent.
	Unverified bool
	// Given says that there is a secret, be it an empty one.
	Given bool
	// Secret gives the secret for use by a login method. It may be nil when Given is false.
	Secret func(method string) secret.Secret
}

// Release gives the password for use by a login method.
func (l Line) Release(method string) string {
	if l.Secret == nil {
		return ""
	}
	return l.Secret(method).Reveal()
}

// Watch is told of each leg that passed and of what was seen in passing. It is called on one
// goroutine.
type Watch func(leg, saw string)

// Engine is one kind of database server.
type Engine interface {
	// Info says what is known of the kind.
	Info() Info
	// Identify names the server whose first bytes are given, and reports whether it is of this kind.
	Identify(first []byte) (Answer, bool)
	// Advice gives what an administrator of such a server would do. It sees no password.
	Advice(about Subject) Advice
	// Open connects, greets, encrypts, logs in and opens the database. It reports to watch the
	// legs "greeting", "tls", "login" and "database". Its error is always a *finding.Problem.
	Open(ctx context.Context, end Endpoint, login Login, watch Watch) (Session, error)
}

// Session is an open connection to a database. It is not safe for use by several goroutines. Its
// errors are *finding.Problem. What some engines can do and others cannot is in the small
// interfaces below: [As] finds them.
type Session interface {
	// Ask makes one round trip with the smallest statement there is.
	Ask(ctx context.Context) error
	// Facts asks the server who we are there and what it is.
	Facts(ctx context.Context) (Facts, error)
	// Close says goodbye and closes the connection, in at most a second.
	Close()
}

// Runner is a session that takes statements.
type Runner interface {
	// Do executes a statement and drops its rows, of which only a bounded amount may come.
	Do(ctx context.Context, statement Statement) error
	// Run executes a statement and hands the rows of each of its results to out, however many come.
	Run(ctx context.Context, statement Statement, out Rows) (Summary, error)
	// Together has do run statements in one transaction, which is kept when do ends without an
	// error, and undone else. One that only reads is refused what changes a table.
	Together(ctx context.Context, onlyReads bool, do func() error) error
}

// Statement is what a person has run.
type Statement struct {
	// Text is written in the engine's [Language]. Values go to its places, see [Language.Place].
	Text   string
	Values []Value
	// Heard is told of what the server says beside the result, of at most [MostNotices]; it may
	// be nil.
	Heard func(Notice)
	// In is what a statement reads that takes data from its client (PostgreSQL's COPY), to its
	// end, while the server takes more; where it is nil such a statement is refused.
	In io.Reader
	// Local is the file of this machine that the statement names; where it is nil, or has another
	// name than the server asks for, none is sent.
	Local *LocalFile
	// Largest is how many bytes one message of the server's may have, such as a row;
	// [UsualLargest] for 0.
	Largest int
	// Exact asks for documents in the form that says the type of each value, where the engine has
	// two forms.
	Exact bool
}

// LocalFile is a file that a statement names.
type LocalFile struct {
	Name string // as the statement has it
	From io.Reader
}

// UsualLargest and MostLargest bound one message of a server's in answer to a person's statement:
// rows are handed on one by one, and each is in memory as a whole.
const (
	UsualLargest = 64 << 20
	MostLargest  = 1 << 30 // no value can be longer in any engine that is known
)

// Most gives how many bytes one message may have.
func (s Statement) Most() int {
	if s.Largest <= 0 {
		return UsualLargest
	}
	return min(s.Largest, MostLargest)
}

// Written is a session that knows how texts are written in it.
type Written interface {
	// Written says it; settings of the session may change it.
	Written(ctx context.Context) (Lexical, error)
}

// Witness is a session that can say more of why its server has refused a statement.
type Witness interface {
	// Witness looks around after a refusal, and gives what it saw, in lines; it may set facts and
	// names of the problem.
	Witness(ctx context.Context, p *finding.Problem) []string
}

// Lister is a session that shows what the server has, as far as this user can see it.
type Lister interface {
	// Databases lists the databases.
	Databases(ctx context.Context) ([]Database, error)
	// Visible says which of some tables can be seen, with or without a schema before the name.
	Visible(ctx context.Context, tables []string) (map[string]bool, error)
}

// Rights is a session whose server knows what a user may do.
type Rights interface {
	// May says whether this user has a right on a table, as the server's own catalogue says; nil
	// when it cannot be seen.
	May(ctx context.Context, right, table string) (*bool, error)
}

// Catalogue is a session that knows which functions are the engine's own, and which ones people
// have made.
type Catalogue interface {
	// Foreign gives those of some names that people's functions have, in any schema.
	Foreign(ctx context.Context, names []string) ([]string, error)
}

// Wrapper is a session around another one. It has every optional interface; what it can do is
// what the inner one can.
type Wrapper interface{ Inner() Session }

// As gives a session as one that can do more, when it can. A wrapper never hides what the session
// in it can do.
func As[T any](s Session) (able T, ok bool) {
	inner := s
	for {
		w, wraps := inner.(Wrapper)
		if !wraps {
			break
		}
		inner = w.Inner()
	}
	if _, can := inner.(T); !can {
		return able, false
	}
	able, ok = s.(T)
	return able, ok
}

// Cannot is the problem of a session that cannot do what is asked of it.
func Cannot(what string) error {
	return &finding.Problem{Code: finding.QueryNotHere, Facts: finding.Facts{finding.FactWhat: what}}
}

// Facts is what a server says of itself and of us. An empty text or nil means that it would not
// say.
type Facts struct {
	Product  string // "PostgreSQL", "MariaDB", "MySQL"
	Version  string // such as "15.18"
	Speaks   string // the product and version whose protocol it speaks, where it is another product; "" for its own
	Identity string // the server's own: a system identifier or a server id
	User     string // the user that we claimed to be
	Account  string // the account that the server matched us with
	Client   string // the address that the server sees us come from
	Database string
	// Service and Instance are what was asked for and what answered, and Schema is where names
	// without one are looked for; "" where the engine has none.
	Service, Instance, Schema string
	// Among is the server's own word for what it is among others of the same data, such as
	// primary; "" where it is not said.
	Among     string
	Superuser *bool
	ReadOnly  *bool
	// Follows says that the server itself follows another, or takes no changes from anybody: nil
	// where it was not shown.
	Follows     *bool
	Login       string // the login method that the server chose
	SessionID   string
	Pooled      bool     // a pooler is in between: the session is not the one that the login was told of
	Encryption  string   // protocol and cipher, "" for none
	Certificate string   // the name that the server's certificate is for and until when it holds
	Beside      []Notice // what the server said when it let us in, such as that the password is about to expire
	// Primary is the address, HOST:PORT, of the server of the same data that takes changes, as this one
	// says; "" where that is this one, or is not said.
	Primary string
	// Names are the addresses of the servers of the same data, HOST:PORT, as the server names them to
	// clients that follow such names.
	Names []string
}

// Database is one database of a server.
type Database struct {
	Name     string
	Owner    string // "" where the engine has none
	Encoding string
	Open     bool  // the one that this session has open
	MayOpen  *bool // whether this user may connect to it; nil when it cannot be known
}

// ErrGoesOn is part of the error of a statement that was interrupted, where the server could not
// be told to end it.
var ErrGoesOn = errors.New("the statement may go on at the server")

// answered is how long a server may take to say in the session that it has ended a statement.
const answered = 1500 * time.Millisecond

var errUnanswered = errors.New("the session does not say that its statement was ended")

// Interruptible runs a statement, and has it ended at the server when ctx ends first: end is
// called once then, with three seconds. The statement's own context goes on, so that the session
// can be used afterwards, until the server has had its time to say that it ended the statement:
// behind one address there may be several servers, and a request to end one that meets another
// server is passed over without a word. Its error is the statement's, with [ErrGoesOn] where it
// was not ended.
func Interruptible(ctx context.Context, end func(ctx context.Context) error,
	run func(ctx context.Context) error) error {
	work, giveUp := context.WithCancel(context.WithoutCancel(ctx))
	defer giveUp()
	done, told := make(chan struct{}), make(chan error, 1)
	stop := context.AfterFunc(ctx, func() {
		limited, cancel := context.WithTimeout(work, 3*time.Second)
		defer cancel()
		err := end(limited)
		if err == nil {
			select {
			case <-done:
				told <- nil
				return
			case <-time.After(answered):
				err = errUnanswered
			case <-limited.Done():
				err = limited.Err()
			}
		}
		giveUp()
		told <- err
	})
	err := run(work)
	close(done)
	if stop() {
		return err
	}
	if <-told != nil {
		return errors.Join(err, ErrGoesOn)
	}
	return err
}

// Summary is what a statement did.
type Summary struct {
	Rows     int64  // rows handed out
	Affected int64  // rows changed, -1 where the server does not say
	Tag      string // the server's word for it, such as "INSERT 0 1"
	Copied   bool   // the rows went to the client in a format that the statement says, by [Rows].Bytes
	Open     bool   // a transaction is open after it
	Unheard  int64  // notices that were too many to be handed on
}
