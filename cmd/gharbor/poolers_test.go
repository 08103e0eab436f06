//go:build unix

package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"gentle-harbor/internal/realtest"
	"gentle-harbor/internal/standin"

	"github.com/jackc/pgx/v5/pgconn"
)

// pooler starts a real pooler before the real PostgreSQL server. A line of more with a database's name
// in it is one of databases.
func pooler(t *testing.T, mode string, more ...string) (port int) {
	t.Helper()
	var databases []string
	if i := slices.IndexFunc(more, func(line string) bool { return strings.Contains(line, " dbname=") }); i >= 0 {
		databases, more = more[i:i+1:i+1], slices.Delete(slices.Clone(more), i, i+1)
	}
	return realtest.Pooler(t, realFolder, poolerProgram, realPostgres(t).port, mode,
		map[string]string{"warden_app": canary, "overseer": "overseer"}, databases, more)
}

// client is another client of a pooler: what its session is.
func (w *world) client(port int, password string) func() string {
	return func() string {
		w.Helper()
		ctx, cancel := context.WithTimeout(w.Context(), 10*time.Second)
		defer cancel()
		conn, err := pgconn.Connect(ctx,
			fmt.Sprintf("postgres://warden_app:%s@127.0.0.1:%d/bunkhouse?sslmode=disable", password, port))
		must(w.T, err)
		defer conn.Close(ctx)
		all, err := conn.Exec(ctx, "select current_user, current_setting('search_path'), "+
			"current_setting('timezone'), current_setting('statement_timeout'), (select count(*) from "+
			"pg_prepared_statements), (select count(*) from pg_class where relpersistence = 't'), (select "+
			"count(*) from pg_listening_channels())").ReadAll()
		must(w.T, err)
		var words []string
		for _, value := range all[0].Rows[0] {
			words = append(words, string(value))
		}
		return strings.Join(words, " | ")
	}
}

