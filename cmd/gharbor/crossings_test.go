//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	engines "gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/standin"
)

// serving has a function serve each connection to a listener, until the test ends.
func serving(t *testing.T, listener net.Listener, serve func(net.Conn)) {
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() { defer conn.Close(); serve(conn) }()
		}
	}()
}

// port makes a port of this machine that a function serves.
func port(t *testing.T, serve func(net.Conn)) int {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	serving(t, listener, serve)
	return listener.Addr().(*net.TCPAddr).Port
}

// slowly relays what a server says one byte a second, and what a client says as it comes. It
// gives its port.
func slowly(t *testing.T, to string) int {
	t.Helper()
	return port(t, func(client net.Conn) {
		server, err := net.Dial("tcp", to)
		if err != nil {
			return
		}
		go func() { _, _ = io.Copy(server, client); _ = server.Close() }()
		for b := make([]byte, 1); ; time.Sleep(time.Second) {
			if _, err := server.Read(b); err != nil {
				return
			}
			if _, err := client.Write(b); err != nil {
				return
			}
		}
	})
}

// ways are the kinds of connection to a server at a port of this machine: each gives the flags
// that lead there.
var ways = []struct {
	name  string
	flags func(h *hopped, e *standin.Engine, port int) []string
}{
	{"direct", func(_ *hopped, _ *standin.Engine, port int) []string {
		return []string{"--host", "127.0.0.1", "--port", fmt.Sprint(port)}
	}},
	{"one hop", func(h *hopped, _ *standin.Engine, port int) []string {
		return []string{"--host", "127.0.0.1", "--port", fmt.Sprint(port), "--via", h.via}
	}},
	{"two hops", func(h *hopped, _ *standin.Engine, port int) []string {
		return []string{"--host", "127.0.0.1", "--port", fmt.Sprint(port), "--via", h.via, "--via", h.via}
	}},
	{"a program", func(h *hopped, _ *standin.Engine, port int) []string {
		h.write(".ssh/config", fmt.Sprintf("Host gate\n  HostName 127.0.0.1\n  Port %d\n  ProxyCommand "+
			"/bin/bash -c 'exec 3<>/dev/tcp/%%h/%%p; cat <&3 & cat >&3'\n",
			h.sshd.Port))
		return []string{"--host", "127.0.0.1", "--port", fmt.Sprint(port), "--via", "gate"}
	}},
	{"a stream", func(_ *hopped, e *standin.Engine, port int) []string {
		e.Put(standin.Contained{Name: "hutdb", Image: "example/own",
			Streams: map[int]string{7777: fmt.Sprintf("127.0.0.1:%d", port)}})
		return []string{"--container", "{name: hutdb, port: 7777, reach: exec}"}
	}},
}

// TestSilenceAtEveryCrossing has servers of each engine fall silent at each point, and say one
// byte a second, behind each kind of connection: the leg ends in its time, an interruption ends
// the program immediately, and no login is left at the server.
func TestSilenceAtEveryCrossing(t *testing.T) {
	t.Parallel()
	for _, way := range ways {
		for _, engine := range []string{"postgres", "mysql", "oracle", "mongodb"} {
			t.Run(way.name+" "+engine, func(t *testing.T) {
				t.Parallel()
				h := newHopped(t, nil, "PW="+canary)
				e := practiceEngine(t, h.world)
				for _, silence := range []struct {
					about  string
					faults standin.Faults
					drip   bool
					codes  []string
				}{
					{"greeting", standin.Faults{Stall: true}, false, []string{"greeting.silent"}},
					{"login", standin.Faults{StallLogin: true}, false, []string{"login.silent"}},
					{"query", standin.Faults{StallQuery: true}, false, []string{"query.silent"}},
					{"facts", standin.Faults{After: "silence"}, false, []string{"query.silent"}},
					{"a byte a second", standin.Faults{}, true, []string{"greeting.silent"}},
				} {
					s := practice(t, standin.Config{Engine: engine, Faults: silence.faults})
					at := s.Port()
					if silence.drip {
						at = slowly(t, s.Address())
					}
					args := append([]string{"--engine", engine, "--user", "warden_app",
						"--database", "bunkhouse", "--secret", "env:PW", "--tls", "off"}, way.flags(h, e, at)...)
					name := strings.ReplaceAll(silence.about, " ", "-")
					h.must(0, append([]string{"add", name}, args...)...)
					var r result
					found := false
					// a busy machine needs the second for the legs before
					for _, limit := range []time.Duration{1500 * time.Millisecond, 6 * time.Second} {
						r = h.run("test", name, "--timeout", limit.String())
						if r.took > limit+3500*time.Millisecond || r.code == 0 {
							t.Errorf("%s: it ended after %s with %d", silence.about, r.took, r.code)
						}
						if found = strings.Contains(r.out, silence.codes[0]) ||
							strings.Contains(r.out, silence.codes[len(silence.codes)-1]); found {
							break
						}
					}
					if !found {
						t.Errorf("%s: %s%s", silence.about, r.out, r.err)
					}
					// With all the time in the world, Ctrl-C ends it.
					eventually(t, "the first test has left", func() bool { return s.Connections() == 0 })
					cmd := h.command("test", name, "--timeout", "60s", "--timeout-total", "60s")
					must(t, cmd.Start())
					eventually(t, "the server has a client", func() bool { return s.Connections() > 0 })
					time.Sleep(100 * time.Millisecond) // it waits by now
					began := time.Now()
					must(t, cmd.Process.Signal(os.Interrupt))
					_ = cmd.Wait()
					if took := time.Since(began); took > 200*time.Millisecond {
						t.Logf("%s: Ctrl-C took %s", silence.about, took)
					}
					if took := time.Since(began); took > 5*time.Second || cmd.ProcessState.ExitCode() != 130 {
						t.Errorf("%s: interrupted, it ended after %s with %d", silence.about, took, cmd.ProcessState.ExitCode())
					}
					eventually(t, "no login is left at the server", func() bool { return s.Connections() == 0 })
				}
			})
		}
	}
}

