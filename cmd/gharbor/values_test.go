//go:build unix

package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/script"
	"gentle-harbor/internal/secret"
)

// valuePlaces is the table of places for values: what this program does with a value there, and
// what each engine does with a parameter there.
var valuePlaces = []struct {
	about string
	// pg and my are the statements, "" for an engine that has no such; v is the value.
	pg, my, v string
	// refused says that we refuse it before anything runs; a driver's own parameter there must
	// fail, or do nothing where means is set.
	refused bool
	means   string // the rows, as bare, that both engines give; for a refused place those of a driver's parameter
}{
	{"select list", "select {{v}}", "", "integer=5", false, "5"},
	{"comparison", "select name from hut where height = {{v}}", "", "integer=812", false, "Greystone"},
	{"comparison of text", "select name from hut where name = {{v}}", "", "text=O'Brien\\'s \"hut\"", false, ""},
	{"like", "select name from hut where name like {{v}}", "", "text=Grey%", false, "Greystone"},
	{"in a list", "select name from hut where height in ({{v}}, 1)", "", "integer=812", false, "Greystone"},
	{"between", "select name from hut where height between {{v}} and 900", "", "integer=800", false, "Greystone"},
	{"is distinct from", "select name from hut where height is not distinct from {{v}}", "-", "integer=812",
		false, "Greystone"},
	{"the same twice", "select {{v}} + {{v}}", "", "integer=4", false, "8"},
	{"arithmetic with decimals", "select {{v}} * 3", "", "decimal=12345678901234567890.1", false,
		"37037036703703703670.3"},
	{"arithmetic with a date", "select current_date - current_date + {{v}}", "", "integer=2", false, "2"},
	{"function", "select substr('Greystone', {{v}})", "", "integer=5", false, "stone"},
	{"function with words", "select substring('Greystone' from {{v}} for 2)", "", "integer=5", false, "st"},
	{"extract", "select extract(year from cast({{v}} as date))", "", "date=2026-02-14", false, "2026"},
	{"trim", "select trim({{v}} from 'xaxx')", "", "text=x", false, "a"},
	{"cast", "select cast({{v}} as date)", "", "date=2026-02-14", false, "2026-02-14"},
	{"limit", "select name from hut order by name limit {{v}}", "", "integer=1", false, "Greystone"},
	{"offset", "select name from hut order by name limit 1 offset {{v}}", "", "integer=1", false, "Larkrise"},
	{"case in order by", "select name from hut order by case when {{v}} = 'down' then name end desc limit 1",
		"", "text=down", false, "Larkrise"},
	{"group by with more", "select count(*) from hut group by height > {{v}} order by 1", "", "integer=100",
		false, "1\n1"},
	{"having", "select count(*) from hut having count(*) > {{v}}", "", "integer=1", false, "2"},
	{"values of an insert", "insert into hut values ('Fell', {{v}})", "", "integer=3", false, ""},
	{"insert from a select", "insert into hut (name, height) select 'Fell', {{v}}", "", "integer=3", false, ""},
	{"set of an update", "update hut set height = {{v}} where name = 'none'", "", "integer=3", false, ""},
	{"delete", "delete from hut where name = {{v}}", "", "text=none", false, ""},
	{"with", "with x as (select {{v}} as a) select a from x", "", "integer=5", false, "5"},
	{"from a list of values", "select * from (values ({{v}}, 1)) as x", "-", "integer=5", false, "5\t1"},
	{"values", "values ({{v}})", "-", "integer=5", false, "5"},
	{"explain", "explain select * from hut where height = {{v}}", "", "integer=5", false, "*"},
	{"analyze", "-", "analyze select * from hut where height = {{v}}", "integer=5", false, "*"},
	{"describe", "-", "describe select * from hut where height = {{v}}", "integer=5", false, "*"},
	{"replace", "-", "replace into hut values ('Fell', {{v}})", "integer=3", false, ""},
	{"call", "-", "call no_such({{v}})", "integer=3", false, "!1305"},
	{"merge", "merge into hut using (select {{v}} as h) s on height = s.h when matched then do nothing", "-",
		"integer=5", false, ""},
	{"set of a variable", "-", "set @x = {{v}}", "integer=5", false, ""},
	{"do", "-", "do {{v}}", "integer=5", false, ""},
	{"interval", "-", "select date_add(cast('2026-02-14' as date), interval {{v}} day)", "integer=2", false, "2026-02-16"},
	{"null", "select coalesce({{v}}, 7)", "", "null", false, "7"},
	{"a zone", "select cast('2026-02-14 12:00+00' as timestamptz) at time zone {{v}}", "-", "text=UTC", false,
		"2026-02-14 12:00:00"},
	{"a cast of its own", "select {{v}}::int + 1", "-", "text=5", false, "6"},

	{"show", "-", "show variables like {{v}}", "text=no_such_variable", true, ""},
	{"values of the other", "-", "values ({{v}})", "integer=5", true, "?"},
	{"in quotes", "select '{{v}}'", "", "integer=5", true, "-"},
	{"in a name's quotes", "select \"{{v}}\"", "select `{{v}}`", "integer=5", true, "-"},
	{"in a dollar quote", "select $a$ {{v}} $a$", "-", "integer=5", true, "-"},
	{"after a type's word", "select date {{v}}", "", "date=2026-02-14", true, ""},
	{"after another", "select timestamp {{v}}", "", "timestamp=2026-02-14 10:00", true, ""},
	{"after interval", "select interval {{v}}", "-", "text=1 day", true, ""},
	{"table", "select * from {{v}}", "", "text=hut", true, ""},
	{"table of a join", "select * from hut join {{v}} on true", "", "text=hut", true, ""},
	{"schema", "select * from {{v}}.hut", "", "text=public", true, ""},
	{"column of a table", "select hut.{{v}} from hut", "", "text=name", true, ""},
	{"name of a result", "select name as {{v}} from hut", "", "text=x", true, ""},
	{"function's name", "select {{v}}(1)", "", "text=abs", true, ""},
	{"type", "select cast('1' as {{v}})", "", "text=int", true, ""},
	{"type after ::", "select '1'::{{v}}", "-", "text=int", true, ""},
	{"column of an insert", "insert into hut ({{v}}) values ('x')", "", "text=name", true, ""},
	{"column of an update", "update hut set {{v}} = 1", "", "text=height", true, ""},
	{"table of an insert", "insert into {{v}} values (1)", "", "text=hut", true, ""},
	{"table of an update", "update {{v}} set height = 1", "", "text=hut", true, ""},
	{"table of a delete", "delete from {{v}}", "", "text=hut", true, ""},
	{"a variable's name", "-", "select @{{v}}", "text=x", true, ""},
	{"collation", "select name collate {{v}} from hut", "", "text=C", true, ""},
	{"default of a column", "create temporary table t (a int default {{v}})", "-", "integer=5", true, ""},
	// it takes one; the other does not
	{"default of the other's", "-", "create temporary table t (a int default {{v}})", "integer=5", true, "?"},
	{"a view's inside", "create view v as select {{v}}", "", "integer=5", true, ""},
	{"a copy's inside", "copy (select {{v}}) to stdout", "-", "integer=5", true, ""},
	{"a setting", "set search_path = {{v}}", "-", "text=public", true, ""},
	{"a password", "create role x password {{v}}", "-", "text=pw", true, ""},
	{"a part of a word", "select x{{v}}", "", "integer=5", true, ""},
	{"alone in order by", "select name from hut order by {{v}} desc", "", "integer=1", true, "Greystone\nLarkrise"},
	{"alone in brackets", "select name from hut order by ({{v}}) desc", "", "integer=1", true, "Greystone\nLarkrise"},
	{"second in order by", "select name from hut order by height is null, {{v}}", "", "integer=1", true,
		"Greystone\nLarkrise"},
	{"alone in group by", "select count(*) from hut group by {{v}}", "", "integer=1", true, "2"},
	{"alone in a window", "select row_number() over (order by {{v}}) from hut", "", "integer=1", true, "1\n2"},
	{"a partition", "select count(*) over (partition by {{v}}) from hut", "", "integer=1", true, "2\n2"},
}

