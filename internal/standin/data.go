package standin

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"modernc.org/sqlite"
)

// data is the SQLite database behind a practice server.
type data struct {
	server *Server
	db     *sql.DB

	mu    sync.Mutex
	began uint32 // the number of the session whose transaction is open, 0 for none
	only  bool   // it only reads
	next  uint32 // the session whose next transaction only reads
	turns uint32 // the session that has, or begins, a transaction
}

// noteTransaction notes what a statement that was done begins or ends.
func (d *data) noteTransaction(as identity, verb string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	switch verb {
	case "begin", "start":
		d.began, d.only, d.next = as.number, d.next == as.number, 0
	case "commit", "end", "rollback":
		d.began, d.only, d.turns = 0, false, 0
	}
}

// reads has the transaction of a session only read, or its next one.
func (d *data) reads(number uint32) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.began == number {
		d.only = true
	} else {
		d.next = number
	}
}

// errOnlyReads is the refusal of a change in a transaction that only reads.
var errOnlyReads = errors.New("this transaction only reads")

// turn waits until no other session has a transaction open: there is one database, and SQLite has
// one transaction in it. The transaction that is begun then is to be told to begun.
func (d *data) turn(ctx context.Context, number uint32) {
	for range 1000 {
		d.mu.Lock()
		free := d.turns == 0 || d.turns == number
		if free {
			d.turns = number
		}
		d.mu.Unlock()
		if free {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// begun ends the turn of a session that has begun no transaction.
func (d *data) begun(number uint32) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.turns == number && d.began != number {
		d.turns = 0
	}
}

// mayChange says why a statement may not change something.
func (d *data) mayChange(number uint32) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.began == number && number != 0 && d.only {
		return errOnlyReads
	}
	return nil
}

// inTransaction reports whether a session has a transaction open.
func (d *data) inTransaction(number uint32) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return number != 0 && d.began == number
}

// leave undoes what a session that ends has not committed.
func (d *data) leave(number uint32) {
	if d.inTransaction(number) {
		_, _ = d.db.Exec("rollback")
		d.noteTransaction(identity{number: number}, "rollback")
	}
}

// identity is who asks, for the functions that say it.
type identity struct {
	user, database, client string
	number                 uint32
}

// result is a statement's outcome. Columns is nil for a statement that gives no rows.
type result struct {
	columns  []string
	rows     [][]any
	affected int64
	verb     string
}

// scenario makes the tables of Fellside Huts.
const scenario = `
create table hut (id integer primary key, name text not null, height integer not null, valley text not null) strict;
create table bunk (id integer primary key, hut_id integer not null references hut, number integer not null) strict;
create table booking (id integer primary key, bunk_id integer not null references bunk, guest text not null, night text not null) strict;
create table snow_depth (hut_id integer not null references hut, day text not null, centimetres integer) strict;
insert into hut values
	(1, 'Greystone', 812, 'Wether Dale'), (2, 'Larkrise', 640, 'Wether Dale'),
	(3, 'Old Quarry', 1044, 'High Tarn'), (4, 'Swallow Barn', 455, 'Low Beck');
insert into bunk select hut.id * 10 + n.value, hut.id, n.value from hut, (select 1 as value union select 2 union select 3) n;
insert into booking values
	(1, 11, 'A. Thorne', '2026-12-04'), (2, 12, 'B. Lund', '2026-12-04'),
	(3, 21, 'C. Marsh', '2026-12-05'), (4, 31, 'D. Fell', '2026-12-11');
insert into snow_depth values (1, '2026-11-20', 4), (2, '2026-11-20', 0), (3, '2026-11-20', 17), (4, '2026-11-20', null);
`

// functions are those of the two families that programs ask at a start; what depends on the
// session is put in as text by rewrite.
var functions = map[string]func(args []driver.Value) driver.Value{
	"current_setting": func(args []driver.Value) driver.Value {
		return map[string]string{"server_version": "16.0 (practice)", "transaction_read_only": "off"}[fmt.Sprint(args[0])]
	},
	"pg_is_in_recovery":      func([]driver.Value) driver.Value { return int64(0) },
	"pg_get_userbyid":        func(args []driver.Value) driver.Value { return args[0] },
	"pg_encoding_to_char":    func([]driver.Value) driver.Value { return "UTF8" },
	"to_regclass":            func(args []driver.Value) driver.Value { return unquoted(fmt.Sprint(args[0])) },
	"format_type":            func(args []driver.Value) driver.Value { return args[0] },
	"pg_table_is_visible":    func([]driver.Value) driver.Value { return int64(1) },
	"has_database_privilege": func([]driver.Value) driver.Value { return int64(1) },
}

