// Package mysql logs in to MySQL and MariaDB servers and asks them things, over
// go-sql-driver/mysql.
//
// The driver's pool is not used: one connector makes one connection, over a net.Conn that others
// dialled and that package's wire watches. It connects without a database and then asks for it,
// so that a refused login and a refused database can be told apart.
package mysql

import (
	"cmp"
	"context"
	"crypto/tls"
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/route"
)

// Engine opens connections to MySQL, or to MariaDB. Its zero value is ready.
type Engine struct {
	MariaDB bool // it is known by MariaDB's name; both answer to either
}

// Open implements engine.Engine.
func (e Engine) Open(ctx context.Context, end engine.Endpoint, login engine.Login,
	watch engine.Watch) (s engine.Session, err error) {
	line, err := end.Connect(ctx, end.At)
	if err != nil {
		return nil, err
	}
	w := &wire{ours: true, Conn: line.Conn, ctx: ctx, login: login, line: line, watch: watch}
	defer func() {
		if cause := recover(); cause != nil {
			s, err = nil, engine.Malformed(cause)
		}
		if err != nil {
			_ = w.Conn.Close()
		}
	}()
	config := configure(login, end.At, w)
	// The driver makes its own copy of the configuration for a connection, and shows it here. It
	// reads the password from it when it needs it, so that wire can put it there once it is known
	// what it will be used for. Were that to change, there would be no password to send.
	if err := config.Apply(mysql.BeforeConnect(func(_ context.Context, own *mysql.Config) error {
		w.driver = own
		return nil
	})); err != nil {
		return nil, &finding.Problem{Code: finding.SettingsUnknown, Err: err, Words: outside.Said(err.Error())}
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, &finding.Problem{Code: finding.SettingsUnknown, Err: err, Words: outside.Said(err.Error())}
	}
	opened, err := connector.Connect(ctx)
	if err != nil {
		problem := w.failure(ctx, err)
		if problem.Code == finding.LoginWantsSystemUser && end.At.Network != "unix" {
			problem.Code = finding.LoginNotFromHere // the same number, for any account that is not there
		}
		return nil, problem
	}
	made := &session{conn: opened, wire: w, again: func(ctx context.Context) (engine.Session, error) {
		return e.Open(ctx, end, engine.Login{User: login.User, Methods: login.Methods, Leg: login.Leg},
			func(string, string) {})
	}}
	if err := made.begin(ctx); err != nil {
		return nil, err
	}
	return made, nil
}

func configure(login engine.Login, at route.Address, w *wire) *mysql.Config {
	c := mysql.NewConfig()
	c.User = login.User
	// The driver never dials this; the name of the network says to it whether the password itself
	// may be sent where the server asks for it, which happens on a socket and inside encryption
	// whose end is known.
	c.Net, c.Addr = "tcp", "192.0.2.1:1"
	if w.line.MayShow && (at.Network == "unix" || w.line.TLS != nil) {
		c.Net, c.Addr = "unix", "/nowhere"
	}
	c.DialFunc = func(context.Context, string, string) (net.Conn, error) { return w, nil }
	c.Logger = &mysql.NopLogger{}
	c.AllowCleartextPasswords = w.line.MayShow && w.line.Given
	c.CheckConnLiveness = false
	c.ConnectionAttributes = "program_name:gharbor"
	return c
}