// TestPoolersKeepTheirSessions runs each command through a real pooler in each of its modes, with
// one server session for all clients: the next client's user, search path, time zone, prepared
// statements and tables are as they were. What would last is refused where the session is shared,
// and done where the profile says that it is not.
func TestPoolersKeepTheirSessions(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	for _, mode := range []string{"transaction", "session", "statement"} {
		port := pooler(t, mode)
		next := w.client(port, canary)
		clean := next()
		w.must(0, "add", mode, "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(port),
			"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
		statements := mode != "statement"
		for _, c := range []struct {
			args []string
			code int    // of the command, as it is found out and with --pooled transaction
			says string // in its output
		}{
			{[]string{"test"}, 0, "a pooler, which may give each statement another session"},
			{[]string{"test", "--json"}, 0, `"pooled": true`},
			{[]string{"test", "--role", "helper"}, 0, "acting as helper"},
			{[]string{"test", "--role", "overseer"}, 6, "login.role-refused"},
			{[]string{"test", "--role", "helper", "--expect", "superuser=false",
				"--expect", "tables=pg_catalog.pg_class"}, 0, "expectations are met"},
			{[]string{"run", "select current_user", "--role", "helper"},
				map[bool]int{true: 0, false: 7}[statements],
				map[bool]string{true: "helper", false: "database.pooled"}[statements]},
			{[]string{"run", "select 1"}, 0, "1 row"},
			{[]string{"run", "select {{v}} + 37; select 2", "--let", "v:integer=4"}, 0, "41"},
			{[]string{"run", "select {{v}} || current_user", "--let", "v=is ", "--role", "helper"},
				map[bool]int{true: 0, false: 7}[statements],
				map[bool]string{true: "is helper", false: "database.pooled"}[statements]},
			{[]string{"run", "select 1; select {{v}}", "--let", "v:integer=42", "--all-or-nothing"},
				map[bool]int{true: 0, false: 7}[statements],
				map[bool]string{true: "42", false: "database.pooled"}[statements]},
			{[]string{"run", "select pg_sleep(20)", "--for", "100ms"}, 7, "query.over-time"},
			{[]string{"run", "select 41 + 1", "--guard", "read-only"},
				map[bool]int{true: 0, false: 7}[statements],
				map[bool]string{true: "42", false: "database.pooled"}[statements]},
			{[]string{"run", "begin; select 41 + 1; commit", "--guard", "read-only"},
				map[bool]int{true: 0, false: 7}[statements],
				map[bool]string{true: "42", false: "database.pooled"}[statements]},
			{[]string{"survey", "databases"}, 0, "bunkhouse"},
			{[]string{"survey", "databases", "--role", "helper"}, 0, "bunkhouse"},
			{[]string{"await", "--for", "5s", "--role", "helper"}, 0, "passed after 1 test"},
			{[]string{"test", "--on-open", "set search_path to bunk"}, 7, "database.pooled"},
			{[]string{"run", "select 1", "--on-open", "set search_path to bunk"}, 7, "database.pooled"},
			{[]string{"run", "set search_path to bunk"}, 7, "database.pooled"},
			{[]string{"run", "/* late */ SET  timezone to 'UTC+3'"}, 7, "database.pooled"},
			{[]string{"run", "prepare p as select 1"}, 7, "database.pooled"},
			{[]string{"run", "create temp table hut (name text)"}, 7, "database.pooled"},
			{[]string{"run", "listen huts"}, 7, "database.pooled"},
			{[]string{"run", "set local timezone to 'UTC'"}, 0, ""},
		} {
			for _, pooled := range [][]string{nil, {"--pooled", "transaction"}} {
				args := append([]string{c.args[0], mode}, append(c.args[1:len(c.args):len(c.args)], pooled...)...)
				r := w.run(args...)
				if out := r.out + r.err; r.code != c.code || !strings.Contains(out, c.says) {
					t.Errorf("%s: %v: exit %d, not %d with %q:\n%s", mode, args, r.code, c.code, c.says, out)
				}
				if now := next(); now != clean {
					t.Errorf("%s: after %v the next client is %s, and was %s", mode, args, now, clean)
				}
			}
		}
		// What the pooler does not take at the login.
		option := []string{"--option", "search_path=pg_catalog,public", "--option", "statement_timeout=7000"}
		f := w.fails("settings.option-pooled", append([]string{mode}, option...)...)
		has(t, f.Cause+strings.Join(tries(f), "\n"), "search_path", "--pooled transaction")
		has(t, w.must(0, append([]string{"test", mode, "--pooled", "transaction"}, option...)...).out, "You are in")
		if statements {
			has(t, w.must(0, append([]string{"run", mode,
				"select current_setting('search_path'), current_setting('statement_timeout')",
				"--pooled", "transaction"}, option...)...).out, "pg_catalog,public", "7s")
		}
		w.fails("settings.option-refused", mode, "--pooled", "transaction", "--option", "statement_timeout=soon")
		// A pooler that gives each client a session takes it all, and has it back.
		if mode == "session" {
			for _, args := range [][]string{
				append([]string{"test", mode, "--role", "helper"}, option...),
				{"test", mode, "--on-open", "set search_path to bunk"},
				{"run", mode, "set search_path to bunk"}, append([]string{"run", mode, "select 1", "--role", "helper"}, option...),
			} {
				w.must(0, append(args, "--pooled", "session")...)
				if now := next(); now != clean {
					t.Errorf("%s: after %v the next client is %s", mode, args, now)
				}
			}
			has(t, w.must(0, append([]string{"run", mode, "select current_user, current_setting('search_path')",
				"--role", "helper", "--pooled", "session"}, option...)...).out, "helper", "pg_catalog,public")
			w.fails("login.role-refused", mode, "--pooled", "session", "--role", "overseer")
		}
		d, _, _ := w.open(mode)
		if err := d.enters(t, "postgres", "warden_app"); err != nil {
			t.Errorf("%s, a door: %v", mode, err)
		}
		w.must(0, "release", mode)
		w.must(0, "with", mode, "--", "true")
		w.must(0, "expect", mode)
		w.must(0, "test", mode)
		if now := next(); now != clean {
			t.Errorf("%s: the next client is %s, and was %s", mode, now, clean)
		}
		has(t, tries(w.fails("database.missing", mode, "--database", "bunkhous"))[0], "gharbor")
		f = w.fails("database.no-server", mode, "--database", "down", "--timeout", "2s")
		has(t, f.Cause, "accepted the login and gives no session")
	}
	// The server itself is no pooler, and takes it all.
	pg := realPostgres(t)
	w.must(0, append([]string{"add", "direct", "--engine", "postgres", "--user", "warden_app",
		"--database", "bunkhouse", "--secret", "env:PW"}, pg.at("127.0.0.1")...)...)
	if out := w.must(0, "test", "direct", "--role", "helper", "--option", "search_path=public",
		"--on-open", "set timezone to 'UTC'").out; strings.Contains(out, "pooler") {
		t.Error(out)
	}
	w.must(0, "run", "direct", "set timezone to 'UTC'")
}

// TestAFullPooler has a pooler whose only session another client holds, in a transaction: the
// wait is said to be the pooler's, and Ctrl-C ends it.
func TestAFullPooler(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	port := pooler(t, "transaction", "query_wait_timeout = 2")
	w.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(port),
		"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
	w.must(0, "test", "p")
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	conn, err := pgconn.Connect(ctx, fmt.Sprintf("postgres://warden_app:%s@127.0.0.1:%d/bunkhouse?sslmode=disable",
		canary, port))
	must(t, err)
	_, err = conn.Exec(ctx, "begin").ReadAll()
	must(t, err)
	w.fails("database.no-server", "p", "--timeout", "8s")
	_, err = conn.Exec(ctx, "commit").ReadAll()
	must(t, err)
	_ = conn.Close(ctx)
	w.must(0, "test", "p")
	// The pooler remembers a server that goes: it takes the login, and no statement is answered.
	pg := realPostgres(t)
	var open sync.Map
	var gone atomic.Bool
	relay := plainServer(t, func(conn net.Conn) {
		server, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", pg.port))
		if gone.Load() || err != nil {
			return
		}
		open.Store(server, true)
		go func() { _, _ = io.Copy(server, conn); _ = server.Close() }()
		_, _ = io.Copy(conn, server)
	})
	forgets := fmt.Sprint(pooler(t, "transaction",
		fmt.Sprintf("relayed = host=127.0.0.1 port=%d dbname=bunkhouse", relay)))
	w.must(0, "test", "p", "--port", forgets, "--database", "relayed")
	gone.Store(true)
	open.Range(func(server, _ any) bool { _ = server.(net.Conn).Close(); return true })
	f := w.fails("query.silent", "p", "--port", forgets, "--database", "relayed", "--timeout", "2s")
	has(t, strings.Join(tries(f), "\n"), "If a pooler is in between, its server may be down")
	few := pooler(t, "transaction", "max_client_conn = 1")
	var held *pgconn.PgConn
	eventually(t, "the only place is free", func() bool {
		held, err = pgconn.Connect(ctx,
			fmt.Sprintf("postgres://warden_app:%s@127.0.0.1:%d/bunkhouse?sslmode=disable", canary, few))
		return err == nil
	})
	defer held.Close(ctx)
	w.fails("database.too-many-connections", "p", "--port", fmt.Sprint(few))
}

// TestThroughAProxy goes through a real haproxy to real servers: it is in nobody's way where its
// server is up, and a closed connection says after which time, and that a proxy without a server
// does that.
func TestThroughAProxy(t *testing.T) {
	t.Parallel()
	pg, maria := realPostgres(t), realMariaDB(t)
	w := newWorld(t, "PW="+canary)
	for engine, at := range map[string]int{"postgres": pg.port, "mariadb": maria.port} {
		w.must(0, "add", engine, "--engine", engine, "--host", "127.0.0.1",
			"--port", fmt.Sprint(realtest.Proxy(t, fmt.Sprintf("127.0.0.1:%d", at))), "--user", "warden_app",
			"--database", "bunkhouse", "--secret", "env:PW")
		if out := w.must(0, "test", engine, "--role", "helper").out; strings.Contains(out, "pooler") {
			t.Error(out)
		}
		w.must(0, "run", engine, "select 1")
		down := fmt.Sprint(realtest.Proxy(t, fmt.Sprintf("127.0.0.1:%d", closedPort(t))))
		f := w.fails("greeting.closed", engine, "--port", down, "--timeout", "10s")
		if !regexp.MustCompile(`closed it after ([1-9]\d\d+ms|\d(\.\d)?s), without a word`).MatchString(f.Cause) {
			t.Errorf("%s: %s", engine, f.Cause)
		}
		has(t, strings.Join(tries(f), "\n"), "a proxy or a forwarder whose server cannot be reached")
		silent := fmt.Sprint(realtest.Proxy(t,
			fmt.Sprintf("127.0.0.1:%d", plainServer(t, func(conn net.Conn) { _, _ = io.Copy(io.Discard, conn) }))))
		has(t, strings.Join(tries(w.fails("greeting.silent", engine, "--port", silent, "--timeout", "1s")),
			"\n"), "A proxy with no server behind it")
	}
	// One that announces its clients to a server that does not want to know.
	announcing := fmt.Sprint(realtest.Proxy(t, fmt.Sprintf("127.0.0.1:%d send-proxy", pg.port)))
	has(t, strings.Join(tries(w.fails("greeting.closed", "postgres", "--port", announcing)), "\n"), "PROXY protocol")
	// And one that takes us for its server.
	for _, first := range []string{"PROXY TCP4 192.0.2.1 192.0.2.2 5 5432\r\n", "\r\n\r\n\x00\r\nQUIT\n\x21\x11\x00\x0c"} {
		at := plainServer(t, func(conn net.Conn) {
			_, _ = io.WriteString(conn, first)
			_, _ = io.Copy(io.Discard, conn)
		})
		for _, engine := range []string{"postgres", "mariadb"} {
			has(t, w.fails("greeting.not-a-database", engine, "--port", fmt.Sprint(at), "--tls", "off").Cause, "PROXY protocol")
		}
	}
}

// kin starts a server that other people wrote, which only speaks the protocol of MySQL.
func kin(t *testing.T) (port int) {
	t.Helper()
	port = freePort(t)
	cmd := exec.Command(realtest.Built(t, "testdata/mysqlkin"), fmt.Sprintf("127.0.0.1:%d", port))
	cmd.Env = append(os.Environ(), "PW="+canary)
	log := filepath.Join(realFolder, "mysqlkin.log")
	launch(t, cmd, log)
	until(t, "mysqlkin", log, func() bool { return realtest.Accepts(port) })
	return port
}

// TestAServerOfAnotherMake meets a server that speaks the protocol of MySQL and is none: what it
// does not know is unknown and no failure, and no product is claimed that it is not. It is
// reached directly, through a hop and through a door.
func TestAServerOfAnotherMake(t *testing.T) {
	t.Parallel()
	port := kin(t)
	h := newHopped(t, nil, "PW="+canary)
	add := func(name string, more ...string) {
		h.must(0, append([]string{"add", name, "--engine", "mysql", "--host", "127.0.0.1",
			"--port", fmt.Sprint(port), "--user", "warden_app", "--database", "bunkhouse",
			"--secret", "env:PW"}, more...)...)
	}
	add("direct")
	add("hop", "--via", h.via)
	h.must(0, "run", "direct", "create table hut (name varchar(20))")
	has(t, h.must(0, "run", "direct", "insert into hut values ('Greystone')").out, "1 row changed")
	for _, name := range []string{"direct", "hop"} {
		out := h.must(0, "test", name).out
		has(t, out, "which speaks the protocol of MySQL 8")
		if strings.Contains(out, "server        MySQL") || strings.Contains(out, "pooler") {
			t.Errorf("%s", out)
		}
		has(t, h.must(0, "run", name, "select name from hut").out, "Greystone")
		has(t, h.must(0, "survey", name, "databases").out, "bunkhouse")
		has(t, h.must(0, "survey", name).out, "warden_app@% (superuser) in bunkhouse at ", "tables")
		has(t, h.must(0, "survey", name, "columns", "--on", "hut").out, "bunkhouse  hut    name    varchar(20)")
		has(t, h.must(0, "survey", name, "users").out, "warden_app  %")
		has(t, h.must(0, "survey", name, "rights", "--on", "hut").out, "warden_app@%", "directly")
		has(t, h.must(0, "survey", name, "settings").err, "not known here")
		has(t, h.must(8, "test", name, "--expect", "server=>= 8").out, "expect.cannot-see",
			"server cannot be seen, should be >= 8")
		has(t, h.must(8, "test", name, "--expect", "superuser=false").out, "expect.not-met")
		h.fails("database.missing", name, "--database", "nothing")
		h.fails("login.unknown", name, "--user", "nobody") // in its own words
		d, _, _ := h.open(name)
		if err := d.enters(t, "mysql", "warden_app"); err != nil {
			t.Errorf("%s, a door: %v", name, err)
		}
		h.must(0, "release", name)
	}
}

// TestAPoolerIsFoundOut meets servers of both engines that give another number at the login than
// the session does: what would last in the session is refused before it is sent, unless the
// profile says that each client has a session of its own.
func TestAPoolerIsFoundOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	for engine, option := range map[string]string{"postgres": "statement_timeout=5000", "mysql": "lock_wait_timeout=5"} {
		s := practice(t, standin.Config{Engine: engine, Faults: standin.Faults{Pooled: true}})
		direct := practice(t, standin.Config{Engine: engine})
		w.wardens(engine, engine, s)
		has(t, w.must(0, "test", engine).out, "a pooler, which may give each statement another session")
		for _, statement := range []string{"set time_zone = 'UTC'", "  -- a comment\n SET x = 1",
			"prepare p from 'select 1'"} {
			r := w.must(7, "run", engine, statement)
			has(t, r.out+r.err, "database.pooled")
			if r := w.run("run", engine, statement,
				"--port", fmt.Sprint(direct.Port())); strings.Contains(r.out+r.err, "database.pooled") {
				t.Errorf("%s: %q is refused without a pooler: %s%s", engine, statement, r.out, r.err)
			}
			if r := w.run("run", engine, statement, "--pooled", "session"); strings.Contains(r.out+r.err, "database.pooled") {
				t.Errorf("%s: %q is refused where each client has a session: %s%s", engine, statement, r.out, r.err)
			}
		}
		f := w.fails("database.pooled", engine, "--on-open", "select 1")
		has(t, f.Cause+tries(f)[0], "on-open", "--pooled session")
		w.must(0, "test", engine, "--on-open", "select 1", "--pooled", "no")
		w.must(0, "test", engine, "--on-open", "select 1", "--port", fmt.Sprint(direct.Port()))
		if engine == "mysql" { // which has no settings for a transaction
			for _, flag := range [][]string{{"--option", option}, {"--role", "helper"}} {
				w.fails("database.pooled", append([]string{engine}, flag...)...)
				w.fails("database.pooled", append([]string{engine, "--pooled", "transaction"}, flag...)...)
			}
		}
	}
	has(t, w.must(2, "test", "postgres", "--pooled", "always").err, "no, session, transaction")
}