// TestPlacesForValues holds the table against the real engines: what runs, gives what it should;
// what we refuse would fail as a parameter of the bare driver too, or would do nothing.
func TestPlacesForValues(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"postgres", "mariadb"} {
		w := newWorld(t, "PW="+canary)
		s := realServer(t, name)
		p := w.save("places-"+name, name, s.warden()...)
		make := "create temporary table hut (name varchar(20), height int); insert into hut values " +
			"('Greystone', 812), ('Larkrise', null)"
		bare := bareDriver(t, name, s)
		for _, each := range strings.Split(make, ";") {
			if _, err := bare(each, ""); err != nil {
				t.Fatal(err)
			}
		}
		for _, c := range valuePlaces {
			statement := c.pg
			if name == "mariadb" && c.my != "" {
				statement = c.my
			}
			if statement == "-" {
				continue
			}
			let := "v:" + c.v
			kind, text, _ := strings.Cut(c.v, "=")
			if c.refused {
				r := w.run("run", p, statement, "--let", let)
				if r.code != 2 || !strings.Contains(r.err, "{{v}}") &&
					!strings.Contains(r.err, "takes no values") ||
					!strings.Contains(r.err, "\n    "+statement[:5]) &&
						!strings.Contains(statement, "password") || r.out != "" {
					t.Errorf("%s, %s: exit %d\n%s", name, c.about, r.code, r.err)
				}
				if c.means == "-" { // a parameter cannot be there at all
					continue
				}
				rows, err := bare(statement, text)
				if c.means == "?" { // it is accepted, and gives something else
					if rows == text {
						t.Errorf("%s, %s: the driver's parameter gives %q", name, c.about, rows)
					}
					continue
				}
				if c.means == "" && err == nil || c.means != "" && rows != c.means {
					t.Errorf("%s, %s: the driver's parameter gives %q, %v", name, c.about, rows, err)
				}
				continue
			}
			if number, fails := strings.CutPrefix(c.means, "!"); fails {
				has(t, w.must(7, "run", p, statement, "--let", let).err, number)
				continue
			}
			r := w.must(0, "run", p, make+"; "+statement, "--let", let, "--as", "bare")
			if got := strings.TrimSuffix(r.out, "\n"); got != c.means && c.means != "*" {
				t.Errorf("%s, %s: %q instead of %q (%s)", name, c.about, got, c.means, kind)
			}
		}
	}
}

