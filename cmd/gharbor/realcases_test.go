//go:build unix

package main

import (
	"crypto/md5"
	"encoding/hex"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/realtest"
	"gentle-harbor/internal/standin"
)

func md5Of(text string) string {
	sum := md5.Sum([]byte(text))
	return hex.EncodeToString(sum[:])
}

// save adds a profile and gives its name.
func (w *world) save(name, engine string, args ...string) string {
	w.Helper()
	w.must(0, append([]string{"add", name, "--engine", engine, "--replace"}, args...)...)
	return name
}

// wardens saves a profile in which warden_app logs in to a practice server.
func (w *world) wardens(name, engine string, s *standin.Server, more ...string) string {
	w.Helper()
	return w.save(name, engine, append([]string{"--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()),
		"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW"}, more...)...)
}

func TestRealPostgres(t *testing.T) {
	s := realPostgres(t)
	w := newWorld(t, "PW="+canary, "BAD=Canary-5b2f-secret", "X=x", "BUSY=busy", "READER=reader", "DIGEST=digest-pw")
	good := w.save("good", "postgres", s.warden()...)
	owner := w.save("owner", "postgres", "--socket", s.socket, "--user", "overseer")

	for _, c := range []struct {
		name  string
		args  []string
		login string
		super bool
	}{
		{"tcp", []string{good}, "SCRAM-SHA-256", false},
		{"encrypted", []string{good, "--tls", "encrypt"}, "SCRAM-SHA-256-PLUS", false},
		{"verified", []string{good, "--tls", "verify", "--tls-ca", s.ca}, "SCRAM-SHA-256-PLUS", false},
		{"localhost", []string{good, "--host", "localhost", "--port", fmt.Sprint(s.port)}, "SCRAM-SHA-256", false},
		{"socket file", []string{owner}, "no password asked for", true},
		{"socket, with a password", []string{owner, "--user", "warden_app", "--secret", "env:PW"}, "SCRAM-SHA-256", false},
		{"digest", []string{good, "--user", "digest", "--secret", "env:DIGEST"}, "MD5", false},
		{"clear, on loopback", []string{good, "--user", "clearly"}, "password in clear", false},
		{"clear, verified", []string{good, "--user", "clearly", "--tls", "verify", "--tls-ca", s.ca},
			"password in clear", false},
		{"trusted", []string{good, "--user", "trusted", "--secret", "none"}, "no password asked for", false},
		{"client certificate", []string{good, "--user", "carded", "--secret", "none", "--tls", "verify",
			"--tls-ca", s.ca, "--tls-cert", filepath.Join(s.folder, "client.crt"),
			"--tls-key", filepath.Join(s.folder, "client.key")}, "no password asked for", false},
		{"role", []string{good, "--role", "helper"}, "SCRAM-SHA-256", false},
		{"options", []string{good, "--option", "statement_timeout=1234", "--option", "search_path=public"},
			"SCRAM-SHA-256", false},
	} {
		r := w.report(c.args...)
		if !r.OK {
			t.Errorf("%s: %+v", c.name, r.Finding)
			continue
		}
		if r.Server.Login != c.login || *r.Server.Superuser != c.super || r.Server.Identity == "" ||
			r.Server.Product != "PostgreSQL" {
			t.Errorf("%s: %+v", c.name, r.Server)
		}
		if c.name == "role" && r.Server.Account != "warden_app, acting as helper" {
			t.Errorf("%s: %s", c.name, r.Server.Account)
		}
	}
	has(t, w.must(0, "run", good, "--option", "statement_timeout=1234", "show statement_timeout").out, "1234ms")

	away := fmt.Sprint(closedPort(t))
	for _, c := range []struct {
		code string
		args []string
		says string
	}{
		{"port.refused", []string{good, "--port", away}, "--port "},
		{"name.not-found", []string{good, "--host", "nowhere.fellside.invalid"}, "Check the spelling"},
		{"login.refused", []string{good, "--secret", "env:BAD"}, "capital letters"},
		{"login.refused", []string{good, "--secret", "empty"}, "an empty password was sent"},
		{"login.refused", []string{good, "--user", "no_such"}, "rolname = 'no_such'"},
		{"login.password-wanted", []string{good, "--secret", "none"}, "--secret ask"},
		{"login.no-access-rule", []string{good, "--user", "fenced"}, "access rules"},
		{"login.no-access-rule", []string{good, "--user", "onlytls", "--secret", "env:X"}, "--tls verify"},
		{"login.wants-system-user", []string{owner, "--user", "peer_only"}, "operating system"},
		{"login.may-not-log-in", []string{good, "--user", "nologin", "--secret", "env:X"}, "alter role \"nologin\" login"},
		{"login.no-account", []string{good, "--user", "ghost", "--secret", "none"}, "create role \"ghost\" login"},
		{"login.role-refused", []string{good, "--role", "overseer"}, "grant \"overseer\" to \"warden_app\""},
		{"settings.option-refused", []string{good, "--option", "work_mem=lots"}, ""},
		{"database.missing", []string{good, "--database", "bunkhaus"}, "create database \"bunkhaus\""},
		{"database.missing", []string{good, "--database", "warden_app"}, "also the user's name"},
		{"database.no-right", []string{good, "--database", "private"}, "grant connect on database \"private\""},
		{"database.closed", []string{good, "--database", "closed"}, ""},
		{"database.user-limit", []string{good, "--user", "busy", "--secret", "env:BUSY"},
			"alter role \"busy\" connection limit -1"},
		{"tls.not-trusted", []string{good, "--tls", "verify"}, "add --tls-ca FILE"},
		{"tls.other-name", []string{good, "--tls", "verify", "--tls-ca", s.ca,
			"--tls-server-name", "else.fellside.example"}, "db.fellside.example"},
		{"tls.client-certificate", []string{good, "--user", "carded", "--secret", "none", "--tls", "encrypt"},
			"--tls-cert and --tls-key"},
		{"port.socket-missing", []string{owner, "--socket", filepath.Join(s.folder, "gone")}, "no socket"},
		{"settings.tls-file", []string{good, "--tls", "verify",
			"--tls-ca", filepath.Join(s.folder, "data", "PG_VERSION")}, "PEM"},
	} {
		f := w.fails(c.code, c.args...)
		has(t, strings.Join(append(append([]string{f.Cause}, f.Seen...), tries(f)...), "\n"), c.says)
	}

	for _, c := range []struct{ statement, code string }{
		{"selec", "query.syntax"}, {"select * from nowhere", "query.no-such-object"},
		{"select * from pg_authid", "query.no-right"},
		{"create role x", "query.no-right"}, {"create schema public", "query.exists-already"},
		{"select 1/0", "query.unknown"},
	} {
		r := w.must(7, "run", good, c.statement)
		has(t, r.err, "finding "+c.code)
	}
	has(t, w.must(7, "run", good, "--option", "default_transaction_read_only=on", "create table x()").err,
		"query.read-only")
	has(t, w.must(7, "run", good, "--option", "statement_timeout=50", "select pg_sleep(2)").err, "query.over-limit")
	has(t, w.must(0, "run", good, "select true as yes, null as no, 1.50 as n, 'NaN'::float8 as nan, "+
		"E'\\x1b[31m' as esc").out,
		`\x1b[31m`, "(null)", "1.50", "NaN")
	if out := w.must(0, "run", good, "--json", "select true as a, 1.5 as b, 'NaN'::float8 as c, "+
		"12345678901234567890 as d").out; !strings.Contains(out,
		`[true,1.5,"NaN",12345678901234567890]`) {
		t.Errorf("types in JSON: %s", out)
	}
	has(t, w.must(0, "survey", good, "databases").out, "bunkhouse", "private", "no", "open now")

	// The certificate's dates, then encryption switched off: the server reads its settings anew.
	loaded := func() string { return w.must(0, "run", owner, "select pg_conf_load_time()", "--as", "csv").out }
	set := func(statements ...string) {
		before := loaded()
		for _, statement := range append(statements, "select pg_reload_conf()") {
			w.must(0, "run", owner, statement)
		}
		eventually(t, "the settings are read", func() bool { return loaded() != before })
	}
	verify := []string{good, "--tls", "verify", "--tls-ca", s.ca}
	for _, name := range []string{"expired", "future"} {
		set("alter system set ssl_cert_file = '"+s.folder+"/"+name+".crt'",
			"alter system set ssl_key_file = '"+s.folder+"/"+name+".key'")
		w.fails(map[string]string{"expired": "tls.expired", "future": "tls.not-yet-valid"}[name], verify...)
	}
	set("alter system set ssl = off")
	f := w.fails("tls.not-offered", verify...)
	has(t, strings.Join(tries(f), "\n"), "--tls off")
	set("alter system reset ssl_cert_file", "alter system reset ssl_key_file", "alter system set ssl = on")
	if !w.report(verify...).OK {
		t.Error("the server is not as it was")
	}
}

