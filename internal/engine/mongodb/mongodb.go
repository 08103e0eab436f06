// Package mongodb logs in to MongoDB servers and asks them things.
//
// It speaks one kind of message (OP_MSG) by itself, with the official library for the documents
// in them: the official client opens further connections to watch a server, which cannot be
// switched off, and a test is one connection that is watched. Sources: "MongoDB Wire Protocol"
// and "Database Commands", the server's manual; the open specifications of its drivers
// ("Handshake", "Authentication").
package mongodb

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// Engine opens connections to MongoDB. Its zero value is ready.
type Engine struct{}

// product is the engine's name as people write it.
const product = "MongoDB"

// program is all that is said of this machine.
const program = "gharbor"

// leaving is how long a goodbye may take.
const leaving = time.Second

// The options of a profile.
const (
	optionAccounts = "auth" // the database that knows the account
	// optionSet is the set that the server must be a member of.
	optionSet = "set"
	// optionDirect has clients stay at the host that they are given: those of others by their
	// connection string, and this one where a replica names the primary.
	optionDirect = "direct"
)

// session is an open session.
type session struct {
	wire     *wire
	login    engine.Login
	method   string
	saw      string
	greeting greeting
	seen     []string      // the databases that this user can see
	accounts string        // the database that knows the account
	patience time.Duration // how long an answer is waited for after Ctrl-C, [answered] for 0
}

// greeting is what a server says of itself ("hello", the server's manual).
type greeting struct {
	OK           float64  `bson:"ok"`
	Writable     *bool    `bson:"isWritablePrimary"`
	Master       *bool    `bson:"ismaster"`
	Secondary    bool     `bson:"secondary"`
	ReadOnly     bool     `bson:"readOnly"`
	Arbiter      bool     `bson:"arbiterOnly"`
	Message      string   `bson:"msg"`
	Set          string   `bson:"setName"`
	Me           string   `bson:"me"`
	Primary      string   `bson:"primary"`
	Hosts        []string `bson:"hosts"`
	Oldest       int32    `bson:"minWireVersion"`
	Newest       int32    `bson:"maxWireVersion"`
	Mechanisms   []string `bson:"saslSupportedMechs"`
	ConnectionID int64    `bson:"connectionId"`
}

// writes reports whether the server takes changes.
func (g greeting) writes() bool {
	return g.Writable != nil && *g.Writable || g.Writable == nil && g.Master != nil && *g.Master
}

// router reports whether it leads to the servers of a cluster.
func (g greeting) router() bool { return g.Message == "isdbgrid" }

// words says who has greeted.
func (g greeting) words() string {
	switch {
	case g.router():
		return "a MongoDB router in front of a cluster"
	case g.Set == "":
		return "a MongoDB server by itself"
	case g.Arbiter:
		return "an arbiter of the set " + outside.Text(g.Set) + ", which holds no data"
	case g.writes():
		return "a MongoDB server, primary of the set " + outside.Text(g.Set)
	case g.Secondary:
		return "a MongoDB server, replica in the set " + outside.Text(g.Set)
	}
	return "a MongoDB server of the set " + outside.Text(g.Set) + ", neither primary nor replica now"
}

// oldestMessages is the first version of the protocol whose servers take this kind of message.
const oldestMessages = 6