// bareDriver gives a function that runs a statement in one session, with a text as the parameter
// at each place, and gives its rows.
func bareDriver(t *testing.T, name string, s *server) func(statement, text string) (string, error) {
	t.Helper()
	if name == "postgres" {
		pg := barePostgres(t, s, "bunkhouse")
		return func(statement, text string) (string, error) {
			var values [][]byte
			if strings.Contains(statement, "{{v}}") {
				values = append(values, []byte(text))
			}
			result := pg.ExecParams(t.Context(), strings.ReplaceAll(statement, "{{v}}", "$1"), values, nil, nil, nil).Read()
			var rows []string
			for _, row := range result.Rows {
				rows = append(rows, string(row[0]))
			}
			return strings.Join(rows, "\n"), result.Err
		}
	}
	db := bareMariaDB(t, s, func(*mysql.Config) {})
	return func(statement, text string) (string, error) {
		var values []any
		for range strings.Count(statement, "{{v}}") {
			values = append(values, text)
		}
		result, err := db.QueryContext(t.Context(), strings.ReplaceAll(statement, "{{v}}", "?"), values...)
		if err != nil {
			return "", err
		}
		defer result.Close()
		var rows []string
		for result.Next() {
			var one sql.RawBytes
			if err := result.Scan(&one); err != nil {
				return "", err
			}
			rows = append(rows, string(one))
		}
		return strings.Join(rows, "\n"), result.Err()
	}
}

// barePostgres gives a session of the bare driver.
func barePostgres(t *testing.T, s *server, database string) *pgconn.PgConn {
	t.Helper()
	config := bareConfig(t, s.port)
	config.Database = database
	conn, err := pgconn.ConnectConfig(t.Context(), config)
	must(t, err)
	t.Cleanup(func() { _ = conn.Close(context.Background()) })
	return conn
}

// bareMariaDB gives one session of the bare driver, as warden_app unless set says otherwise.
func bareMariaDB(t *testing.T, s *server, set func(*mysql.Config)) *sql.DB {
	t.Helper()
	config := mysql.NewConfig()
	config.User, config.Passwd, config.Net, config.Addr, config.DBName = "warden_app", canary, "tcp", fmt.Sprintf("127.0.0.1:%d",
		s.port), "bunkhouse"
	set(config)
	connector, err := mysql.NewConnector(config)
	must(t, err)
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(1)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

// sessionOf logs in to a real server, without a profile.
func sessionOf(t *testing.T, name string, s *server) engine.Session {
	t.Helper()
	e := engine.Guarded(known.Engine(name))
	end := engine.Endpoint{At: route.Address{Network: "tcp", Host: "127.0.0.1", Port: s.port},
		Connect: func(ctx context.Context, at route.Address) (engine.Line, error) {
			conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(at.Host, strconv.Itoa(at.Port)))
			return engine.Line{Conn: conn, MayShow: true, Given: true, Secret: func(string) secret.Secret {
				return secret.New(canary)
			}}, err
		}}
	session, err := e.Open(t.Context(), end, engine.Login{User: "warden_app", Database: "bunkhouse"},
		func(string, string) {})
	must(t, err)
	t.Cleanup(session.Close)
	return session
}