func TestRealPostgresShuttingDown(t *testing.T) {
	s := realtest.Postgres(t, filepath.Join(realFolder, "pg2"))
	cmd := s.Start(t)
	w := newWorld(t)
	name := w.save("p", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port), "--user", "overseer",
		"--secret", "none")
	busy := w.command("run", name, "select pg_sleep(20)")
	must(t, busy.Start())
	defer func() { _ = busy.Process.Kill(); _ = busy.Wait() }()
	eventually(t, "the statement runs", func() bool { return sleeping(t, "postgres", w, name, "pg_sleep(20)") == 1 })
	// A smart shutdown waits for sessions to end and refuses new ones.
	must(t, cmd.Process.Signal(syscall.SIGTERM))
	eventually(t, "it shuts down", func() bool { return w.run("test", name).code != 0 })
	w.fails("database.shutting-down", name)
}

func TestRealMariaDB(t *testing.T) {
	s := realMariaDB(t)
	w := newWorld(t, "PW="+canary, "BAD=Canary-5b2f-secret", "X=x")
	good := w.save("good", "mariadb", s.warden()...)
	owner := w.save("owner", "mysql", "--socket", s.socket, "--user", "root", "--secret", "none")
	for _, c := range []struct {
		name    string
		args    []string
		account string
		super   bool
	}{
		{"tcp", []string{good}, "warden_app@127.0.0.1", false},
		{"encrypted", []string{good, "--tls", "encrypt"}, "warden_app@127.0.0.1", false},
		{"verified", []string{good, "--tls", "verify", "--tls-ca", s.ca}, "warden_app@127.0.0.1", false},
		{"localhost, resolved", []string{good, "--host", "localhost", "--port", fmt.Sprint(s.port)},
			"warden_app@127.0.0.1", false},
		{"socket", []string{owner}, "root@localhost", true},
		{"no password", []string{good, "--user", "nopass", "--secret", "none", "--database", ""}, "nopass@127.0.0.1", false},
		{"an empty password", []string{good, "--user", "nopass", "--secret", "empty", "--database", ""},
			"nopass@127.0.0.1", false},
		{"another method", []string{good, "--user", "curve", "--database", ""}, "curve@127.0.0.1", false},
		{"only encrypted", []string{good, "--user", "onlytls", "--secret", "env:X", "--tls", "verify",
			"--tls-ca", s.ca, "--database", ""}, "onlytls@127.0.0.1", false},
		{"role", []string{good, "--role", "helper"}, "warden_app@127.0.0.1", false},
		{"options", []string{good, "--option", "lock_wait_timeout=3", "--option", "sql_mode=ANSI"},
			"warden_app@127.0.0.1", false},
	} {
		r := w.report(c.args...)
		if !r.OK {
			t.Errorf("%s: %+v", c.name, r.Finding)
			continue
		}
		if r.Server.Account != c.account || *r.Server.Superuser != c.super || r.Server.Identity == "" ||
			r.Server.Product != "MariaDB" || r.Server.Login == "" {
			t.Errorf("%s: %+v", c.name, r.Server)
		}
		if encrypted := strings.Contains(strings.Join(c.args, " "), "--tls"); r.Server.Encrypted != encrypted {
			t.Errorf("%s: encrypted is %v", c.name, r.Server.Encrypted)
		}
	}
	busy := w.command("run", good, "--user", "busy", "--secret", "env:X", "--database", "", "select sleep(20)")
	must(t, busy.Start())
	defer func() { _ = busy.Process.Kill(); _ = busy.Wait() }()
	eventually(t, "the statement runs", func() bool { return sleeping(t, "mariadb", w, owner, "sleep(20)") == 1 })
	for _, c := range []struct {
		code string
		args []string
		says string
	}{
		{"port.refused", []string{good, "--port", fmt.Sprint(closedPort(t))},
			"a MariaDB server answers on 127.0.0.1:" + fmt.Sprint(s.port)},
		{"login.refused", []string{good, "--secret", "env:BAD"}, "from mysql.user where user"},
		{"login.refused", []string{good, "--secret", "empty"}, "an empty password was sent"},
		{"login.refused", []string{good, "--secret", "none"}, "no password was sent"},
		{"login.refused", []string{good, "--user", "onlytls", "--secret", "env:X"}, ""},
		{"login.wants-system-user", []string{owner, "--user", "socketeer"}, "or it has no such account"},
		{"login.locked", []string{good, "--user", "locked", "--secret", "env:X"}, "account unlock"},
		{"login.role-refused", []string{good, "--role", "nothing"}, "`nothing`"},
		{"settings.option-refused", []string{good, "--option", "lock_wait_timeout=lots"}, ""},
		{"database.missing", []string{owner, "--database", "bunkhaus"}, "create database `bunkhaus`"},
		{"database.no-right", []string{good, "--database", "private"}, "grant select on `private`.*"},
		{"database.user-limit", []string{good, "--user", "busy", "--secret", "env:X", "--database", ""},
			"as many connections open as the account may have"},
		{"tls.not-trusted", []string{good, "--tls", "verify"}, "--tls-ca FILE"},
		{"tls.other-name", []string{good, "--tls", "verify", "--tls-ca", s.ca,
			"--tls-server-name", "else.fellside.example"}, "names that it is valid for"},
		{"port.socket-missing", []string{owner, "--socket", s.socket + "x"}, "no socket"},
		{"greeting.other-engine", []string{good, "--engine", "postgres"}, "--engine mariadb"},
	} {
		f := w.fails(c.code, c.args...)
		has(t, strings.Join(append(append([]string{f.Cause}, f.Seen...), tries(f)...), "\n"), c.says)
	}
	for _, c := range []struct {
		code string
		args []string
	}{
		{"query.no-such-database", []string{owner, "use nowhere"}},
		{"query.no-right", []string{good, "use private"}},
		{"query.no-such-database", []string{owner, "drop database nowhere"}},
		{"query.syntax", []string{good, "selec"}}, {"query.no-such-object", []string{good, "select * from nowhere"}},
		{"query.no-right", []string{good, "select * from mysql.user"}},
		{"query.no-database", []string{good, "--database", "", "select * from hut"}},
		{"login.password-expired", []string{good, "--user", "expired", "--secret", "env:X", "--database", "", "select 1"}},
		{"query.exists-already", []string{good, "create table hut (a int)"}},
	} {
		r := w.must(finding.Exit(finding.Code(c.code).Leg()), append([]string{"run"}, c.args...)...)
		has(t, r.err, "finding "+c.code)
	}
	has(t, w.must(0, "run", good, "--json", "select name, height from hut order by name").out,
		`["Greystone",812]`, `["Larkrise",null]`)
	has(t, w.must(0, "run", good, "update hut set height = 640 where name = 'Larkrise'").out, "1 row changed")
	has(t, w.must(0, "survey", good, "databases").out, "bunkhouse", "open now", "yes")
}