// failure says what the driver's error means, given how far the wire saw it come.
func (w *wire) failure(ctx context.Context, err error) *finding.Problem {
	var known *finding.Problem
	var refusal *mysql.MySQLError
	about := finding.Facts{finding.FactMethod: w.method}
	switch {
	case errors.As(w.stopped, &known):
		return known
	case errors.Is(err, mysql.ErrCleartextPassword):
		return &finding.Problem{Code: finding.LoginPasswordWanted, Err: err, Facts: about}
	case errors.Is(err, mysql.ErrUnknownPlugin), errors.Is(err, mysql.ErrOldPassword),
		errors.Is(err, mysql.ErrNativePassword):
		return &finding.Problem{Code: finding.LoginMethodNotSupported, Err: err, Facts: about}
	case errors.As(err, &refusal):
		if len(w.login.Methods) > 0 && !w.released && w.line.Given {
			about[finding.FactAccepted] = strings.Join(w.login.Methods, ", ")
		}
		about[finding.FactUnless] = ", or it has no such account; it hides which"
		switch {
		case w.line.TLS == nil && w.offers:
			about[finding.FactPlain] = "The connection is not encrypted"
		case w.line.TLS != nil && len(w.line.TLS.Certificates) == 0:
			about[finding.FactNoCard] = "No client certificate was sent"
		}
		return refused(refusal, w.greeted && w.method != "", about)
	}
	leg := "greeting"
	if w.method != "" {
		leg = "login"
	}
	if w.stopped != nil {
		err = w.stopped
	}
	if errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, driver.ErrBadConn) {
		err = io.EOF
	}
	return engine.Broken(ctx, leg, err)
}

// byNumber maps the server's error numbers ("Server Error Message Reference", the same in both
// products for these) to findings.
var byNumber = map[uint16]finding.Code{
	1040: finding.DatabaseTooManyConnections,
	1203: finding.DatabaseUserLimit,
	1226: finding.DatabaseTooManyConnections, // or another limit: see limited
	1275: finding.LoginOldPassword,
	1044: finding.DatabaseNoRight,
	1045: finding.LoginRefused,
	1698: finding.LoginWantsSystemUser,
	1049: finding.DatabaseMissing,
	1053: finding.DatabaseShuttingDown,
	1129: finding.GreetingTooManyFailures,
	1130: finding.GreetingHostRefused,
	1251: finding.LoginMethodNotSupported,
	1524: finding.LoginMethodNotSupported,
	1820: finding.LoginPasswordExpired,
	1862: finding.LoginPasswordExpired,
	3118: finding.LoginLocked,
	4151: finding.LoginLocked,
	4166: finding.QueryAsksForFile, // MariaDB, and 3948 MySQL: this program never offers one
	3948: finding.QueryAsksForFile,
	3159: finding.TLSRequired,
	1064: finding.QuerySyntax,
	1149: finding.QuerySyntax,
	1008: finding.QueryNoSuchBase,
	1213: finding.QueryDeadlock,
	1020: finding.QueryConflict,
	1021: finding.QueryDiskFull,
	1114: finding.QueryDiskFull,
	1264: finding.QueryOutOfRange,
	1406: finding.QueryOutOfRange,
	1690: finding.QueryOutOfRange,
	1366: finding.QueryWrongType,
	1292: finding.QueryWrongType,
	1265: finding.QueryWrongType,
	1411: finding.QueryWrongType,
	3140: finding.QueryWrongType,
	1048: finding.QueryConstraint,
	1062: finding.QueryConstraint,
	1364: finding.QueryConstraint,
	1451: finding.QueryConstraint,
	1452: finding.QueryConstraint,
	3819: finding.QueryConstraint,
	4025: finding.QueryConstraint,
	1304: finding.QueryExistsAlready,
	1060: finding.QueryExistsAlready,
	1061: finding.QueryExistsAlready,
	1091: finding.QueryNoSuchObject,
	1109: finding.QueryNoSuchObject,
	1142: finding.QueryNoRight,
	1143: finding.QueryNoRight,
	1227: finding.QueryNoRight,
	1370: finding.QueryNoRight,
	1046: finding.QueryNoDatabase,
	1054: finding.QueryNoSuchObject,
	1146: finding.QueryNoSuchObject,
	1305: finding.QueryNoSuchObject,
	1051: finding.QueryNoSuchObject,
	1050: finding.QueryExistsAlready,
	1007: finding.QueryExistsAlready,
	1205: finding.QueryInUse,
	1290: finding.QueryReadOnly,
	1792: finding.QueryReadOnly,
	1836: finding.QueryReadOnly,
	1317: finding.QueryStopped,
	1927: finding.QueryClosed, // a user ended the session
	3024: finding.QueryOverLimit,
	1969: finding.QueryOverLimit,
}