func init() {
	for name, function := range functions {
		sqlite.MustRegisterScalarFunction(name, -1,
			func(_ *sqlite.FunctionContext, args []driver.Value) (driver.Value, error) {
				return function(args), nil
			})
	}
}

func openData(s *Server) (*data, error) {
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1) // one connection is the database: it lives in that connection's memory
	d := &data{server: s, db: db}
	setUp := []string{scenario}
	if s.family() == "postgres" {
		setUp = append(setUp,
			"create table pg_roles (rolname text, rolsuper integer, rolcanlogin integer)",
			"create table pg_database (datname text, datdba text, encoding integer, datistemplate integer, "+
				"datallowconn integer)",
			"create table pg_control_system (system_identifier integer)",
			"create table pg_proc (oid integer, proname text)", // nobody has made functions
			fmt.Sprintf("insert into pg_control_system values (%d)", 7400000000000000001+s.config.Identity))
	} else if s.family() == "oracle" {
		setUp = append(setUp, "create table dual (dummy text)", "insert into dual values ('X')")
	} else if s.family() == "mysql" {
		setUp = append(setUp, "create table schemata (schema_name text, default_character_set_name text)")
	}
	for _, statement := range append(setUp, shapes[s.family()]...) {
		if _, err := db.Exec(statement); err != nil {
			d.close()
			return nil, err
		}
	}
	for _, name := range append(append([]string{}, builtIn[s.family()]...), s.config.Databases...) {
		if s.family() == "postgres" {
			_, err = db.Exec("insert into pg_database values (?, ?, 6, 0, 1)", name, s.config.Superuser)
		} else if s.family() == "mysql" {
			_, err = db.Exec("insert into schemata values (?, 'utf8mb4')", name)
		}
		if err != nil {
			d.close()
			return nil, err
		}
	}
	for user := range s.config.Accounts {
		if s.family() == "postgres" {
			if _, err := db.Exec("insert into pg_roles values (?, ?, 1)", user, user == s.config.Superuser); err != nil {
				d.close()
				return nil, err
			}
		}
	}
	return d, nil
}

func (d *data) close() { _ = d.db.Close() }

var firstWord = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^\s*([A-Za-z]+)`) })

// numberedPlace is a place for a value as PostgreSQL writes one; SQLite has a question mark there.
var numberedPlace = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\$([0-9]{1,3})`) })

// places counts the places for values in a statement, outside of quotes.
func places(text string) int {
	n := 0
	for _, part := range parts().FindAllString(text, -1) {
		if part[0] == '\'' || part[0] == '"' {
			continue
		}
		for _, met := range numberedPlace().FindAllStringSubmatch(part, -1) {
			number, _ := strconv.Atoi(met[1])
			n = max(n, number)
		}
		n += strings.Count(part, "?")
	}
	return n
}

// run executes a statement as someone, with values at its places.
func (d *data) run(ctx context.Context, as identity, text string, values ...any) (result, error) {
	verb := strings.ToLower(strings.TrimSpace(firstWord().FindString(text)))
	if verb == "begin" || verb == "start" {
		d.turn(ctx, as.number)
		defer d.begun(as.number)
	}
	if r, done, err := d.spoken(as, verb, text); done {
		if err == nil {
			d.noteTransaction(as, verb)
		}
		return r, err
	}
	written := text
	text = d.rewrite(as, withTexts(text))
	switch verb {
	case "select", "with", "values":
		r, err := d.query(ctx, text, values...)
		if err == nil {
			d.name(&r, written)
		}
		return r, err
	}
	if verb != "begin" && verb != "commit" && verb != "rollback" && verb != "end" && verb != "savepoint" &&
		verb != "release" {
		if err := d.mayChange(as.number); err != nil {
			return result{}, err
		}
	}
	done, err := d.db.ExecContext(ctx, text, values...)
	if err != nil {
		return result{}, err
	}
	if !strings.HasPrefix(strings.ToLower(strings.Join(strings.Fields(text), " ")), "rollback to") {
		d.noteTransaction(as, verb)
	}
	affected, _ := done.RowsAffected()
	return result{affected: affected, verb: verb}, nil
}