// TestRealHostRefused has a server whose accounts are all for localhost, so that it refuses
// 127.0.0.1 before it greets.
func TestRealHostRefused(t *testing.T) {
	s := realtest.MariaDB(t, filepath.Join(realFolder, "maria2"))
	s.Start(t, "--skip-name-resolve", "--skip-ssl")
	s.Do(t, "create user a@127.0.0.1 identified by 'x'")
	w := newWorld(t)
	owner := w.save("owner", "mysql", "--socket", s.Socket, "--user", "root", "--secret", "none")
	p := w.save("p", "mysql", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port), "--user", "a", "--secret", "none")
	f := w.fails("tls.not-offered", p, "--tls", "verify")
	has(t, strings.Join(tries(f), "\n"), "--tls off")
	w.must(0, "run", owner, "drop user a@127.0.0.1")
	for _, statement := range []string{"delete from mysql.global_priv where Host in ('127.0.0.1', '::1', '%')",
		"flush privileges"} {
		w.must(0, "run", owner, statement)
	}
	// Over the network address of the other name of this machine it is the same client; over the
	// socket it is not.
	f = w.usualSocket(s.Socket, "greeting.host-refused", p, "--user", "root")
	if strings.Contains(strings.Join(tries(f), "\n"), "--host localhost") {
		t.Errorf("what cannot help is offered: %v", tries(f))
	}
	w.follows(tries(f), " --socket ")
}

