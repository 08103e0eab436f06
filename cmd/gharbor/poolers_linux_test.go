package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
)

// pooler starts a real pgbouncer before the real PostgreSQL server, with one server session for each user and database, so that what one client leaves behind
// is what the next one finds. Its settings come last and win.
func pooler(t *testing.T, mode string, more ...string) (port int) {
	t.Helper()
	pg := realPostgres(t)
	bouncer := program("pgbouncer", "/usr/sbin")
	if bouncer == "" {
		missing(t, "pgbouncer")
	}
	folder, err := os.MkdirTemp(realFolder, "pooler")
	must(t, err)
	must(t, os.Chmod(folder, 0o755))
	port = freePort(t)
	put(t, filepath.Join(folder, "users"), []byte(`"warden_app" "`+canary+`"`+"\n"+`"overseer" "overseer"`+"\n"))
	put(t, filepath.Join(folder, "ini"), []byte(fmt.Sprintf(`[databases]
bunkhouse = host=127.0.0.1 port=%d dbname=bunkhouse
down = host=127.0.0.1 port=%d dbname=bunkhouse
[pgbouncer]
listen_addr = 127.0.0.1
listen_port = %d
unix_socket_dir =
auth_type = scram-sha-256
auth_file = %s/users
pool_mode = %s
default_pool_size = 1
server_login_retry = 1
%s
`, pg.port, freePort(t), port, folder, mode, strings.Join(more, "\n"))))
	give(t, "postgres", folder)
	log := filepath.Join(folder, "log")
	launch(t, as("postgres", exec.Command(bouncer, filepath.Join(folder, "ini"))), log)
	until(t, "pgbouncer", log, func() bool {
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		conn, err := pgconn.Connect(ctx, fmt.Sprintf("postgres://warden_app:%s@127.0.0.1:%d/bunkhouse?sslmode=disable", canary, port))
		if err == nil {
			_ = conn.Close(ctx)
		}
		return err == nil
	})
	return port
}

// client is another client of a pooler: what its session is.
func (w *world) client(port int, password string) func() string {
	return func() string {
		w.Helper()
		ctx, cancel := context.WithTimeout(w.Context(), 10*time.Second)
		defer cancel()
		conn, err := pgconn.Connect(ctx, fmt.Sprintf("postgres://warden_app:%s@127.0.0.1:%d/bunkhouse?sslmode=disable", password, port))
		must(w.T, err)
		defer conn.Close(ctx)
		all, err := conn.Exec(ctx, "select current_user, current_setting('search_path'), current_setting('timezone'), current_setting('statement_timeout'), (select count(*) from pg_prepared_statements), (select count(*) from pg_class where relpersistence = 't'), (select count(*) from pg_listening_channels())").ReadAll()
		must(w.T, err)
		var words []string
		for _, value := range all[0].Rows[0] {
			words = append(words, string(value))
		}
		return strings.Join(words, " | ")
	}
}

// TestPoolersKeepTheirSessions runs each command through a real pooler in each of its modes, with one server session for all clients: the next client's user,
// search path, time zone, prepared statements and tables are as they were. What would last is refused where the session is shared, and done where the
// profile says that it is not.
func TestPoolersKeepTheirSessions(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	for _, mode := range []string{"transaction", "session", "statement"} {
		port := pooler(t, mode)
		next := w.client(port, canary)
		clean := next()
		w.must(0, "add", mode, "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(port), "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
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
			{[]string{"test", "--role", "helper", "--expect", "superuser=false", "--expect", "tables=pg_catalog.pg_class"}, 0, "expectations hold"},
			{[]string{"run", "select current_user", "--role", "helper"}, map[bool]int{true: 0, false: 7}[statements], map[bool]string{true: "helper", false: "database.pooled"}[statements]},
			{[]string{"run", "select 1"}, 0, "1 row"},
			{[]string{"survey", "databases"}, 0, "bunkhouse"},
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
			has(t, w.must(0, append([]string{"run", mode, "select current_setting('search_path'), current_setting('statement_timeout')", "--pooled", "transaction"}, option...)...).out, "pg_catalog,public", "7s")
		}
		w.fails("settings.option-refused", mode, "--pooled", "transaction", "--option", "statement_timeout=soon")
		// A pooler that gives each client a session takes it all, and has it back.
		if mode == "session" {
			for _, args := range [][]string{
				append([]string{"test", mode, "--role", "helper"}, option...), {"test", mode, "--on-open", "set search_path to bunk"},
				{"run", mode, "set search_path to bunk"}, append([]string{"run", mode, "select 1", "--role", "helper"}, option...),
			} {
				w.must(0, append(args, "--pooled", "session")...)
				if now := next(); now != clean {
					t.Errorf("%s: after %v the next client is %s", mode, args, now)
				}
			}
			has(t, w.must(0, append([]string{"run", mode, "select current_user, current_setting('search_path')", "--role", "helper", "--pooled", "session"}, option...)...).out, "helper", "pg_catalog,public")
			w.fails("login.role-refused", mode, "--pooled", "session", "--role", "overseer")
		}
		if now := next(); now != clean {
			t.Errorf("%s: the next client is %s, and was %s", mode, now, clean)
		}
		has(t, tries(w.fails("database.missing", mode, "--database", "bunkhous"))[0], "gharbor")
		f = w.fails("database.no-server", mode, "--database", "down", "--timeout", "2s")
		has(t, f.Cause, "has no server for it")
	}
	// The server itself is no pooler, and takes it all.
	pg := realPostgres(t)
	w.must(0, append([]string{"add", "direct", "--engine", "postgres", "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW"}, pg.at("127.0.0.1")...)...)
	if out := w.must(0, "test", "direct", "--role", "helper", "--option", "search_path=public", "--on-open", "set timezone to 'UTC'").out; strings.Contains(out, "pooler") {
		t.Error(out)
	}
	w.must(0, "run", "direct", "set timezone to 'UTC'")
}

// TestAFullPooler has a pooler whose only session another client holds, in a transaction: the wait is said to be the pooler's, and Ctrl-C ends it.
func TestAFullPooler(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	port := pooler(t, "transaction", "query_wait_timeout = 2")
	w.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(port), "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
	w.must(0, "test", "p")
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	conn, err := pgconn.Connect(ctx, fmt.Sprintf("postgres://warden_app:%s@127.0.0.1:%d/bunkhouse?sslmode=disable", canary, port))
	must(t, err)
	_, err = conn.Exec(ctx, "begin").ReadAll()
	must(t, err)
	w.fails("database.no-server", "p", "--timeout", "8s")
	_, err = conn.Exec(ctx, "commit").ReadAll()
	must(t, err)
	_ = conn.Close(ctx)
	w.must(0, "test", "p")
	few := pooler(t, "transaction", "max_client_conn = 1")
	held, err := pgconn.Connect(ctx, fmt.Sprintf("postgres://warden_app:%s@127.0.0.1:%d/bunkhouse?sslmode=disable", canary, few))
	must(t, err)
	defer held.Close(ctx)
	w.fails("database.too-many-connections", "p", "--port", fmt.Sprint(few))
}