// collected keeps the cells of all rows.
type collected struct {
	cells   []engine.Cell
	columns []engine.Column
}

func (c *collected) Columns(columns []engine.Column) error { c.columns = columns; return nil }
func (c *collected) Row(cells []engine.Cell) error         { c.cells = append(c.cells, cells...); return nil }
func (c *collected) Bytes([]byte) error                    { return nil }

// hostile are pieces of values that would mean something in a statement's text.
var hostile = []string{"'", `"`, "`", `\`, `\'`, "--", "-- \n", "/*", "*/", "#", ";", "$$", "$1", "?", "{{v0}}",
	"}}", "%", "_", "\n", "\r", "\t", "\x1a", "é", "𝄞", "select", " or 1=1", "drop table hut", "0x27",
	"\u2028", "'' '", `\\'`, "E'", "x'", "N'"}

// TestValuesAreNeverText sends generated values, fifty in a statement, and gets each back as it
// was. GENERATED=1000000 sends so many to each engine.
func TestValuesAreNeverText(t *testing.T) {
	t.Parallel()
	many := 10_000
	if n, err := strconv.Atoi(os.Getenv("GENERATED")); err == nil {
		many = n
	}
	const each = 50
	for _, name := range []string{"postgres", "mariadb"} {
		s := realServer(t, name)
		session := sessionOf(t, name, s)
		runner, _ := engine.As[engine.Runner](session)
		info, _ := known.Info(name)
		var places []string
		for i := range each {
			places = append(places, fmt.Sprintf("{{v%d}}", i))
		}
		statement := script.Split(info.Language, "select "+strings.Join(places, ", "))[0]
		random, text := rand.New(rand.NewPCG(1, 2)), ""
		for n := 0; n < many; n += each {
			values := script.Values{Given: map[string]engine.Value{}, Used: map[string]bool{}}
			var want []string
			for i := range each {
				var b strings.Builder
				for range random.IntN(6) {
					b.WriteString(hostile[random.IntN(len(hostile))])
				}
				v := engine.Value{Name: fmt.Sprintf("v%d", i), Kind: engine.Text, Text: b.String()}
				if random.IntN(4) == 0 {
					v.Kind = engine.Bytes
					v.Text += string([]byte{0, 0xff, 0x27, 0x5c}[random.IntN(4)])
				}
				values.Given[v.Name] = v
				want = append(want, v.Text)
			}
			bound, err := script.Bind(info.Language, statement, values)
			must(t, err)
			if text != "" && bound.To != text {
				t.Fatalf("the values changed the text:\n%s\n%s", text, bound.To)
			}
			text = bound.To
			got := &collected{}
			if _, err := runner.Run(t.Context(), engine.Statement{Text: bound.To, Values: bound.Values}, got); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			for i, cell := range got.cells {
				if cell.Text != want[i] || cell.Null {
					t.Fatalf("%s: %q came back as %q", name, want[i], cell.Text)
				}
			}
			if len(got.cells) != each {
				t.Fatalf("%s: %d cells", name, len(got.cells))
			}
		}
	}
}