// follows runs, to the letter, the command of the first remedy that has some words.
func (w *world) follows(tries []string, words string) {
	w.Helper()
	for _, line := range tries {
		if at := strings.Index(line, "gharbor "); at >= 0 && strings.Contains(line, words) {
			cmd := exec.Command("sh", "-c", strings.Replace(line[at:], "gharbor", gharbor, 1))
			cmd.Dir, cmd.Env = w.home, w.environ
			if r := w.finish(cmd); r.code != 0 {
				w.Errorf("%s: exit %d\n%s%s", line, r.code, r.out, r.err)
			}
			return
		}
	}
	w.Errorf("no remedy has %q: %q", words, tries)
}

func TestRealOtherServices(t *testing.T) {
	s := realPostgres(t)
	web := httptest.NewServer(http.NotFoundHandler())
	defer web.Close()
	_, webPort, _ := net.SplitHostPort(web.Listener.Addr().String())
	w := newWorld(t)
	p := w.save("p", "postgres", "--host", "127.0.0.1", "--user", "a", "--secret", "none", "--timeout", "400ms")
	m := w.save("m", "mysql", "--host", "127.0.0.1", "--user", "a", "--secret", "none", "--timeout", "400ms")
	f := w.fails("greeting.other-engine", m, "--port", fmt.Sprint(s.port))
	has(t, strings.Join(append(f.Seen, tries(f)...), "\n"), "answers as a PostgreSQL server", "--engine postgres")
	f = w.fails("greeting.not-a-database", m, "--port", webPort)
	has(t, strings.Join(f.Seen, "\n"), "a web server")
	f = w.fails("greeting.not-a-database", p, "--port", webPort)
	has(t, f.Cause, "a web server")
	sshd := program("sshd", "/usr/sbin")
	if sshd == "" {
		missing(t, "OpenSSH")
	}
	folder := t.TempDir()
	port := freePort(t)
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f",
		filepath.Join(folder, "key")).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	_ = os.MkdirAll("/run/sshd", 0o755)
	cmd := exec.Command(sshd, "-D", "-e", "-f", "/dev/null", "-h", filepath.Join(folder, "key"), "-o",
		"ListenAddress=127.0.0.1:"+fmt.Sprint(port), "-o", "PidFile=none")
	launch(t, cmd, filepath.Join(folder, "log"))
	until(t, "sshd", filepath.Join(folder, "log"), func() bool {
		conn, err := net.Dial("tcp", "127.0.0.1:"+fmt.Sprint(port))
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	})
	for _, name := range []string{p, m} {
		f := w.fails("greeting.not-a-database", name, "--port", fmt.Sprint(port))
		has(t, f.Cause, "an SSH server")
	}
}

// silentPort gives a port whose queue of connections is full, so that the system drops what
// comes, as a firewall would.
func silentPort(t *testing.T) int {
	t.Helper()
	return silent(t, [4]byte{127, 0, 0, 1}, 0)
}

func TestSilentPort(t *testing.T) {
	w := newWorld(t)
	p := w.save("p", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(silentPort(t)), "--user", "a",
		"--secret", "none", "--timeout", "300ms")
	f := w.fails("port.silent", p)
	has(t, f.Cause, "did not answer within 300ms")
	// A connection to it takes minutes to fail: who looks around does not wait for that.
	if r := w.must(0, "find", "--only", "listening"); r.took > 20*time.Second {
		t.Errorf("find took %s", r.took)
	}
}
