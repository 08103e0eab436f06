//go:build unix

package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// refusals has statements that the real servers refuse, what that means, and what is said of it.
var refusals = []struct {
	about, engine string // "" for both
	as            string // the profile: "owner", "warden" or "reader"
	statement     string
	code          string
	says          []string
}{
	{"your own database", "postgres", "crowded", "drop database crowded", "query.database-in-use",
		[]string{"this session has it open itself",
			"crowded open itself: connect to another one: --database postgres"}},
	{"a database in use", "postgres", "owner", "drop database held", "query.database-in-use",
		[]string{"of user warden_app, from 127.0.0.1, has it open", "its detail: There "}},
	{"a table in use", "", "warden", "lock", "query.in-use", nil},
	{"a table that is there", "", "warden", "create table said_hut (n int)", "query.exists-already", nil},
	{"a database that is there", "", "owner", "create database bunkhouse", "query.exists-already", nil},
	{"a table of a near name", "", "warden", "select * from said_hutt", "query.no-such-object",
		[]string{"One of a near name is there: said_hut"}},
	{"a database of a near name", "", "owner", "drop database bunkhous", "query.no-such-database",
		[]string{"A database of a near name is there: bunkhouse"}},
	{"use of a near name", "mariadb", "owner", "use bunkhous", "query.no-such-database",
		[]string{"A database of a near name is there: bunkhouse"}},
	{"no database", "mariadb", "owner", "select * from hut", "query.no-database", nil},
	{"no right", "postgres", "reader", "select * from said_hut", "query.no-right",
		[]string{"the owner of public.said_hut is warden_app",
			`Have its owner warden_app grant the right: grant select on "public"."said_hut" to "reader"`}},
	{"no right to change", "postgres", "reader", "delete from said_hut", "query.no-right", []string{"grant delete on"}},
	{"no right", "mariadb", "reader", "select * from bunkhouse.said_hut", "query.no-right",
		[]string{"grant select on `bunkhouse`.`said_hut` to `said_reader`@`127.0.0.1`"}},
	{"cancelled", "postgres", "warden", "select pg_cancel_backend(pg_backend_pid()), pg_sleep(9)",
		"query.stopped", []string{"a user stopped it"}},
	{"a limit of the server's", "postgres", "warden", "set statement_timeout = 50; select pg_sleep(9)",
		"query.over-limit", []string{"The statement 2 of 2 failed"}},
	{"a limit of the server's", "mariadb", "warden", "set max_statement_time = 0.05; select sleep(9)",
		"query.over-limit", nil},
	{"no space", "mariadb", "warden",
		"set max_heap_table_size = 16384; create temporary table m (a char(255)) engine = memory; insert into m " +
			"select 'x' from seq_1_to_10000",
		"query.disk-full", nil},
	{"read-only", "", "warden", "start transaction read only; insert into said_hut values (9, 'x')",
		"query.read-only", []string{"in a transaction that was not committed"}},
	{"the connection ends", "postgres", "warden",
		"select 1; select pg_terminate_backend(pg_backend_pid()); select 3", "query.closed",
		[]string{"Those before it were done. Whether this one was done is not known"}},
	{"the connection ends", "mariadb", "warden", "select 1; kill connection_id(); select 3", "query.closed",
		[]string{"Those before it were done. Whether this one was done is not known"}},
	{"too large", "", "warden", "insert into said_hut values (99999999999, 'x')", "query.out-of-range", nil},
	{"too long", "", "warden", "insert into said_hut values (9, 'a name that is too long')", "query.out-of-range", nil},
	{"not a number", "", "warden", "insert into said_hut values ('nine', 'x')", "query.wrong-type", nil},
	{"not a date", "postgres", "warden", "select cast('2026-02-31' as date)", "query.out-of-range", nil},
	{"twice", "postgres", "warden", "insert into said_hut values (1, 'x')", "query.constraint",
		[]string{"its detail: Key (n)=(1) already exists.", "its table: said_hut", "its constraint: said_hut_pkey"}},
	{"twice", "mariadb", "warden", "insert into said_hut values (1, 'x')", "query.constraint", nil},
	{"in a function", "postgres", "warden", "do $$ begin perform 1/0; end $$", "query.unknown",
		[]string{"its context: SQL statement", "this is all that was said"}},
	{"a word", "", "warden", "select 1;\n\n select 2 frm said_hut x", "query.syntax",
		[]string{"The statement 2 of 2 failed: line 3, column ", "      select 2 frm said_hut x\n"}},
	{"the end", "", "warden", "select * from said_hut where", "query.syntax",
		[]string{"The statement failed: column 29",
			"      select * from said_hut where\n                                  ^"}},
	{"letters of two bytes", "postgres", "warden", "select 'ü', 'ü' frm x y", "query.syntax", []string{"column 21"}},
	{"data that is copied in", "postgres", "warden", "copy said_hut from stdin", "query.wrong-type",
		[]string{"its context: COPY said_hut, line 2, column n"}},
	{"a password in the text", "postgres", "warden", "create role x password 'canary-of-the-text' frm",
		"query.syntax", []string{"column 45"}},
}