// client finds as which host the server sees who connects, in the words of the errors 1045 and
// 1130. It chooses the accounts by that.
var client = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`for user '.*'@'([^'@]+)'|^Host '([^']+)'`)
})

// refused gives the failure for an error that the server sent before the login was granted.
func refused(e *mysql.MySQLError, greeted bool, about finding.Facts) *finding.Problem {
	f := &finding.Problem{Code: byNumber[e.Number], Words: outside.Said(e.Message),
		Number: outside.Said(strconv.Itoa(int(e.Number))), Err: e, Facts: about}
	if met := client().FindStringSubmatch(e.Message); met != nil {
		f.Facts = maps.Clone(f.Facts)
		f.Set(finding.FactSeenAs, cmp.Or(met[1], met[2]))
	}
	limited(f, e)
	if f.Code == "" || f.Code.Leg() == "query" {
		f.Code = finding.LoginUnknown
		if !greeted {
			f.Code = finding.GreetingUnknown
		}
	}
	return f
}

// limited says which limit of an account was reached (error 1226): the server names its resource,
// in any language.
func limited(p *finding.Problem, e *mysql.MySQLError) {
	if e.Number != 1226 {
		return
	}
	if strings.Contains(e.Message, "max_user_connections") {
		p.Code = finding.DatabaseUserLimit
		return
	}
	for _, name := range []string{"max_connections_per_hour", "max_queries_per_hour", "max_updates_per_hour",
		"max_questions", "max_updates"} {
		if strings.Contains(e.Message, name) {
			p.Code = finding.LoginHourlyLimit
			p.Set(finding.FactHourly, name)
			return
		}
	}
}

type session struct {
	conn  driver.Conn
	wire  *wire
	again func(ctx context.Context) (engine.Session, error) // a further session at the same address

	pooled *bool // a pooler is in between; nil for not known yet
	// process is the server's number for this session and home its identity, "" for not asked yet
	process, home string
	opened        string // the database that [session.Switch] has opened, "" for none
}

var plainNumber = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[0-9]+(\.[0-9]+)?$`) })

// begin takes the role, the options and the database on.
func (s *session) begin(ctx context.Context) error {
	login := s.wire.login
	if login.Role != "" || len(login.Options) > 0 { // they last as long as the session, whoever has it
		shared, err := s.Shared(ctx)
		if err == nil && shared {
			err = engine.Pooled("the profile's role and options, which last in a session,")
		}
		if err != nil {
			return err
		}
	}
	if login.Role != "" {
		if err := s.do(ctx, "set role "+quote(login.Role)); err != nil {
			err = renamed(err, finding.LoginRoleRefused)
			var f *finding.Problem
			if errors.As(err, &f) && f.Code == finding.LoginRoleRefused {
				if rows, e := s.texts(ctx, "select distinct role_name from information_schema.applicable_roles"); e == nil {
					f.Names = firsts(rows)
				}
			}
			return err
		}
	}
	for name, value := range login.Options {
		text := value
		if !plainNumber().MatchString(value) {
			if strings.ContainsAny(value, `'\`) {
				return &finding.Problem{Code: finding.SettingsOptionRefused,
					Words: outside.Said(name + " has a quote or a backslash")}
			}
			text = "'" + value + "'"
		}
		if err := s.do(ctx, "set session "+name+" = "+text); err != nil {
			return renamed(err, finding.SettingsOptionRefused)
		}
	}
	if login.Database == "" {
		return nil
	}
	if err := s.do(ctx, "use "+quote(login.Database)); err != nil {
		var f *finding.Problem
		if errors.As(err, &f) && (f.Code == finding.DatabaseMissing || f.Code == finding.DatabaseNoRight) {
			if list, e := s.Databases(ctx); e == nil {
				for _, each := range list {
					f.Names = append(f.Names, each.Name)
				}
			}
		}
		if errors.As(err, &f) && (f.Code == finding.DatabaseMissing || f.Code == finding.DatabaseNoRight) {
			f.Set(finding.FactIdentity, s.identity(ctx))
		}
		if errors.As(err, &f) && f.Code == finding.DatabaseNoRight {
			f.Set(finding.FactAccount, s.one(ctx, "select current_user()"))
		}
		if errors.As(err, &f) && f.Code.Leg() == "query" {
			_, words, _ := strings.Cut(string(f.Code), ".")
			f.Code = finding.Of("database", words)
		}
		return err
	}
	s.wire.watch("database", login.Database+" is open")
	return nil
}