func (d *data) query(ctx context.Context, text string, values ...any) (result, error) {
	rows, err := d.db.QueryContext(ctx, text, values...)
	if err != nil {
		return result{}, err
	}
	defer rows.Close()
	r := result{verb: "select"}
	if r.columns, err = rows.Columns(); err != nil {
		return r, err
	}
	for rows.Next() {
		row, into := make([]any, len(r.columns)), make([]any, len(r.columns))
		for i := range row {
			into[i] = &row[i]
		}
		if err := rows.Scan(into...); err != nil {
			return r, err
		}
		r.rows = append(r.rows, row)
	}
	return r, rows.Err()
}

// spoken answers the statements that SQLite has no words for; done reports whether it was one.
func (d *data) spoken(as identity, verb, text string) (r result, done bool, err error) {
	lower := strings.ToLower(strings.Join(strings.Fields(text), " "))
	switch {
	case lower == "start transaction", lower == "start transaction read only", lower == "begin read only":
		if strings.HasSuffix(lower, "read only") {
			d.reads(as.number)
		}
		_, err := d.db.Exec("begin")
		return result{verb: verb}, true, err
	case strings.HasPrefix(lower, "load data local"):
		return r, true, errNoLocal
	case lower == "set transaction read only":
		d.reads(as.number)
		return result{verb: verb}, true, nil
	case verb == "set":
		return result{verb: verb}, true, nil
	case lower == "show grants":
		grant := "GRANT SELECT, INSERT ON `bunkhouse`.* TO `" + as.user + "`@`%`"
		if as.user == d.server.config.Superuser {
			grant = "GRANT ALL PRIVILEGES ON *.* TO `" + as.user + "`@`%`"
		}
		return result{columns: []string{"Grants"}, rows: [][]any{{grant}}, verb: verb}, true, nil
	}
	return result{}, false, nil
}

var parts = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`'(?:[^']|'')*'|"(?:[^"]|"")*"|[^'"]+|['"]`)
})

// rewrite puts what depends on the session in as text, outside of quotes.
func (d *data) rewrite(as identity, text string) string {
	literal := func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
	var pairs []string
	if d.server.family() == "postgres" {
		pairs = []string{
			"pg_catalog.", "", "current_database()", literal(as.database), "inet_client_addr()", literal(as.client),
			"pg_backend_pid()", fmt.Sprint(as.number), "pg_control_system()", "pg_control_system",
			"pg_is_in_recovery()", map[bool]string{true: "1", false: "0"}[d.server.config.Replica],
			"current_user", literal(as.user), "session_user", literal(as.user), "version()",
			literal("PostgreSQL 16.0 (practice)"),
		}
	} else if d.server.family() == "mysql" {
		standing := map[bool]string{true: "1", false: "0"}[d.server.config.Replica]
		database := "null"
		if as.database != "" {
			database = literal(as.database)
		}
		pairs = []string{
			"current_user()", literal(as.user + "@%"), "user()", literal(as.user + "@" + as.client), "database()", database,
			"connection_id()", fmt.Sprint(as.number), "@@read_only", standing, "@@innodb_read_only", "0",
			"@@global.server_uuid",
			literal(fmt.Sprintf("feed0000-0000-4000-8000-%012d", 1+d.server.config.Identity)),
			"@@session.sql_mode", "''", "version()", literal(d.server.version()), "information_schema.schemata",
			"schemata", "information_schema.columns", "information_columns", "information_schema.tables",
			"information_tables", "information_schema.engines", "information_engines",
			"information_schema.routines", "information_routines", "row_count()", "changes()",
		}
	}
	super := map[bool]string{true: "'on'", false: "'off'"}[as.user == d.server.config.Superuser]
	text = strings.ReplaceAll(text, "pg_catalog.current_setting('is_superuser')", super)
	replacer := strings.NewReplacer(pairs...)
	return parts().ReplaceAllStringFunc(text, func(part string) string {
		if part[0] == '\'' || part[0] == '"' {
			return part
		}
		return numberedPlace().ReplaceAllString(replacer.Replace(part), "?$1")
	})
}