// Open implements engine.Engine.
func (e Engine) Open(ctx context.Context, end engine.Endpoint, login engine.Login,
	watch engine.Watch) (_ engine.Session, err error) {
	line, err := end.Connect(ctx, end.At)
	if err != nil {
		return nil, err
	}
	s := &session{wire: &wire{conn: line.Conn}, login: login}
	defer func() {
		if cause := recover(); cause != nil {
			err = engine.Malformed(cause)
		}
		if err != nil {
			_ = line.Conn.Close()
		}
	}()
	if line.TLS != nil {
		encrypted, saw, err := engine.Encrypt(ctx, line.Conn, line.TLS)
		if err != nil {
			return nil, err
		}
		s.wire.conn, s.saw = encrypted, saw
		watch("tls", saw)
	}
	if err := s.greet(ctx); err != nil {
		return nil, err
	}
	if want, got := login.Options[optionSet], s.greeting.Set; want != "" && want != got {
		what := "a server of no set"
		if got != "" {
			what = "a server of the set " + outside.Text(got)
		}
		return nil, &finding.Problem{Code: finding.GreetingAnotherSet,
			Facts: finding.Facts{finding.FactWanted: want, finding.FactWhat: what}}
	}
	s.wire.met = true
	watch("greeting", s.greeting.words())
	if err := s.logIn(ctx, line); err != nil {
		return nil, err
	}
	how := "nobody logged in: no password was given"
	if s.method != engine.Unasked {
		how = "as " + login.User + ": " + s.method
	}
	watch("login", how)
	state, err := s.settle(ctx)
	if err != nil {
		return nil, err
	}
	watch("database", state)
	return s, nil
}

// greet says hello. Where no option says which database knows the account, the server is asked
// whether it is the one to open, and then whether it is admin: it shows that by the methods of
// the account.
func (s *session) greet(ctx context.Context) error {
	s.accounts = cmp.Or(s.login.Options[optionAccounts], s.login.Database, usualAccounts)
	me := bson.D{{Key: "application", Value: bson.D{{Key: "name", Value: program}}},
		{Key: "driver", Value: bson.D{{Key: "name", Value: program}, {Key: "version", Value: "1"}}},
		{Key: "os", Value: bson.D{{Key: "type", Value: "unknown"}}}}
	if err := s.hello(ctx, bson.E{Key: "helloOk", Value: true}, bson.E{Key: "client", Value: me}); err != nil {
		return err
	}
	if s.login.User == "" || s.greeting.Mechanisms != nil || s.login.Options[optionAccounts] != "" ||
		s.accounts == usualAccounts {
		return nil
	}
	first := s.accounts
	s.accounts = usualAccounts
	if err := s.hello(ctx); err != nil {
		return err
	}
	if s.greeting.Mechanisms == nil {
		s.accounts = first
	}
	return nil
}

// usualAccounts is the database that knows most accounts.
const usualAccounts = "admin"

// hello asks for the greeting, in the form that servers before 4.4 know where the server does not
// know the other.
func (s *session) hello(ctx context.Context, more ...bson.E) error {
	for _, name := range []string{"hello", "isMaster"} {
		command := append(bson.D{{Key: name, Value: 1}, {Key: "$db", Value: usualAccounts}}, more...)
		if s.login.User != "" {
			command = append(command, bson.E{Key: "saslSupportedMechs", Value: s.accounts + "." + s.login.User})
		}
		s.greeting = greeting{}
		err := s.call(ctx, "greeting", command, &s.greeting)
		var p *finding.Problem
		if errors.As(err, &p) && p.Number.Bare() == numbered(commandNotFound) && name == "hello" {
			continue
		}
		if err != nil {
			return err
		}
		if s.greeting.Writable == nil && s.greeting.Master == nil {
			return engine.Malformed("a greeting that does not say whether the server takes changes")
		}
		if s.greeting.Newest < s.greeting.Oldest {
			return engine.Malformed("a greeting with a newest version that is older than the oldest")
		}
		if s.greeting.Newest < oldestMessages {
			return &finding.Problem{Code: finding.GreetingTooOld,
				Facts: finding.Facts{finding.FactWhat: fmt.Sprintf("its protocol has the version %d, and 3.6, "+
					"with the version %d, is the oldest that is spoken",
					s.greeting.Newest, oldestMessages)}}
		}
		return nil
	}
	return nil
}

