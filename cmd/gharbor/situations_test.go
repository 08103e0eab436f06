//go:build unix

package main

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/standin"
)

// TestSituationsOnStandIns has the refusals that a real server does not give on demand.
func TestSituationsOnStandIns(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	old, err := standin.NewAuthority("old")
	must(t, err)
	outdated, err := old.Serve(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), "127.0.0.1")
	must(t, err)
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
		{"postgres", standin.Faults{StallLogin: true}, []string{"--timeout", "1s"}, "login.silent", 6},
		{"postgres", standin.Faults{StallQuery: true}, []string{"--timeout", "1s"}, "query.silent", 7},
		{"postgres", standin.Faults{HangupQuery: true}, nil, "query.closed", 7},
		{"mysql", standin.Faults{HangupQuery: true}, nil, "query.closed", 7},
		{"postgres", standin.Faults{}, []string{"--tls", "encrypt"}, "tls.old-protocol", 5},
		{"mysql", standin.Faults{}, []string{"--tls", "encrypt"}, "tls.old-protocol", 5},
	} {
		s := practice(t, standin.Config{Engine: c.engine, Faults: c.faults, TLS: outdated})
		p := w.save("p", c.engine, "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()),
			"--user", "warden_app", "--secret", "env:PW")
		r := w.report(append([]string{p}, c.args...)...)
		if string(r.Code()) != c.code || r.Exit != c.exit {
			t.Errorf("%s %+v: %s, exit %d, instead of %s: %+v", c.engine, c.faults, r.Code(), r.Exit, c.code, r.Finding)
		}
		text := w.run(append([]string{"test", p}, c.args...)...).out
		for _, raw := range []string{"dial tcp", "x509:", "remote error:", "tls:", "EOF", "i/o timeout",
			"context deadline", "failed to connect", "driver:", "(SQLSTATE"} {
			if strings.Contains(text, raw) {
				t.Errorf("%s: the raw words %q stand in\n%s", c.code, raw, text)
			}
		}
	}
}

func TestMoreRealSituations(t *testing.T) {
	pg, maria := realPostgres(t), realMariaDB(t)
	w := newWorld(t, "PW="+canary, "X=x")
	p := w.save("p", "postgres", pg.warden()...)
	m := w.save("m", "mariadb", maria.warden()...)
	owner := w.save("owner", "postgres", "--socket", pg.socket, "--user", "overseer")

	// A certificate of a client that the server's authority did not issue.
	strange, err := standin.NewAuthority("strange")
	must(t, err)
	cert, key, err := strange.Issue(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), "carded")
	must(t, err)
	crt, pem := w.write("strange.crt", string(cert)), w.write("strange.key", string(key))
	w.fails("tls.client-certificate", p, "--user", "carded", "--secret", "none", "--tls", "encrypt",
		"--tls-cert", crt, "--tls-key", pem)
	w.fails("login.method-not-supported", p, "--user", "kerb")

	// A lock that another session holds, and a session that an administrator ends.
	w.must(0, "run", p, "create table if not exists held (a int)")
	hold := w.command("run", p, "do $$ begin lock table held; perform pg_sleep(20); end $$")
	must(t, hold.Start())
	eventually(t, "the table is locked", func() bool { return sleeping(t, "postgres", w, owner, "lock table held") == 1 })
	has(t, w.must(7, "run", p, "--option", "lock_timeout=100", "select * from held").err, "finding query.in-use")
	waiting := w.command("run", p, "select pg_sleep(20)")
	var out strings.Builder
	waiting.Stderr = &out
	must(t, waiting.Start())
	eventually(t, "the statement runs", func() bool {
		return sleeping(t, "postgres", w, owner, "select pg_sleep(20)") == 1
	})
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
	has(t, tries(f)[0], "with the profile admin: gharbor run admin 'grant connect on database \"private\" to "+
		"\"warden_app\"'")
	f = w.fails("login.refused", p, "--secret", "env:X")
	has(t, strings.Join(tries(f), "\n"), "gharbor meaning --at p")
}