// TestValuesGiven takes values from arguments, files and standard input, and refuses what is not
// right before anything is connected to.
func TestValuesGiven(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	// Nothing listens there: what is refused was refused before.
	nowhere := w.save("nowhere", "postgres", "--host", "127.0.0.1", "--port", strconv.Itoa(closedPort(t)),
		"--user", "u", "--secret", "env:PW")
	for about, c := range map[string]struct {
		args []string
		code int
		says string
	}{
		"an unknown name":  {[]string{"select {{least}}", "--let", "last:integer=1"}, 2, "did you mean {{last}}?"},
		"no values at all": {[]string{"select {{least}}"}, 2, "give one with --let least=VALUE"},
		"one that nothing uses": {[]string{"select 1", "--let", "n:integer=1"}, 2,
			"no statement has a place for the value n"},
		"one that is used once": {[]string{"select 1; select {{n}}; select {{m}}", "--let", "n:integer=1"}, 2,
			"statement 3, column 32"},
		"given twice": {[]string{"select {{n}}", "--let", "n=1", "--let", "n=2"}, 2, "given twice"},
		"no integer": {[]string{"select {{n}}", "--let", "n:integer=1x"}, 2,
			"the value n is not of the kind integer, which is written as digits, such as --let n:integer=-12"},
		"no date":               {[]string{"select {{n}}", "--let", "n:date=2026-02-30"}, 2, "is not of the kind date"},
		"no JSON":               {[]string{"select {{n}}", "--let", "n:json={"}, 2, "is not of the kind json"},
		"no bytes":              {[]string{"select {{n}}", "--let", "n:bytes=00ff"}, 2, `written as \x and two digits`},
		"no kind":               {[]string{"select {{n}}", "--let", "n:number=1"}, 2, "there are integer, decimal"},
		"no text":               {[]string{"select {{n}}", "--let", "n:integer"}, 2, "or as NAME:null for none"},
		"null with a text":      {[]string{"select {{n}}", "--let", "n:null=x"}, 2, "leave out = and what follows it"},
		"no name":               {[]string{"select {{n}}", "--let", "1n=x"}, 2, "begins with a letter"},
		"two of standard input": {[]string{"-", "--let-from", "n=-"}, 2, "only one thing can be read from standard input"},
		"no such file": {[]string{"select {{n}}", "--let-from", "n=nowhere.txt"}, 3,
			"the value n could not be read: no such file"},
		"no file":          {[]string{"select {{n}}", "--let-from", "n"}, 2, "--let-from takes a name and a file"},
		"spaces in a name": {[]string{"select {{n m}}", "--let", "n=1"}, 2, "write {{name}}"},
		"in a file": {[]string{"--from", w.write("bad.sql", "select 1;\n\n  select '{{n}}'"),
			"--let", "n=1"}, 2, "bad.sql, line 3, column 11"},
		"both of two":           {[]string{"select 1", "--keep-going", "--all-or-nothing"}, 2, "give one of them"},
		"what cannot be undone": {[]string{"select 1; vacuum", "--all-or-nothing"}, 2, "statement 2 begins with vacuum"},
		"what cannot be, in file": {[]string{"--from", w.write("c.sql",
			"select 1;\ncreate index\n concurrently i on t (a)"), "--all-or-nothing"}, 2,
			"c.sql, line 2, column 1 begins with create … concurrently"},
		"two forms": {[]string{"select 1", "--json", "--as", "csv"}, 2, "--json"},
	} {
		r := w.run(append([]string{"run", nowhere}, c.args...)...)
		if r.code != c.code || !strings.Contains(r.err, c.says) || strings.Contains(r.err, "port.refused") {
			t.Errorf("%s: exit %d\n%s", about, r.code, r.err)
		}
	}
	for _, name := range []string{"postgres", "mariadb"} {
		s := realServer(t, name)
		p := w.save("given-"+name, name, s.warden()...)
		file := w.write("note.txt", "two\nlines\n")
		photo := w.write("photo", "\x00\xff'\\")
		w.stdin = "{\"beds\": 12}\n"
		out := w.must(0, "run", p, "select {{note}} as note, {{photo}} as photo, {{more}} as more",
			"--let-from", "note="+file, "--let-from", "photo:bytes="+photo, "--let-from", "more:json=-", "--json").out
		w.stdin = ""
		var read struct{ Results []struct{ Rows [][]any } }
		must(t, json.Unmarshal([]byte(out), &read))
		if row := read.Results[0].Rows[0]; row[0] != "two\nlines\n" || row[1] != `\x00ff275c` ||
			!strings.Contains(fmt.Sprint(row[2]), "beds") {
			t.Errorf("%s: %v", name, row)
		}
		// Each kind is what it is, and a canary that is a value is in nothing but the result.
		out = w.must(0, "run", p, "select {{i}} + 0 as i, {{d}} + 0 as d, {{t}} as t, cast({{day}} as date) as "+
			"day, {{z}} is null as z",
			"--let", "i:integer=-3", "--let", "d:decimal=0.10", "--let", "t="+canary,
			"--let", "day:date=2026-02-14", "--let", "z:null", "--as", "bare").out
		if want := "-3\t0.10\t" + canary + "\t2026-02-14\t"; !strings.HasPrefix(out, want) {
			t.Errorf("%s: %q", name, out)
		}
		r := w.run("run", p, "select nothing_of_that_name from hut where name = {{t}}", "--let", "t="+canary)
		if r.code != 7 || strings.Contains(r.out+r.err, canary) {
			t.Errorf("%s: %s", name, r.err)
		}
		has(t, w.must(7, "run", p, map[string]string{"postgres": "select $2, {{t}}",
			"mariadb": "select ?, {{t}}"}[name], "--let", "t=1").err, "query.other-places")
	}
}