// call sends a command, and reads the answer into into, which may be nil. The error is a
// *finding.Problem.
func (s *session) call(ctx context.Context, leg string, command bson.D, into any) error {
	answer, err := s.wire.ask(ctx, command)
	if err != nil {
		var known *finding.Problem
		switch {
		case errors.As(err, &known):
			return known
		case errors.Is(err, errLarge):
			return engine.TooMuch(leg)
		}
		return engine.Broken(ctx, leg, err)
	}
	if err := refusal(answer, leg); err != nil {
		return err
	}
	if into == nil {
		return nil
	}
	if err := bson.Unmarshal(answer, into); err != nil {
		return engine.Malformed(err)
	}
	return nil
}

// settle looks for the database. One that is not there is no error of the server's, which makes
// it at the first write.
func (s *session) settle(ctx context.Context) (string, error) {
	name := s.login.Database
	found, err := s.databases(ctx, "database", false)
	var p *finding.Problem
	switch {
	case errors.As(err, &p) && p.Number.Bare() == numbered(unauthorized):
		if s.method == engine.Unasked {
			return "", &finding.Problem{Code: finding.LoginPasswordWanted, Number: p.Number, Words: p.Words}
		}
		if name == "" {
			return "no database was named", nil
		}
		return name + " is open; whether it is there cannot be seen", nil
	case err != nil:
		return "", err
	}
	for _, d := range found {
		s.seen = append(s.seen, d.Name)
	}
	switch {
	case name == "":
		return "no database was named", nil
	case slices.Contains(s.seen, name):
		return name + " is open", nil
	}
	return name + " is not there yet: the server makes it at the first write" + s.others(), nil
}

// others lists a few of the databases that are there.
func (s *session) others() string {
	var names []string
	for _, name := range s.seen {
		if !slices.Contains(ownDatabases, name) {
			names = append(names, outside.Text(name))
		}
	}
	if len(names) == 0 {
		return ""
	}
	more := ""
	if len(names) > 5 {
		names, more = names[:5], " …"
	}
	return "; there are " + strings.Join(names, ", ") + more
}

// ownDatabases are those that every server has.
var ownDatabases = []string{"admin", "config", "local"}

type database struct {
	Name string  `bson:"name"`
	Size float64 `bson:"sizeOnDisk"`
}

// databases gives those that this user sees; their sizes cost the server more.
func (s *session) databases(ctx context.Context, leg string, sizes bool) ([]database, error) {
	var list struct {
		Databases []database `bson:"databases"`
	}
	err := s.call(ctx, leg, s.reading(bson.D{{Key: "listDatabases", Value: 1}, {Key: "nameOnly", Value: !sizes},
		{Key: "authorizedDatabases", Value: true}, {Key: "$db", Value: usualAccounts}}), &list)
	if len(list.Databases) > engine.MaxRows {
		return nil, engine.TooMuch(leg)
	}
	return list.Databases, err
}

// reading has a command answered by a replica as well ("Server Selection", the open
// specifications: a connection to one member alone).
func (s *session) reading(command bson.D) bson.D {
	if s.greeting.Set == "" || s.greeting.router() {
		return command
	}
	return append(command, bson.E{Key: "$readPreference", Value: bson.D{{Key: "mode", Value: "primaryPreferred"}}})
}

// Ask implements engine.Session.
func (s *session) Ask(ctx context.Context) error {
	return s.call(ctx, "query", bson.D{{Key: "ping", Value: 1}, {Key: "$db", Value: "admin"}}, nil)
}