// renamed gives a statement's error another code; what is about the login itself, such as an
// expired password, stays.
func renamed(err error, code finding.Code) error {
	var f *finding.Problem
	if errors.As(err, &f) && !f.Number.Empty() && f.Code.Leg() != "login" {
		f.Code = code
	}
	return err
}

// firsts gives the first column of rows.
func firsts(rows [][]*string) []string {
	var list []string
	for _, row := range rows {
		if len(row) > 0 && row[0] != nil {
			list = append(list, *row[0])
		}
	}
	return list
}

// quote makes a name safe inside a statement.
func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func (s *session) do(ctx context.Context, statement string) error {
	if _, err := s.conn.(driver.ExecerContext).ExecContext(ctx, statement, nil); err != nil {
		return failure(ctx, err)
	}
	return nil
}

// stated gives the failure of a statement of the user's, or of one on its behalf: what would be
// about the login or the profile's database while a session is opened is about what the statement
// names then.
func stated(err error) error {
	var f *finding.Problem
	if !errors.As(err, &f) || f.Code.Leg() == "query" || f.Number.Empty() {
		return err
	}
	again := *f
	switch f.Code {
	case finding.DatabaseNoRight, finding.LoginRefused:
		again.Code = finding.QueryNoRight
	case finding.DatabaseMissing:
		again.Code = finding.QueryNoSuchBase
	case finding.DatabaseShuttingDown:
		again.Code = finding.QueryClosed
	case finding.LoginPasswordExpired, finding.LoginHourlyLimit: // the account may do nothing else until it has a new one
		return err
	default:
		again.Code = finding.QueryUnknown
	}
	return &again
}

// failure is the function failure, and knows what ended the connection from our side: the driver
// says of each such end that it is none.
func (s *session) failure(ctx context.Context, err error) *finding.Problem {
	var ours *finding.Problem
	if errors.As(s.wire.packets.over, &ours) {
		return ours
	}
	return failure(ctx, err)
}

// failure says what an error on an open session means.
func failure(ctx context.Context, err error) *finding.Problem {
	var refusal *mysql.MySQLError
	if !errors.As(err, &refusal) {
		if errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, driver.ErrBadConn) {
			err = io.EOF
		}
		// the driver's words; it has sent nothing
		if strings.HasPrefix(err.Error(), "local file '") || strings.HasPrefix(err.Error(), "reader '") {
			return &finding.Problem{Code: finding.QueryAsksForFile, Err: err}
		}
		return engine.Broken(ctx, "query", err)
	}
	code, known := byNumber[refusal.Number]
	// it names the option that forbids it
	if !known || refusal.Number == 1290 && !strings.Contains(refusal.Message, "read") {
		code = finding.QueryUnknown
	}
	p := &finding.Problem{Code: code, Words: outside.Said(refusal.Message),
		Number: outside.Said(strconv.Itoa(int(refusal.Number))), Err: err}
	limited(p, refusal)
	return p
}

// Ask implements engine.Session.
func (s *session) Ask(ctx context.Context) error { return s.do(ctx, "select 1") }

// texts runs a statement of ours and gives its rows as text, nil for null.
func (s *session) texts(ctx context.Context, statement string) ([][]*string, error) {
	var rows [][]*string
	_, err := s.query(ctx, engine.Statement{Text: statement}, func(_, _ []string) error { return nil },
		func(values []driver.Value) error {
			row := make([]*string, len(values))
			for i, value := range values {
				if value != nil {
					text := textOf(value)
					row[i] = &text
				}
			}
			if rows = append(rows, row); len(rows) > engine.MaxRows {
				return engine.TooMuch("query")
			}
			return nil
		})
	return rows, err
}

// abandoning is how long the rest of a result that is not wanted any more is read.
const abandoning = 50 * time.Millisecond