// crossed runs statements as a profile says: with values, as text and as JSON, from a file that
// includes another one, with a mistake in the middle, and at a terminal where the password is
// typed.
func (w *world) crossed(name string, typed bool) {
	w.Helper()
	const hostile = "'; drop table hut; --"
	r := w.must(0, "run", name, "select name from hut where height > {{least}} and name <> {{not}}; select "+
		"{{not}} as word",
		"--let", "least:integer=700", "--let", "not="+hostile, "--as", "jsonl", "--result", "2")
	if r.out != `{"word":"`+hostile+`"}`+"\n" {
		w.Errorf("%s: %s", name, r.out)
	}
	w.write("crossed/part.sql", "select name from hut\n where height > {{least}};\nselect nmae from hut;\n")
	file := w.write("crossed/main.sql", "-- gharbor: include part.sql\nselect 3 as three;\n")
	var read struct {
		Results []struct {
			Rows    [][]any
			Finding *struct{ Code string }
			At      *struct {
				File                      string
				Statement, Of, Done, Line int
			}
		}
		At *struct{ Statement int }
	}
	must(w.T, json.Unmarshal([]byte(w.must(7, "run", name, "--from", file, "--let", "least:integer=700",
		"--keep-going", "--json").out), &read))
	if last := len(read.Results) - 1; last != 2 || fmt.Sprint(read.Results[last].Rows) != "[[3]]" ||
		read.At == nil || read.At.Statement != 2 {
		w.Fatalf("%s: %+v", name, read)
	}
	if at := read.Results[1].At; read.Results[1].Finding == nil ||
		read.Results[1].Finding.Code != "query.no-such-object" || filepath.Base(at.File) != "part.sql" ||
		at.Line != 3 || at.Of != 3 || at.Done != 1 {
		w.Errorf("%s: %+v", name, at)
	}
	w.must(0, "run", name, "select count(*) from hut; begin; select 3; commit", "--guard", "read-only")
	has(w.T, w.must(7, "run", name, "select 3; begin; delete from hut", "--guard", "read-only").err,
		"the guard is read-only")
	args := []string{"run", name, "--from", file, "--let", "least:integer=700"}
	if typed {
		args = append(args, "--secret", "ask")
	}
	p := w.sit(args...)
	if typed {
		p.Answers("assword", canary)
	}
	p.Reads("Greystone")
	p.Reads("part.sql, line 3")
	if code, _ := p.Ends(); code != 7 || strings.Contains(p.Screen(), canary) {
		w.Errorf("%s: exit %d\n%s", name, code, p.Screen())
	}
}

