//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/standin"
)

// TestSituationsOnStandIns has the refusals that a real server does not give on demand.
func TestSituationsOnStandIns(t *testing.T) {
	w := newWorld(t, "PW="+canary)
	old, err := standin.NewAuthority("old")
	if err != nil {
		t.Fatal(err)
	}
	outdated, err := old.Serve(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	outdated.MinVersion, outdated.MaxVersion = 0x0301, 0x0302 // TLS 1.0 and 1.1
	for _, c := range []struct {
		engine string
		faults standin.Faults
		args   []string
		code   string
		exit   int
	}{
		{"mysql", standin.Faults{Refusal: "1129", Early: true}, nil, "greeting.too-many-failures", 5},
		{"mysql", standin.Faults{Refusal: "1130", Early: true}, nil, "greeting.host-refused", 5},
		{"mysql", standin.Faults{Refusal: "1040", Early: true}, nil, "database.too-many-connections", 7},
		{"mysql", standin.Faults{Refusal: "3159"}, nil, "tls.required", 5},
		{"mysql", standin.Faults{Refusal: "1862"}, nil, "login.password-expired", 6},
		{"mysql", standin.Faults{Refusal: "4151"}, nil, "login.locked", 6},
		{"mysql", standin.Faults{Refusal: "1251"}, nil, "login.method-not-supported", 6},
		{"mysql", standin.Faults{Refusal: "1226"}, nil, "database.too-many-connections", 7},
		{"mysql", standin.Faults{Refusal: "1053"}, nil, "database.shutting-down", 7},
		{"mysql", standin.Faults{Refusal: "9999"}, nil, "login.unknown", 6},
		{"mysql", standin.Faults{Refusal: "9999", Early: true}, nil, "greeting.unknown", 5},
		{"postgres", standin.Faults{Refusal: "57P03"}, nil, "database.not-ready", 7},
		{"postgres", standin.Faults{StartingUp: true}, nil, "database.starting-up", 7},
		{"postgres", standin.Faults{Refusal: "53300"}, nil, "database.too-many-connections", 7},
		{"postgres", standin.Faults{Refusal: "57P01"}, nil, "database.shutting-down", 7},
		{"postgres", standin.Faults{Refusal: "55000"}, nil, "database.closed", 7},
		{"postgres", standin.Faults{Refusal: "XX000"}, nil, "login.unknown", 6},
		{"postgres", standin.Faults{Hangup: true}, nil, "greeting.closed", 5},
		{"postgres", standin.Faults{StallLogin: true}, []string{"--timeout", "300ms"}, "login.silent", 6},
		{"postgres", standin.Faults{StallQuery: true}, []string{"--timeout", "300ms"}, "query.silent", 7},
		{"postgres", standin.Faults{HangupQuery: true}, nil, "query.closed", 7},
		{"mysql", standin.Faults{HangupQuery: true}, nil, "query.closed", 7},
		{"postgres", standin.Faults{}, []string{"--tls", "encrypt"}, "tls.old-protocol", 5},
		{"mysql", standin.Faults{}, []string{"--tls", "encrypt"}, "tls.old-protocol", 5},
	} {
		s := practice(t, standin.Config{Engine: c.engine, Faults: c.faults, TLS: outdated})
		p := w.save("p", c.engine, "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()), "--user", "warden_app", "--secret", "env:PW")
		r := w.report(append([]string{p}, c.args...)...)
		if r.Code() != c.code || r.Exit != c.exit {
			t.Errorf("%s %+v: %s, exit %d, instead of %s: %+v", c.engine, c.faults, r.Code(), r.Exit, c.code, r.Finding)
		}
		text := w.run(append([]string{"test", p}, c.args...)...).out
		for _, raw := range []string{"dial tcp", "x509:", "remote error:", "tls:", "EOF", "i/o timeout", "context deadline", "failed to connect", "driver:", "(SQLSTATE"} {
			if strings.Contains(text, raw) {
				t.Errorf("%s: the raw words %q stand in\n%s", c.code, raw, text)
			}
		}
	}
}

func TestMoreRealSituations(t *testing.T) {
	pg, maria := realPostgres(t), realMariaDB(t)
	w := newWorld(t, "PW="+canary, "X=x")
	p := w.save("p", "postgres", append(pg.at("127.0.0.1"), "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")...)
	m := w.save("m", "mariadb", append(maria.at("127.0.0.1"), "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")...)
	owner := w.save("owner", "postgres", "--socket", pg.socket, "--user", "overseer")

	// A certificate of a client that the server's authority did not issue.
	strange, err := standin.NewAuthority("strange")
	if err != nil {
		t.Fatal(err)
	}
	cert, key, err := strange.Issue(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), "carded")
	if err != nil {
		t.Fatal(err)
	}
	crt, pem := w.write("strange.crt", string(cert)), w.write("strange.key", string(key))
	w.fails("tls.client-certificate", p, "--user", "carded", "--secret", "none", "--tls", "encrypt", "--tls-cert", crt, "--tls-key", pem)
	w.fails("login.method-not-supported", p, "--user", "kerb")

	// A lock that another session holds, and a session that an administrator ends.
	w.must(0, "run", p, "create table if not exists held (a int)")
	hold := w.command("run", p, "do $$ begin lock table held; perform pg_sleep(20); end $$")
	if err := hold.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(400 * time.Millisecond)
	has(t, w.must(7, "run", p, "--option", "lock_timeout=100", "select * from held").err, "finding query.in-use")
	waiting := w.command("run", p, "select pg_sleep(20)")
	var out strings.Builder
	waiting.Stderr = &out
	if err := waiting.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(300 * time.Millisecond)
	w.must(0, "run", owner, "select pg_terminate_backend(pid) from pg_stat_activity where usename = 'warden_app'")
	if err := waiting.Wait(); waiting.ProcessState.ExitCode() != 7 {
		t.Errorf("%v", err)
	}
	has(t, out.String(), "finding query.closed", "administrator")
	_ = hold.Wait()

	// Names that are near, and the profile of the user's own that may do what is missing.
	w.must(0, "test", owner)
	f := w.fails("database.missing", p, "--database", "bunkhaus")
	has(t, strings.Join(f.Seen, "\n"), "databases that this user can see:", "bunkhouse")
	f = w.fails("database.no-right", m, "--database", "bunkhose")
	has(t, f.Cause, "or there is no such database")
	has(t, strings.Join(f.Seen, "\n"), "bunkhouse")
	admin := w.save("admin", "postgres", append(pg.at("127.0.0.1"), "--user", "overseer", "--secret", "env:OVER")...)
	w.environ = append(w.environ, "OVER=overseer")
	w.must(0, "test", admin)
	f = w.fails("database.no-right", p, "--database", "private")
	has(t, f.Try[0], "by the profile admin: gharbor run admin 'grant connect on database \"private\" to \"warden_app\"'")
	f = w.fails("login.refused", p, "--secret", "env:X")
	has(t, strings.Join(f.Try, "\n"), "gharbor run admin 'select rolname")
}

// TestFirstRemedyMends follows the first remedy to the letter where a program can.
func TestFirstRemedyMends(t *testing.T) {
	pg, maria := realPostgres(t), realMariaDB(t)
	w := newWorld(t, "PW="+canary, "X=x", "OVER=overseer")
	w.environ[2] = "PATH=" + filepath.Dir(gharbor) + ":" + os.Getenv("PATH")
	p := w.save("p", "postgres", append(pg.at("127.0.0.1"), "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")...)
	m := w.save("m", "mariadb", append(maria.at("127.0.0.1"), "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")...)
	w.must(0, "test", w.save("admin", "postgres", append(pg.at("127.0.0.1"), "--user", "overseer", "--secret", "env:OVER")...))
	wrongly := w.save("wrongly", "postgres", append(pg.at("127.0.0.1"), "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:X")...)
	for _, c := range []struct {
		code   string
		args   []string
		repair bool // the remedy changes the server; then the test itself passes
	}{
		{"database.missing", []string{p, "--database", "bunkhous"}, false},
		{"database.no-right", []string{m, "--database", "bunkhous"}, false},
		{"greeting.other-engine", []string{p, "--port", fmt.Sprint(maria.port)}, false},
		{"greeting.other-engine", []string{m, "--port", fmt.Sprint(pg.port), "--timeout", "400ms"}, false},
		{"secret.none", []string{p, "--user", "trusted", "--secret", ""}, false},
		{"login.refused", []string{wrongly, "--timeout", "4s"}, false},
		{"login.password-wanted", []string{wrongly, "--secret", "none"}, false},
		{"secret.variable-unset", []string{wrongly, "--secret", "env:GONE"}, false},
		{"login.role-refused", []string{p, "--role", "nothing"}, false},
		{"database.no-right", []string{p, "--database", "private"}, true},
	} {
		f := w.fails(c.code, c.args...)
		if len(f.Try) == 0 {
			continue
		}
		mended := false
		for i, try := range f.Try {
			at := strings.Index(try, "gharbor ")
			if at < 0 || i > 0 && c.code != "login.role-refused" {
				continue
			}
			cmd := exec.Command("sh", "-c", try[at:])
			cmd.Dir, cmd.Env = w.home, w.environ
			r := w.finish(cmd)
			if r.code == 0 && c.repair {
				r = w.run(append([]string{"test"}, c.args...)...)
			}
			mended = mended || r.code == 0
			if r.code != 0 {
				t.Logf("%s: %s: exit %d\n%s%s", c.code, try, r.code, r.out, r.err)
			}
		}
		if !mended {
			t.Errorf("%s: the remedy does not mend it: %q", c.code, f.Try)
		}
	}
	// A profile that is being added is not there yet; its remedy is the same add with what mends it.
	r := w.must(7, append([]string{"add", "fresh", "--engine", "postgres", "--user", "warden_app", "--database", "bunkhous", "--secret", "env:PW", "--test"}, pg.at("127.0.0.1")...)...)
	if strings.Contains(r.err, "gharbor test fresh") || strings.Contains(r.err, "gharbor survey fresh") {
		t.Errorf("remedies for a profile that is not there:\n%s", r.err)
	}
	_, remedy, _ := strings.Cut(r.err, "gharbor add fresh")
	remedy, _, _ = strings.Cut(remedy, "\n")
	cmd := exec.Command("sh", "-c", "gharbor add fresh"+remedy)
	cmd.Dir, cmd.Env = w.home, w.environ
	if r := w.finish(cmd); r.code != 0 || !w.report("fresh").OK {
		t.Errorf("gharbor add fresh%s: exit %d\n%s%s", remedy, r.code, r.out, r.err)
	}
	w.must(0, "run", "admin", "revoke connect on database private from warden_app")
}