func textOf(value driver.Value) string {
	switch v := value.(type) {
	case []byte:
		return string(v)
	case int64:
		return strconv.FormatInt(v, 10)
	case uint64:
		return strconv.FormatUint(v, 10)
	case float32:
		return strconv.FormatFloat(float64(v), 'g', -1, 32)
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return fmt.Sprint(value)
}

// one gives the only value of a statement's only row, "" when there is none or it may not be seen.
func (s *session) one(ctx context.Context, statement string) string {
	rows, err := s.texts(ctx, statement)
	if err != nil || len(rows) != 1 || len(rows[0]) == 0 || rows[0][len(rows[0])-1] == nil {
		return ""
	}
	return *rows[0][len(rows[0])-1]
}

// Facts implements engine.Session. What this account may not see is left empty.
func (s *session) Facts(ctx context.Context) (engine.Facts, error) {
	w := s.wire
	facts := engine.Facts{Product: w.product, User: w.login.User, Login: w.method, Encryption: w.saw}
	if encrypted, ok := w.Conn.(*tls.Conn); ok {
		facts.Certificate = engine.Describe(encrypted.ConnectionState())
	}
	text, refused, err := s.row(ctx, "version()", "user()", "current_user()", "database()", "connection_id()",
		"@@read_only", "@@innodb_read_only", "@@version_comment")
	if err != nil {
		return facts, err
	}
	facts.Version, _, _ = strings.Cut(text[0], "-")
	if facts.Product, facts.Speaks = calls(facts.Product, facts.Version, text[0], text[7]); facts.Speaks != "" {
		facts.Version = "" // what it says is the version of the protocol
	}
	facts.Client = text[1][strings.LastIndexByte(text[1], '@')+1:]
	facts.Account, facts.Database, facts.SessionID = text[2], text[3], text[4]
	// Later MariaDB servers have more words for read_only than on; each is other than off.
	// super_read_only comes with read_only.
	on := func(text string) bool { return text != "0" && !strings.EqualFold(text, "off") }
	if !refused[5] || !refused[6] {
		readOnly := !refused[5] && on(text[5]) || !refused[6] && on(text[6])
		facts.ReadOnly, facts.Follows = &readOnly, &readOnly
	}
	if s.served(facts.SessionID); s.pooled != nil {
		facts.Pooled = *s.pooled
	}
	facts.Identity = s.identity(ctx)
	facts.Superuser = s.superuser(ctx)
	return facts, nil
}

// row asks for some values, see [engine.EachKnown]. What the server does not know stays empty.
func (s *session) row(ctx context.Context, values ...string) (row []string, refused []bool, err error) {
	row = make([]string, len(values))
	refused, err = engine.EachKnown(values, func(at int, list []string) error {
		rows, err := s.texts(ctx, "select "+strings.Join(list, ", "))
		if err == nil && (len(rows) != 1 || len(rows[0]) != len(list)) {
			err = engine.Malformed("a row of another size than was asked for")
		}
		if err != nil {
			return err
		}
		for i, value := range rows[0] {
			if value != nil {
				row[at+i] = *value
			}
		}
		return nil
	})
	return row, refused, err
}

// calls says what a server is, by its version and its comment: the kind's own product where one
// of both has that name, or where they name no product at all; else what it calls itself, and
// which version it speaks the protocol of.
func calls(product, version, whole, comment string) (name, speaks string) {
	comment, _, _ = strings.Cut(comment, " - ")
	lower := strings.ToLower(whole + " " + comment)
	for _, own := range []string{"mysql", "mariadb", "percona", "debian", "ubuntu", "distribution", "build", "homebrew"} {
		if strings.Contains(lower, own) {
			return product, ""
		}
	}
	if comment = strings.TrimSpace(comment); comment == "" {
		return product, ""
	}
	letters := []rune(comment)
	return outside.Cell(string(letters[:min(len(letters), 40)])), product + " " + version
}

// identity gives the server's own, "" where it does not show one.
func (s *session) identity(ctx context.Context) string {
	for _, name := range []string{"server_uuid", "server_uid"} { // MySQL's name for it, and MariaDB's
		if id := s.one(ctx, "select @@global."+name); id != "" {
			return id
		}
	}
	// An older MariaDB has no identity of its own; a number that its administrator gave and the
	// folder of its data come nearest.
	if id := s.one(ctx, "select concat(@@global.server_id, ' ', @@hostname, ':', @@port, ' ', @@datadir)"); id != "" {
		return "server_id " + id
	}
	return ""
}

// superuser reads the account's own grants, which every account may; nil when they do not come.
func (s *session) superuser(ctx context.Context) *bool {
	grants, err := s.texts(ctx, "show grants")
	if err != nil || len(grants) == 0 {
		return nil
	}
	is := false
	for _, grant := range grants {
		if len(grant) > 0 && grant[0] != nil {
			given, on, _ := strings.Cut(*grant[0], " ON ")
			if strings.HasPrefix(on, "*.*") && (strings.Contains(given, "ALL PRIVILEGES") || strings.Contains(given, "SUPER")) {
				is = true
			}
		}
	}
	return &is
}

// Databases implements engine.Lister. The server lists only those that this account may use.
func (s *session) Databases(ctx context.Context) ([]engine.Database, error) {
	rows, err := s.texts(ctx, "select schema_name, default_character_set_name, coalesce(schema_name = "+
		"database(), false) from information_schema.schemata order by schema_name")
	if engine.Refused(err) { // it only speaks the protocol, and knows less
		rows, err = s.texts(ctx, "show databases")
		for i := range rows {
			none, closed := "", "0"
			rows[i] = []*string{rows[i][0], &none, &closed}
		}
	}
	if err != nil {
		return nil, err
	}
	var list []engine.Database
	may := true
	for _, row := range rows {
		if len(row) != 3 || row[0] == nil || row[1] == nil || row[2] == nil {
			return nil, engine.Malformed("a row of another size than was asked for")
		}
		list = append(list, engine.Database{Name: *row[0], Encoding: *row[1], Open: *row[2] == "1", MayOpen: &may})
	}
	return list, nil
}

// literal makes a text safe inside a statement, in every mode of the session.
func literal(text string) string {
	return "convert(x'" + hex.EncodeToString([]byte(text)) + "' using utf8mb4)"
}

// inSchema takes a table's name apart; a name alone is one of the open database.
func inSchema(table string) (schema, name string) {
	if schema, name, ok := strings.Cut(table, "."); ok {
		return literal(schema), literal(name)
	}
	return "database()", literal(table)
}

// Visible implements engine.Lister.
func (s *session) Visible(ctx context.Context, tables []string) (map[string]bool, error) {
	seen := map[string]bool{}
	for _, table := range tables {
		schema, name := inSchema(table)
		rows, err := s.texts(ctx, "select 1 from information_schema.tables where table_schema = "+schema+" and table_name = "+name)
		if err != nil {
			return nil, err
		}
		seen[table] = len(rows) > 0
	}
	return seen, nil
}

// May implements engine.Rights. It reads the account's own grants; those that come by a role are
// not among them, so that a right which is not found stays unknown while a role is in use.
func (s *session) May(ctx context.Context, right, table string) (*bool, error) {
	schema, name := inSchema(table)
	const me = "grantee = concat(char(39), substring_index(current_user(), '@', 1), char(39), '@', char(39), " +
		"substring_index(current_user(), '@', -1), char(39))"
	kind := " and privilege_type = " + literal(strings.ToUpper(right))
	rows, err := s.texts(ctx, "select 1 from information_schema.user_privileges where "+me+kind+
		" union all select 1 from information_schema.schema_privileges where "+me+kind+" and "+schema+" like table_schema"+
		" union all select 1 from information_schema.table_privileges where "+me+kind+" and table_schema = "+schema+" and table_name = "+name)
	if err != nil {
		return nil, err
	}
	may := len(rows) > 0
	if !may && s.wire.login.Role != "" {
		return nil, nil
	}
	return &may, nil
}

// Close implements engine.Session.
func (s *session) Close() {
	_ = s.wire.SetDeadline(time.Now().Add(time.Second))
	_ = s.conn.Close()
}