// crossedBy is crossed, as far as an engine's sessions go: one that takes a statement at a time
// runs one.
func (w *world) crossedBy(engine, name string) {
	w.Helper()
	switch engine {
	case "mongodb":
		has(w.T, w.must(0, "survey", name, "tables", "--json").out, `"hut"`)
		if got := w.must(0, "run", name,
			`{"find": "hut", "filter": {"height": {"$gt": {{least}}}}, "sort": {"name": 1}, "batchSize": 1}`,
			"--let", "least:integer=700",
			"--as", "csv").out; got != "_id,name,height,valley\n1,Greystone,812,Wether Dale\n3,Old Quarry,1044,High Tarn\n" {
			w.Errorf("%s: %s", name, got)
		}
		return
	case "oracle":
	default:
		w.crossed(name, true)
		return
	}
	has(w.T, w.must(0, "run", name, "select name from hut where height > 700 order by name", "--as", "csv").out,
		"Greystone\nOld Quarry\n")
}

// TestRunAtEveryCrossing runs statements behind each kind of connection to servers of each
// engine, through a door, and over the sockets of real servers; and ends one whose server falls
// silent in the time that it may take.
func TestRunAtEveryCrossing(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mysql", "oracle", "mongodb"} {
		for _, way := range ways {
			t.Run(way.name+" "+engine, func(t *testing.T) {
				t.Parallel()
				h := newHopped(t, nil, "PW="+canary)
				e := practiceEngine(t, h.world)
				for name, faults := range map[string]standin.Faults{"good": {}, "silent": {StallQuery: true}} {
					s := practice(t, standin.Config{Engine: engine, Faults: faults})
					args := append([]string{"--engine", engine, "--user", "warden_app",
						"--database", "bunkhouse", "--secret", "env:PW", "--tls", "off"}, way.flags(h, e, s.Port())...)
					h.must(0, append([]string{"add", name}, args...)...)
					if name == "good" {
						h.crossedBy(engine, name)
						continue
					}
					info, _ := known.Info(engine)
					statement := "select 1"
					if info.Language.Objects != nil {
						statement = `{"ping": 1}`
					}
					r := h.run("run", name, statement, "--for", "500ms")
					if r.code != 7 || !strings.Contains(r.err, "query.over-time") || r.took > 15*time.Second {
						t.Errorf("exit %d after %s\n%s", r.code, r.took, r.err)
					}
					if info.Language.Objects == nil { // its servers end what nobody waits for
						has(t, r.err, "may go on at the server")
					}
				}
			})
		}
		t.Run("a door "+engine, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t, "PW="+canary)
			s := practice(t, standin.Config{Engine: engine})
			w.wardens("behind", engine, s, "--tls", "off")
			hold := []string{"behind"}
			if info, _ := known.Info(engine); !info.Able(engines.Leads) {
				hold = append(hold, "--pass-through")
			}
			door, _, _ := w.open(hold...)
			w.must(0, "add", "through", "--engine", engine, "--host", door.Host,
				"--port", fmt.Sprint(door.Port), "--user", "warden_app", "--database", "bunkhouse",
				"--secret", "env:PW", "--tls", "off")
			w.crossedBy(engine, "through")
		})
	}
	for _, engine := range []string{"postgres", "mariadb"} {
		t.Run("a socket "+engine, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			s := realServer(t, engine)
			as := map[string][]string{"postgres": {"overseer", "none"}, "mariadb": {"root", "empty"}}[engine]
			owner := w.save("owner", engine, "--socket", s.socket, "--user", as[0], "--secret", as[1])
			w.must(0, "run", owner, "create database crossed"+engine)
			w.must(0, "add", "socket", "--base", owner, "--database", "crossed"+engine)
			w.must(0, "run", "socket",
				"create table hut (name varchar(20), height int); insert into hut values ('Greystone', 812), ('Larkrise', 640)")
			w.crossed("socket", false)
		})
	}
}

// TestScriptsAtEveryCrossing runs what only real servers have behind each kind of connection,
// encrypted and checked: data below a statement, a file of this machine, what the server says
// beside its answers, and all or nothing.
func TestScriptsAtEveryCrossing(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mariadb"} {
		s := realServer(t, engine)
		for i, way := range ways {
			t.Run(way.name+" "+engine, func(t *testing.T) {
				t.Parallel()
				h := newHopped(t, nil, "PW="+canary)
				e := practiceEngine(t, h.world)
				at := append([]string{"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW",
					"--tls", "verify", "--tls-ca", s.ca, "--tls-server-name", "db.fellside.example"},
					way.flags(h, e, s.port)...)
				h.scripted(h.save("p", engine, at...), engine, fmt.Sprintf("crossed%d", i))
			})
		}
		t.Run("a door "+engine, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t, "PW="+canary)
			p := w.save("p", engine, append(s.at("127.0.0.1"), "--user", "warden_app",
				"--database", "bunkhouse", "--secret", "env:PW", "--tls", "verify", "--tls-ca", s.ca,
				"--tls-server-name", "db.fellside.example")...)
			door, _, _ := w.open(p)
			through := w.save("through", engine, "--host", door.Host, "--port", fmt.Sprint(door.Port),
				"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW", "--tls", "off")
			w.scripted(through, engine, "crosseddoor")
		})
	}
}