// TestSilenceBehindAPooler has the server behind a real pooler fall silent at each step: the leg
// ends in its time, and Ctrl-C ends it immediately.
func TestSilenceBehindAPooler(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	for about, silence := range map[string]struct {
		faults standin.Faults
		code   string
	}{
		"greeting": {standin.Faults{Stall: true}, "database.no-server"},
		"login":    {standin.Faults{StallLogin: true}, "database.no-server"},
		"query":    {standin.Faults{StallQuery: true}, ".silent"}, "facts": {standin.Faults{After: "silence"}, ".silent"},
	} {
		s := practice(t, standin.Config{Engine: "postgres", Faults: silence.faults})
		at := pooler(t, "transaction", fmt.Sprintf("quiet = host=127.0.0.1 port=%d dbname=bunkhouse", s.Port()))
		name := "p-" + about
		w.must(0, "add", name, "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(at),
			"--user", "warden_app", "--database", "quiet", "--secret", "env:PW")
		r := w.run("test", name, "--timeout", "1500ms")
		if r.code == 0 || r.took > 5*time.Second || !strings.Contains(r.out, silence.code) {
			t.Errorf("%s: exit %d after %s\n%s%s", about, r.code, r.took, r.out, r.err)
		}
		cmd := w.command("test", name, "--timeout", "60s", "--timeout-total", "60s")
		must(t, cmd.Start())
		eventually(t, "the server has a client", func() bool { return s.Connections() > 0 })
		time.Sleep(300 * time.Millisecond) // it waits by now
		began := time.Now()
		must(t, cmd.Process.Signal(os.Interrupt))
		_ = cmd.Wait()
		if took := time.Since(began); took > 5*time.Second || cmd.ProcessState.ExitCode() != 130 {
			t.Errorf("%s: interrupted, it ended after %s with %d", about, took, cmd.ProcessState.ExitCode())
		}
	}
}