// noDatabase words the refusal of a database that is not there.
func noDatabase(name string) string { return fmt.Sprintf("there is no practice database %q", name) }

// complaint is a kind of SQLite's errors: what it says, what a practice server says in its place,
// and the two families' codes for it (SQLSTATE; MySQL's error numbers).
type complaint struct {
	pattern string
	words   string // with %q for what the pattern found
	state   string
	number  uint16
}

var complaints = []complaint{
	{`has \d+ columns but \d+ values`, "a row has another number of values than the table has columns", "22P04", 1136},
	{`this practice server copies no such rows`,
		"this practice server copies rows as text and as CSV alone, and these are not such rows", "22P04", 1235},
	{`this practice server reads no local files`, "this practice server reads no local files", "0A000", 1148},
	{`this transaction only reads`, "this transaction only reads", "25006", 1792},
	{`no such table: (\S+)`, "the practice data has no table %q", "42P01", 1146},
	{`no such column: (\S+)`, "the practice data has no column %q there", "42703", 1054},
	{`has no column named (\S+)`, "the practice data has no column %q there", "42703", 1054},
	{`no such function: (\S+)`, "this practice server has no function %q", "42883", 1305},
	{`ambiguous column name: (\S+)`, "several tables of the statement have a column %q", "42702", 1052},
	{`near "([^"]*)": syntax error`, "this practice server does not understand the statement at %q", "42601", 1064},
	{`incomplete input`, "the statement ends too early", "42601", 1064},
	{`unrecognized token: "?([^"]*)`, "this practice server does not understand the statement at %q", "42601", 1064},
	{`(?:table|index|view) "?([^\s"]+)"? already exists`, "the practice data has %q already", "42P07", 1050},
	{`cannot store \S+ value in \S+ column (\S+)`, "the value is not of the type of the column %q", "22P02", 1366},
	{`UNIQUE constraint failed: (\S+)`, "the practice data has that value of %q already", "23505", 1062},
	{`NOT NULL constraint failed: (\S+)`, "the column %q needs a value", "23502", 1048},
	{`FOREIGN KEY constraint failed`, "another table refers to this, or has no such row", "23503", 1452},
}

// patterns are the complaints' patterns, compiled.
var patterns = sync.OnceValue(func() []*regexp.Regexp {
	var list []*regexp.Regexp
	for _, each := range complaints {
		list = append(list, regexp.MustCompile(each.pattern))
	}
	return list
})

// whereIn gives the character of a statement, from 1, at which what SQLite's error names stands
// for the first time as a word; 0 where it names nothing.
func whereIn(err error, text string) int {
	for _, pattern := range patterns() {
		found := pattern.FindStringSubmatch(err.Error())
		if len(found) < 2 || found[1] == "" {
			continue
		}
		name := found[1][strings.LastIndexByte(found[1], '.')+1:]
		if at := regexp.MustCompile(`(?i)(^|\W)` + regexp.QuoteMeta(name) + `(\W|$)`).FindStringIndex(text); at != nil {
			return utf8.RuneCountInString(text[:at[0]+strings.Index(strings.ToLower(text[at[0]:]), strings.ToLower(name))]) + 1
		}
	}
	return 0
}

// problem sorts SQLite's errors for the two families' codes, and gives the practice server's own
// words for them.
func problem(err error) (state string, number uint16, text string) {
	if errors.Is(err, errSeveral) {
		return "42601", 1064, "this practice server takes one statement at a time"
	}
	for i, pattern := range patterns() {
		if found := pattern.FindStringSubmatch(err.Error()); found != nil {
			words := complaints[i].words
			if len(found) > 1 {
				words = fmt.Sprintf(words, found[1])
			}
			return complaints[i].state, complaints[i].number, words
		}
	}
	return "XX000", 1105, "this practice server could not carry the statement out"
}