// scripted runs a script with data, notices and all or nothing, in a table of its own.
func (w *world) scripted(name, engine, table string) {
	w.Helper()
	w.must(0, "run", name, "create table "+table+" (n int primary key, name varchar(40))")
	w.write("scripted/rows.tsv", "1\tit's; a {{hut}}\n2\t\\N\n")
	data := map[string]string{"postgres": "copy " + table + " from stdin;\n1\tit's; a {{hut}}\n2\t\\N\n\\.\n",
		"mariadb": "load data local infile 'rows.tsv' into table " + table + ";\n"}[engine]
	speaks := map[string]string{"postgres": "do $$ begin raise notice 'the hut is full'; end $$;\n",
		"mariadb": "do cast('x' as integer);\n"}[engine]
	said := map[string]string{"postgres": "the hut is full", "mariadb": "Truncated incorrect INTEGER value"}[engine]
	main := func(more string) string {
		return w.write("scripted/main.sql", data+speaks+"update "+table+" set name = {{name}} where n = 2;\n"+more)
	}
	count := func() string {
		return w.must(0, "run", name, "select count(*), min(name), max(name) from "+table+" where n < 7", "--as", "bare").out
	}
	r := w.must(7, "run", name, "--from", main("insert into "+table+" values (1, 'again');\n"),
		"--let", "name=z; hut", "--all-or-nothing")
	has(w.T, r.err, "main.sql, line ", "nothing of them stays", said)
	if got := count(); !strings.HasPrefix(got, "0\t") {
		w.Errorf("%s: %q", name, got)
	}
	r = w.must(0, "run", name, "--from", main(""), "--let", "name=z; hut", "--all-or-nothing")
	has(w.T, r.err, said)
	if got := count(); got != "2\tit's; a {{hut}}\tz; hut\n" {
		w.Errorf("%s: %q\n%s", name, got, r.err)
	}
	// So does a file's rows, and a row that does not fit.
	w.must(0, "load", name, table, w.write("scripted/rows.csv", "name,n\n\"a, b\",3\n,4\n"))
	has(w.T, w.must(7, "load", name, table, w.write("scripted/rows.csv", "name,n\nc,5\nd,six\n")).err,
		"rows.csv, line 3 was not taken: the column n has \"six\"")
	if got := w.must(0, "run", name, "select n, name from "+table+" where n in (3, 4, 5) order by n",
		"--as", "bare").out; got != "3\ta, b\n4\t\n" {
		w.Errorf("%s: %q", name, got)
	}
	w.must(0, "run", name, "delete from "+table+" where n in (3, 4)")
	// What is there is listed, as text and as JSON.
	has(w.T, w.must(0, "survey", name, "--guard", "read-only").out, "warden_app", " in bunkhouse at ", "tables",
		"sessions")
	if got := w.survey(name, "tables", "--like", table).column(w.T, "table"); len(got) != 1 || got[0] != table {
		w.Errorf("%s: %v", name, got)
	}
	has(w.T, strings.Join(w.survey(name, "columns", "--on", table).column(w.T, "column"), " "), "n name")
	if l := w.survey(name, "rights"); len(l.Rows) == 0 || !strings.HasPrefix(fmt.Sprint(l.Rows[0][0]), "warden_app") {
		w.Errorf("%s: %v", name, l.Rows)
	}
	// other tests change rights in this database meanwhile
	if l := w.survey(name, "rights", "--since-last"); l.Since == "" {
		w.Errorf("%s: %+v", name, l)
	}
	// A guard holds there, too.
	if out := w.must(0, "run", name, "select count(*) from "+table+" where n < 7", "--guard", "read-only",
		"--as", "bare").out; out != "2\n" {
		w.Errorf("%s: %q", name, out)
	}
	has(w.T, w.must(7, "run", name, "select 1; delete from "+table, "--guard", "read-only").err, "the guard is read-only")
	w.must(2, "run", name, "delete from "+table, "--guard", "confirm")
	if got := count(); !strings.HasPrefix(got, "2\t") {
		w.Errorf("%s: %q", name, got)
	}
}