// TestWhatServersSay has the real servers refuse statements, and reads what is said: the finding,
// the place, and what the server said beside it.
func TestWhatServersSay(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"postgres", "mariadb"} {
		w := newWorld(t, "PW="+canary)
		s := realPostgres(t)
		owner := "overseer"
		if name == "mariadb" {
			s, owner = realMariaDB(t), "root"
		}
		profiles := map[string]string{}
		profiles["warden"] = w.save("warden-"+name, name, s.warden()...)
		own := []string{"--socket", s.socket, "--user", owner, "--secret", "empty"}
		if name == "postgres" {
			own[5] = "none"
		}
		profiles["owner"] = w.save("owner-"+name, name, own...)
		w.must(0, "run", profiles["warden"],
			"create table said_hut (n int primary key, name varchar(9)); insert into said_hut values (1, 'a'), (2, 'b')")
		if name == "postgres" {
			// The server waits for five seconds before it refuses to drop one, and lets nobody in
			// meanwhile: it is no other test's.
			w.must(0, "run", profiles["owner"], "create database crowded; create database held")
			_ = barePostgres(t, s, "held")
			profiles["crowded"] = w.save("crowded", name, append(own, "--database", "crowded")...)
			profiles["reader"] = w.save("reader-"+name, name,
				append(s.at("127.0.0.1"), "--user", "reader", "--database", "bunkhouse",
					"--secret", "file:"+w.write("reader", "reader"))...)
		} else {
			w.must(0, "run", profiles["owner"],
				"create user said_reader@127.0.0.1 identified by 'reader'; grant create temporary tables on "+
					"bunkhouse.* to said_reader@127.0.0.1")
			profiles["reader"] = w.save("reader-"+name, name,
				append(s.at("127.0.0.1"), "--user", "said_reader", "--secret", "file:"+w.write("reader", "reader"))...)
		}
		holding := sessionOf(t, name, s) // has the database open
		for _, c := range refusals {
			if c.engine != "" && c.engine != name {
				continue
			}
			statement := c.statement
			if statement == "lock" {
				runner, _ := engine.As[engine.Runner](holding)
				must(t, runner.Do(t.Context(), engine.Statement{Text: "begin"}))
				must(t, runner.Do(t.Context(), engine.Statement{Text: "update said_hut set name = 'c' where n = 1"}))
				statement = map[string]string{"postgres": "set lock_timeout = 50; delete from said_hut where n = 1",
					"mariadb": "set innodb_lock_wait_timeout = 1; delete from said_hut where n = 1"}[name]
			}
			if strings.HasPrefix(statement, "copy") {
				w.stdin = "7\tx\nseven\ty\n"
			}
			r := w.run("run", profiles[c.as], statement)
			w.stdin = ""
			if c.statement == "lock" {
				runner, _ := engine.As[engine.Runner](holding)
				must(t, runner.Do(t.Context(), engine.Statement{Text: "rollback"}))
			}
			if r.code != 7 || !strings.Contains(r.err, "finding "+c.code+"\n") ||
				strings.Contains(r.err, canary) || strings.Contains(r.err, "canary-of-the-text") {
				t.Errorf("%s, %s: exit %d, not %s\n%s", name, c.about, r.code, c.code, r.err)
			}
			for _, says := range c.says {
				if !strings.Contains(r.err, says) {
					t.Errorf("%s, %s: %q is not said\n%s", name, c.about, says, r.err)
				}
			}
		}
		// Two sessions that wait for each other: one is refused, and the other one goes on.
		a, _ := engine.As[engine.Runner](holding)
		b, _ := engine.As[engine.Runner](sessionOf(t, name, s))
		step := func(r engine.Runner, text string) error { return r.Do(t.Context(), engine.Statement{Text: text}) }
		for i, r := range []engine.Runner{a, b} {
			must(t, step(r, "begin"))
			must(t, step(r, fmt.Sprintf("update said_hut set name = 'd' where n = %d", i+1)))
		}
		waits := make(chan error)
		go func() { waits <- step(a, "update said_hut set name = 'd' where n = 2") }()
		second := step(b, "update said_hut set name = 'd' where n = 1")
		var p *finding.Problem
		if first := <-waits; !errors.As(errors.Join(first, second), &p) || p.Code != finding.QueryDeadlock ||
			first != nil && second != nil {
			t.Errorf("%s: %v, %v", name, first, second)
		}
		// Notices and warnings are printed, and are in JSON; a secret in one is masked.
		note := map[string]string{
			"postgres": "do $$ begin raise warning 'mind the % step', '" + canary +
				"' using detail = 'a detail', hint = 'a hint'; end $$",
			"mariadb": "set sql_mode = ''; insert into said_hut values (8, '" + canary + "')",
		}[name]
		r := w.must(0, "run", profiles["warden"], note, "--json")
		var read struct {
			Results []struct {
				Did     string
				Notices []struct{ Level, Code, Text, Detail, Hint string }
			}
		}
		must(t, json.Unmarshal([]byte(r.out), &read))
		last := read.Results[len(read.Results)-1]
		want := map[string]string{"postgres": "{WARNING 01000 mind the [secret] step a detail a hint}",
			"mariadb": "{Warning 1265 Data truncated for column 'name' at row 1  }"}[name]
		if len(last.Notices) != 1 || fmt.Sprint(last.Notices[0]) != want || strings.Contains(r.out+r.err, canary) {
			t.Errorf("%s: %+v\n%s", name, last.Notices, r.err)
		}
		has(t, r.err, map[string]string{"postgres": "WARNING (01000): mind the [secret] step\n  detail: a " +
			"detail\n  hint: a hint\n",
			"mariadb": "Warning (1265): Data truncated"}[name])
		many := map[string]string{"postgres": "do $$ begin for i in 1..200 loop raise notice 'n%', i; end loop; end $$",
			"mariadb": "set sql_mode = ''; create temporary table w (a tinyint); insert into w select 1000 from " +
				"seq_1_to_200"}[name]
		r = w.must(0, "run", profiles["warden"], many)
		if n := strings.Count(r.err, map[string]string{"postgres": "NOTICE (",
			"mariadb": "Warning ("}[name]); n != engine.MostNotices || !strings.Contains(r.err, "more") {
			t.Errorf("%s: %d notices\n%s", name, n, r.err)
		}
		// What was done is said, and what ends with the session.
		for statement, says := range map[string]string{"begin": "a transaction is open",
			"create table said_two (n int); drop table said_two": "",
			"set " + map[string]string{"postgres": "work_mem = '1MB'",
				"mariadb": "@x = 1"}[name]: "what set does holds in one session"} {
			r := w.must(0, "run", profiles["warden"], statement)
			if !strings.Contains(r.err, says) || strings.Contains(r.out, "0 rows") {
				t.Errorf("%s, %s: %s%s", name, statement, r.out, r.err)
			}
			if says == "" && (strings.Contains(r.err, "note:") || r.out != "Done: CREATE TABLE\nDone: DROP TABLE\n") {
				t.Errorf("%s, %s: %s%s", name, statement, r.out, r.err)
			}
		}
	}
}