// Facts implements engine.Session. What this user may not see is left empty.
func (s *session) Facts(ctx context.Context) (engine.Facts, error) {
	g := s.greeting
	facts := engine.Facts{Product: product, User: s.login.User, Login: s.method, Encryption: s.saw,
		Database: s.login.Database}
	if encrypted, ok := s.wire.conn.(*tls.Conn); ok {
		facts.Certificate = engine.Describe(encrypted.ConnectionState())
	}
	if g.ConnectionID > 0 {
		facts.SessionID = strconv.FormatInt(g.ConnectionID, 10)
	}
	var build struct {
		Version string `bson:"version"`
	}
	if err := s.seeing(ctx, bson.D{{Key: "buildInfo", Value: 1}}, &build); err != nil {
		return facts, err
	}
	facts.Version = build.Version
	status, err := s.status(ctx)
	if err != nil {
		return facts, err
	}
	if len(status.Auth.Users) > 0 {
		facts.Account = status.Auth.Users[0].User + "@" + status.Auth.Users[0].DB
		is := false
		for _, role := range status.Auth.Roles {
			is = is || role.DB == "admin" && (role.Role == "root" || role.Role == "__system")
		}
		facts.Superuser = &is
	}
	var mine struct {
		You string `bson:"you"`
	}
	if err := s.seeing(ctx, bson.D{{Key: "whatsmyip", Value: 1}}, &mine); err != nil {
		return facts, err
	}
	facts.Client = mine.You[:max(strings.LastIndexByte(mine.You, ':'), 0)]
	s.standing(&facts)
	return facts, nil
}

type account struct {
	User string `bson:"user"`
	DB   string `bson:"db"`
}

// status says who is logged in, and in which roles.
type status struct {
	Auth struct {
		Users []account `bson:"authenticatedUsers"`
		Roles []struct {
			Role string `bson:"role"`
			DB   string `bson:"db"`
		} `bson:"authenticatedUserRoles"`
	} `bson:"authInfo"`
}

func (s *session) status(ctx context.Context) (is status, err error) {
	err = s.seeing(ctx, bson.D{{Key: "connectionStatus", Value: 1}}, &is)
	return is, err
}

// standing says which server of which set this is.
func (s *session) standing(facts *engine.Facts) {
	g := s.greeting
	follows, readOnly := !g.writes(), !g.writes() || g.ReadOnly
	facts.Follows, facts.ReadOnly = &follows, &readOnly
	switch {
	case g.router():
		facts.Among = "router"
		return
	case g.Set == "": // nothing that it says stays the same when it starts anew
		return
	case g.writes():
		facts.Among = "primary"
	case g.Secondary:
		facts.Among = "replica"
	case g.Arbiter:
		facts.Among = "arbiter"
	}
	facts.Among, facts.Names = strings.TrimSpace(facts.Among+" of the set "+g.Set), g.Hosts
	facts.Identity = strings.TrimSpace(g.Set + " " + g.Me)
	if host, port := g.primary(); host != "" && !g.writes() {
		facts.Primary = net.JoinHostPort(host, port)
	}
}

// seeing asks what a user may not be allowed to see, which is no error.
func (s *session) seeing(ctx context.Context, command bson.D, into any) error {
	err := s.call(ctx, "query", append(command, bson.E{Key: "$db", Value: "admin"}), into)
	if engine.Refused(err) {
		return nil
	}
	return err
}

// Databases implements engine.Lister.
func (s *session) Databases(ctx context.Context) ([]engine.Database, error) {
	found, err := s.databases(ctx, "query", false)
	if err != nil {
		return nil, err
	}
	var all []engine.Database
	for _, d := range found {
		all = append(all, engine.Database{Name: d.Name, Open: d.Name == s.login.Database})
	}
	return all, nil
}

// Visible implements engine.Lister: tables are collections here.
func (s *session) Visible(ctx context.Context, tables []string) (map[string]bool, error) {
	seen := map[string]bool{}
	for _, name := range tables {
		seen[name] = false
	}
	err := s.collections(ctx, s.login.Database,
		bson.D{{Key: "name", Value: bson.D{{Key: "$in", Value: tables}}}}, func(c collection) error {
			if _, wanted := seen[c.Name]; wanted {
				seen[c.Name] = true
			}
			return nil
		})
	return seen, err
}

// Close implements engine.Session. The protocol has no goodbye.
func (s *session) Close() {
	_ = s.wire.conn.SetDeadline(time.Now().Add(leaving))
	_ = s.wire.conn.Close()
}