// TestFirstRemedyFixes follows the first command among the remedies to the letter, and holds that
// the test passes after it: the command itself is a test that passes, or it changes what was
// wrong.
func TestFirstRemedyFixes(t *testing.T) {
	pg, maria := realPostgres(t), realMariaDB(t)
	w := newWorld(t, "PW="+canary, "X=x", "OVER=overseer")
	w.environ[2] = "PATH=" + filepath.Dir(gharbor) + ":" + os.Getenv("PATH")
	p := w.save("p", "postgres", pg.warden()...)
	m := w.save("m", "mariadb", maria.warden()...)
	w.must(0, "test", w.save("admin", "postgres",
		append(pg.at("127.0.0.1"), "--user", "overseer", "--secret", "env:OVER")...))
	w.must(0, "test", p) // so that of several servers here the remedies name this one
	w.must(0, "test", m)
	wrongly := w.save("wrongly", "postgres",
		append(pg.at("127.0.0.1"), "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:X")...)
	peer := w.save("peer", "postgres", "--socket", pg.socket, "--user", "overseer")
	open := w.write("open", canary)
	must(t, os.Chmod(open, 0o644))
	folder := filepath.Join(w.home, "wide")
	if err := errors.Join(os.Mkdir(folder, 0o777), os.Chmod(folder, 0o777),
		os.WriteFile(filepath.Join(folder, "pw"), []byte(canary), 0o600)); err != nil {
		t.Fatal(err)
	}
	stale := filepath.Join(w.home, "stale.sock")
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: stale, Net: "unix"})
	must(t, err)
	listener.SetUnlinkOnClose(false)
	_ = listener.Close()
	fixed := 0
	for _, c := range []struct {
		code   finding.Code
		args   []string
		repair bool // the remedy changes what was wrong; then the test itself passes
	}{
		{finding.DatabaseMissing, []string{p, "--database", "bunkhous"}, false},
		{finding.DatabaseNoRight, []string{m, "--database", "bunkhous"}, false},
		{finding.DatabaseClosed, []string{p, "--database", "closed"}, false},
		{finding.DatabaseNoRight, []string{p, "--database", "private"}, true},
		{finding.GreetingOtherEngine, []string{p, "--port", fmt.Sprint(maria.port)}, false},
		{finding.GreetingOtherEngine, []string{m, "--port", fmt.Sprint(pg.port), "--timeout", "400ms"}, false},
		{finding.PortRefused, []string{p, "--port", fmt.Sprint(closedPort(t))}, false},
		{finding.PortRefused, []string{m, "--port", fmt.Sprint(closedPort(t))}, false},
		{finding.PortRefused, []string{p, "--host", "127.0.1.1"}, false},
		{finding.PortSocketMissing, []string{peer, "--socket", filepath.Join(pg.folder, ".s.PGSQL.1")}, false},
		{finding.PortSocketMissing, []string{peer, "--socket", pg.folder, "--port", "2"}, false},
		{finding.PortNotASocket, []string{p, "--socket", open}, false},
		{finding.PortSocketRefused, []string{p, "--socket", stale}, false},
		{finding.SecretNone, []string{p, "--user", "trusted", "--secret", ""}, false},
		{finding.LoginRefused, []string{wrongly, "--timeout", "4s"}, false},
		{finding.LoginNoAccessRule, []string{p, "--user", "warden_ap"}, false},
		{finding.LoginRefused, []string{m, "--user", "warden_ap"}, false},
		{finding.LoginPasswordWanted, []string{wrongly, "--secret", "none"}, false},
		{finding.LoginRoleRefused, []string{p, "--role", "helpr"}, false},
		{finding.LoginRoleRefused, []string{m, "--role", "helpr"}, false},
		{finding.LoginRoleRefused, []string{p, "--role", "nothing"}, false},
		{finding.TLSNotTrusted, []string{p, "--tls", "verify"}, false},
		{finding.SecretVariableUnset, []string{wrongly, "--secret", "env:GONE"}, false},
		{finding.SecretNobodyToAsk, []string{wrongly, "--secret", "ask"}, false},
		{finding.SecretFileMissing, []string{wrongly, "--secret", "file:" + w.home + "/gone"}, false},
		{finding.SecretFileUnsafe, []string{p, "--secret", "file:" + open}, true},
		{finding.SecretFolderUnsafe, []string{p, "--secret", "file:" + filepath.Join(folder, "pw")}, true},
		{finding.SecretWalletMissing, []string{wrongly, "--secret", "wallet"}, false},
		{finding.SecretCredentialsMissing, []string{wrongly, "--secret", "credentials"}, false},
		{finding.SecretCommandFailed, []string{wrongly, "--secret", "command: [false]"}, false},
	} {
		// The remedy of a refused port may name any server that listens here, and those of the
		// tests of other packages end as they like. A command that names one of those is looked
		// for again.
		var f *finding.Finding
		var command string
		var r result
		for range 20 {
			f, command = w.fails(string(c.code), c.args...), ""
			for _, line := range tries(f) {
				for _, program := range []string{"gharbor ", "chmod "} {
					if at := strings.Index(line, program); at >= 0 && command == "" {
						command = line[at:]
					}
				}
			}
			cmd := exec.Command("sh", "-c", command)
			cmd.Dir, cmd.Env = w.home, w.environ
			others := (strings.Contains(command, "--port ") || strings.Contains(command, "--socket ")) &&
				!strings.Contains(command, fmt.Sprint(pg.port)) &&
				!strings.Contains(command, fmt.Sprint(maria.port)) && !strings.Contains(command, maria.socket)
			if r = w.finish(cmd); r.code == 0 || !others {
				break
			}
		}
		if r.code == 0 && c.repair {
			r = w.run(append([]string{"test"}, c.args...)...)
		}
		if r.code == 0 && strings.Contains(r.out, "You are in") {
			fixed++
			continue
		}
		t.Errorf("%s %q: the remedy does not fix it: %s\n%q\nexit %d\n%s%s", c.code, c.args, command, tries(f),
			r.code, r.out, r.err)
	}
	t.Logf("%d situations fixed by the first command among their remedies", fixed)
	// A profile that is being added is not there yet; its remedy is the same add with what fixes it.
	r := w.must(7, append([]string{"add", "fresh", "--engine", "postgres", "--user", "warden_app",
		"--database", "bunkhous", "--secret", "env:PW", "--test"}, pg.at("127.0.0.1")...)...)
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
