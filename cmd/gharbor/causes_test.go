//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/realtest"
	"gentle-harbor/internal/route/jump/jumptest"
	"gentle-harbor/internal/standin"
)

// TestCausesMariaDB meets each cause of a refused login that MariaDB's accounts can be, as the
// user meets it, and as the user's own profile of an administrator sees it: what is proposed
// there, run to the letter, lets the user in.
func TestCausesMariaDB(t *testing.T) {
	t.Parallel()
	s := realServer(t, "mariadb")
	w := newWorld(t, "PW="+canary, "X=x")
	w.save("socket", "mariadb", "--socket", s.socket, "--user", "root", "--secret", "empty")
	w.must(0, "run", "socket", "create user causes_admin@127.0.0.1 identified by '"+canary+"'; grant all on *.* to causes_admin@127.0.0.1 with grant option")
	admin := w.save("admin", "mariadb", append(s.at("127.0.0.1"), "--user", "causes_admin", "--secret", "env:PW")...)
	w.must(0, "test", admin)
	for name, c := range map[string]struct {
		made, code, says, sees string
		mends                  bool // by a command that is proposed
		flags                  []string
	}{
		"ssl": {"identified by 'x' require ssl", "login.refused",
			"The connection is not encrypted, and an account or the server can ask for encryption",
			"it needs encryption, and the login was not encrypted", true, nil},
		"card": {"identified by 'x' require x509", "login.refused",
			"No client certificate was sent, and an account can ask for one",
			"it needs a certificate of the client, and none was sent", false, []string{"--tls", "encrypt"}},
		"sock": {"identified via unix_socket", "login.not-from-here",
			"or the account logs in by the server's socket alone", "it logs in by the socket alone", false, nil},
		"old": {"identified via mysql_old_password", "login.old-password", "is stored in an old form",
			"its password is stored in the old form", false, nil},
		"hour": {"identified by 'x' with max_connections_per_hour 1", "login.hourly-limit",
			"has used up what the account may do in an hour: max_connections_per_hour",
			"in an hour it may do: 1 logins", true, nil},
		"locked": {"identified by 'x' account lock", "login.locked", "The account causes_locked is locked",
			"it is locked", true, nil},
		"nopw": {"", "login.refused", "refused user causes_nopw",
			"it has no password: any that is sent is refused", true, nil},
		"expired": {"identified by 'x' password expire", "login.password-expired", "has expired",
			"its password has expired", false, nil},
	} {
		user := "causes_" + name
		w.must(0, "run", "socket", "create user "+user+"@127.0.0.1 "+c.made)
		p := w.save(name, "mariadb", append(s.at("127.0.0.1"), "--user", user, "--secret", "env:X")...)
		args := append([]string{p}, c.flags...)
		if name == "hour" {
			w.must(0, "test", p)
		}
		f := w.fails(c.code, args...)
		has(t, strings.Join(append(append([]string{f.Cause}, f.Seen...), tries(f)...), "\n"), c.says)
		if name != "locked" && name != "hour" && name != "expired" {
			has(t, strings.Join(tries(f), "\n"),
				"You administer this server with the profile admin: see which rule or account applies: gharbor meaning --at "+p)
		}
		r := w.must(0, "meaning", "--at", p, "--yes", "--json")
		var d struct {
			Failed, Client string
			Rules          []struct {
				Where   string
				Decides bool
			}
			Says, Try []string
		}
		must(t, json.Unmarshal([]byte(r.out), &d))
		if d.Failed != c.code || len(d.Rules) == 0 || !d.Rules[0].Decides ||
			d.Rules[0].Where != user+"@127.0.0.1" ||
			!slices.ContainsFunc(d.Says, func(said string) bool { return strings.HasPrefix(said, c.sees) }) ||
			(len(d.Try) > 0) != c.mends {
			t.Errorf("%s: %s", name, r.out)
		}
		has(t, w.must(0, "meaning", "--at", p, "--yes").out, c.sees, "it decides")
		if c.mends {
			w.follows(d.Try, "gharbor ")
			if strings.HasPrefix(d.Try[0], "gharbor run") {
				w.must(0, "test", p)
			}
		}
		if strings.Contains(r.out+r.err, canary) {
			t.Errorf("%s shows the password", name)
		}
	}
	// An account for another host does not decide.
	w.must(0, "run", "socket", "create user causes_else@'10.9.8.%' identified by 'x'")
	p := w.save("else", "mariadb", append(s.at("127.0.0.1"), "--user", "causes_else", "--secret", "env:X")...)
	w.run("test", p)
	has(t, w.must(0, "meaning", "--at", p, "--yes").out, "no: it is for another host",
		"there is no account causes_else for the host 127.0.0.1",
		"create user `causes_else`@`127.0.0.1` identified by '…'")
	// Words, and who may be asked.
	has(t, w.must(2, "meaning", "--at", p).err,
		"admin would be asked why its server refused else. To go on, add the flag: --yes")
	has(t, w.must(2, "meaning", "--at", p, "port.refused").err, "no code is given beside it")
	has(t, w.must(0, "meaning", "--at", "admin").err, "the last test of admin passed")
	has(t, w.must(0, "meaning", "--at", "socket").err, "no test of socket is remembered; to test it: gharbor test socket")
	w.save("away", "mariadb", "--host", "127.0.0.1", "--port", fmt.Sprint(closedPort(t)), "--user", "x",
		"--secret", "env:X", "--tls", "off")
	w.fails("port.refused", "away")
	has(t, w.must(0, "meaning", "--at", "away").err,
		"failed with port.refused, before its server could decide about the login; what that means: gharbor "+
			"meaning port.refused")
	has(t, w.must(3, "meaning", "--at", "nowhere").err, "there is no profile nowhere")
	w.must(0, "remove", "admin", "--yes")
	has(t, w.must(3, "meaning", "--at", p, "--yes").err,
		"no profile of yours is known to administer that server",
		"select user, host, plugin, ssl_type, password_expired from mysql.user where user in ('causes_else', '')")
}

// TestAnAccountOfAnyName has an account without a name decide for a user who has one, as its host
// is named more closely. No other test runs beside it, since it is for everybody.
func TestAnAccountOfAnyName(t *testing.T) {
	s := realServer(t, "mariadb")
	w := newWorld(t, "PW="+canary, "X=x")
	w.save("socket", "mariadb", "--socket", s.socket, "--user", "root", "--secret", "empty")
	w.must(0, "run", "socket", "create user anyname_admin@127.0.0.1 identified by '"+canary+"'; grant all on *.* to anyname_admin@127.0.0.1 with grant option; create user anyname_wide@'%' identified by 'x'; create user ''@127.0.0.1")
	t.Cleanup(func() { w.run("run", "socket", "drop user if exists ''@127.0.0.1") })
	admin := w.save("admin", "mariadb", append(s.at("127.0.0.1"), "--user", "anyname_admin", "--secret", "env:PW")...)
	w.must(0, "test", admin)
	p := w.save("wide", "mariadb", append(s.at("127.0.0.1"), "--user", "anyname_wide", "--secret", "env:X")...)
	w.fails("login.refused", p)
	r := w.must(0, "meaning", "--at", p, "--yes")
	has(t, r.out, "(any name)@127.0.0.1", "since its host is named more closely than that of any account anyname_wide")
	w.follows(strings.Split(r.out, "\n"), "gharbor run admin")
	w.must(0, "test", p)
}

// TestEncryptionForEverybody has a server take encrypted connections alone. No other test runs
// beside it.
func TestEncryptionForEverybody(t *testing.T) {
	s := realServer(t, "mariadb")
	w := newWorld(t, "X=x")
	w.save("socket", "mariadb", "--socket", s.socket, "--user", "root", "--secret", "empty")
	w.must(0, "run", "socket", "create user secure_user@127.0.0.1 identified by 'x'; set global "+
		"require_secure_transport = 1")
	t.Cleanup(func() { w.run("run", "socket", "set global require_secure_transport = 0") })
	p := w.save("p", "mariadb", append(s.at("127.0.0.1"), "--user", "secure_user", "--secret", "env:X")...)
	f := w.fails("login.refused", p) // that is all that it says
	w.follows(tries(f), "--tls encrypt")
	w.must(0, "run", "socket", "create user secure_admin@127.0.0.1 identified by 'x'; grant all on *.* to "+
		"secure_admin@127.0.0.1")
	admin := w.save("admin", "mariadb", append(s.at("127.0.0.1"), "--user", "secure_admin", "--secret", "env:X")...)
	w.must(0, "change", admin, "--tls", "encrypt")
	w.must(0, "test", admin)
	w.fails("login.refused", p)
	r := w.must(0, "meaning", "--at", p, "--yes")
	has(t, r.out, "the server takes encrypted connections alone (require_secure_transport), and the login was "+
		"not encrypted")
	w.follows(strings.Split(r.out, "\n"), "--tls encrypt")
}

// TestCausesPostgres is TestCausesMariaDB for PostgreSQL's access rules, roles and databases.
func TestCausesPostgres(t *testing.T) {
	t.Parallel()
	s := realServer(t, "postgres")
	w := newWorld(t, "PW="+canary, "X=x", "O=overseer")
	w.save("socket", "postgres", "--socket", s.socket, "--user", "overseer", "--secret", "none")
	admin := w.save("admin", "postgres",
		append(s.at("127.0.0.1"), "--user", "overseer", "--database", "postgres", "--secret", "env:O")...)
	w.must(0, "test", admin)
	w.must(0, "run", "socket", "create role causes_members; create database causes_base; create role "+
		"causes_hold login password 'x'")
	for name, c := range map[string]struct {
		made, code, says, sees, where string
		mends                         bool
		flags                         []string
	}{
		"card": {"login", "login.other-certificate", "is for another name: carded",
			"decides, and it needs a client certificate for causes_card",
			"hostssl all causes_card 127.0.0.1/32 cert", false,
			[]string{"--secret", "none", "--tls", "verify", "--tls-ca", s.ca,
				"--tls-cert", filepath.Join(s.folder, "client.crt"), "--tls-key", filepath.Join(s.folder, "client.key")}},
		"ident": {"login password 'x'", "login.wants-ident", "got no answer that fits user causes_ident",
			"decides, and it asks the system of the client who the user is",
			"host all causes_ident 127.0.0.1/32 ident", false, nil},
		"reject": {"login password 'x'", "login.rule-rejects", "One below it does not count",
			"decides, and it rejects. A line below it does not count; one that lets this in must be above it: " +
				"host bunkhouse causes_reject 127.0.0.1/32 scram-sha-256",
			"host all causes_reject 127.0.0.0/8 reject", false, nil},
		"late": {"login password 'x' valid until '2020-01-01'", "login.refused", "refused user causes_late",
			"the password of causes_late was valid until 2020-01-01", "", true, nil},
		"limit": {"login password 'x' connection limit 0", "database.user-limit",
			"as many connections open as the account may have",
			"the role causes_limit may have 0 connections, and 0 are open", "", true, nil},
		"nologin": {"password 'x'", "login.may-not-log-in", "may not log in",
			"the role causes_nologin may not log in", "", true, nil},
		"nopw": {"login", "login.refused", "refused user causes_nopw",
			"the role causes_nopw has no password", "", false, nil},
		"none": {"login password 'x'", "login.no-access-rule", "has no rule that allows user causes_none",
			"no rule fits", "", false, nil},
	} {
		user := "causes_" + name
		w.must(0, "run", "socket", "create role "+user+" "+c.made)
		p := w.save(name, "postgres",
			append(append(s.at("127.0.0.1"), "--user", user, "--database", "bunkhouse", "--secret", "env:X"),
				c.flags...)...)
		f := w.fails(c.code, p)
		has(t, strings.Join(append(append([]string{f.Cause}, f.Seen...), tries(f)...), "\n"), c.says)
		r := w.must(0, "meaning", "--at", p, "--yes", "--json")
		var d struct {
			Failed, Client string
			Rules          []struct {
				Where, Says, Fits string
				Decides           bool
			}
			Says, Try []string
		}
		must(t, json.Unmarshal([]byte(r.out), &d))
		at := slices.IndexFunc(d.Rules, func(r struct {
			Where, Says, Fits string
			Decides           bool
		}) bool {
			return r.Decides
		})
		if d.Failed != c.code || d.Client != "127.0.0.1" ||
			!slices.ContainsFunc(d.Says, func(said string) bool { return strings.Contains(said, c.sees) }) ||
			(len(d.Try) > 0) != c.mends || (at < 0) != (name == "none") ||
			c.where != "" && !strings.HasPrefix(d.Rules[at].Says, c.where) {
			t.Errorf("%s: %s", name, r.out)
		}
		if c.mends {
			w.follows(d.Try, "gharbor run")
			w.must(0, "test", p)
		}
		if strings.Contains(r.out+r.err, canary) {
			t.Errorf("%s shows the password", name)
		}
	}
	// The database's own limit; a rule for a group of users and one database; one over a socket;
	// a file that the server has not read yet.
	w.must(0, "run", "socket", "alter database causes_base connection limit 0; create role causes_member login "+
		"password 'x' in role causes_members")
	p := w.save("member", "postgres",
		append(s.at("127.0.0.1"), "--user", "causes_member", "--database", "causes_base", "--secret", "env:X")...)
	f := w.fails("database.base-limit", p)
	w.follows(tries(f), "gharbor run admin")
	w.must(0, "test", p)
	w.fails("login.no-access-rule", p, "--database", "bunkhouse")
	has(t, w.must(0, "meaning", "--at", p, "--yes").out, "no: it is about other databases", "no rule fits",
		"a line that would fit, to be added to the rules: host bunkhouse causes_member 127.0.0.1/32 scram-sha-256")
	w.save("peer", "postgres", "--socket", s.socket, "--user", "peer_only", "--secret", "none")
	w.fails("login.wants-system-user", "peer")
}

// TestEncryptionIsSwitchedOffWhole takes what has no use without encryption out of a profile's
// own file, and refuses what would be unusable before it is saved.
func TestEncryptionIsSwitchedOffWhole(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	read := func(path string) string {
		t.Helper()
		data, err := os.ReadFile(path)
		must(t, err)
		return string(data)
	}
	for _, name := range []string{"ca.pem", "client.crt", "client.key"} {
		w.write(name, "x")
	}
	p := w.save("huts/p", "postgres", "--host", "db.fellside.example", "--user", "u", "--secret", "none",
		"--tls", "verify", "--tls-ca", "ca.pem", "--tls-cert", "client.crt", "--tls-key", "client.key",
		"--tls-server-name", "db1", "--note", "stays")
	file := filepath.Join(w.home, "gharbor/profiles/huts/p.yaml")
	was := read(file)
	has(t, w.must(2, "change", p, "--tls", "off", "--tls-ca", "ca.pem").err,
		"tls ca has no use without encryption, and --tls off switches it off: nothing was changed",
		"gharbor change huts/p --tls verify --tls-ca ca.pem")
	if is := read(file); is != was {
		t.Errorf("it was changed: %s", is)
	}
	r := w.must(0, "change", p, "--tls", "off")
	has(t, r.err, "--tls off takes out what has no use then: tls ca, tls cert, tls key, tls server-name")
	is := read(file)
	has(t, is, "mode: off", "note: stays")
	if strings.Contains(is, "ca.pem") || strings.Contains(is, "client.") || strings.Contains(is, "db1") ||
		strings.Contains(r.err, "has no use while") {
		t.Errorf("%s\n%s", is, r.err)
	}
	has(t, w.must(3, "change", p, "--tls-ca", "ca.pem").err,
		"tls ca has no use while tls mode is off, and it is off for huts/p: nothing was changed",
		"gharbor change huts/p --tls verify --tls-ca ca.pem")
	if again := read(file); again != is {
		t.Errorf("it was changed: %s", again)
	}
	w.must(0, "change", p, "--tls", "verify", "--tls-ca", "ca.pem")
	has(t, read(file), "mode: verify", "ca: "+filepath.Join(w.home, "ca.pem"))
	// What a base says is not taken out of it: the profile only switches it off.
	w.must(0, "add", "huts/v", "--base", p, "--tls", "off")
	if r := w.must(0, "show", "huts/v"); strings.Contains(r.out, "ca.pem") {
		t.Errorf("%s", r.out)
	}
	// An alias's path starts at the folder in which it is said, too, and an alias is a further
	// name of another one that is there.
	w.must(0, "alias", "add", "bookings", "--engine", "postgres", "--address", "db.fellside.example",
		"--tls", "verify", "--tls-ca", "ca.pem")
	has(t, read(filepath.Join(w.home, "gharbor/aliases.yaml")), "ca: "+filepath.Join(w.home, "ca.pem"))
	w.must(0, "alias", "change", "bookings", "--tls-ca", "client.crt")
	has(t, read(filepath.Join(w.home, "gharbor/aliases.yaml")), "ca: "+filepath.Join(w.home, "client.crt"))
	has(t, w.must(3, "alias", "add", "mirror", "--same-as", "mirror").err, "would be a further name of itself")
	has(t, w.must(3, "alias", "add", "mirror", "--same-as", "bokings").err, "bokings", "bookings")
	has(t, w.must(3, "alias", "change", "bookings", "--same-as", "bookings").err, "would be a further name of itself")
	w.must(0, "alias", "add", "mirror", "--same-as", "bookings")
}

// TestAHopThatIsNoHop has the port of a database, one that only accepts, and a frozen SSH server
// where a hop should be: each is said to be what it is, from this machine and from a hop before
// it.
func TestAHopThatIsNoHop(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil, "PW="+canary)
	frozen := jumptest.Start(t, nil)
	defer frozen.Freeze()()
	mute, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer mute.Close()
	p, m := realPostgres(t), realMariaDB(t)
	h.save("p", "postgres", append(p.warden(), "--via", h.via, "--timeout", "1s")...)
	for port, c := range map[int][2]string{
		p.port:                          {"tunnel.not-ssh", "is a PostgreSQL server, not an SSH server"},
		m.port:                          {"tunnel.not-ssh", "is a MariaDB server, not an SSH server"},
		frozen.Port:                     {"tunnel.stalled", "accepts connections, and then says nothing for 1s"},
		mute.Addr().(*net.TCPAddr).Port: {"tunnel.stalled", "accepts connections, and then says nothing for 1s"},
	} {
		via := []string{"--via", fmt.Sprintf("127.0.0.1:%d", port)}
		for _, args := range [][]string{via, append([]string{"--via", h.via}, via...)} {
			f := h.fails(c[0], append([]string{"p"}, args...)...)
			has(t, f.Cause, c[1])
			if all := fmt.Sprint(f.Seen, tries(f)); strings.Contains(all, "MaxStartups") || strings.Contains(all, "VPN") {
				t.Errorf("%v: what was not seen is said: %s", args, all)
			}
			if strings.Contains(c[1], "PostgreSQL") {
				has(t, fmt.Sprint(f.Seen), "asked in the words of another protocol, it answers as a PostgreSQL server")
			}
		}
	}
}

// TestAStoredPasswordNamesItsPlace stores a password for each kind of place: every note names it,
// and none is about a part that such a place does not have.
func TestAStoredPasswordNamesItsPlace(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	s := practice(t, standin.Config{Engine: "postgres"})
	practiceEngine(t, w).Put(hutdb(s))
	phrase, password := w.write("phrase", phrase+"\n"), w.write("password", canary)
	w.must(0, "wallet", "create", "--passphrase-file", phrase)
	w.must(0, "alias", "add", "bookings", "--engine", "postgres", "--address", "db1.fellside.example:5432", "--tls", "off")
	for place, args := range map[string][]string{
		"db.fellside.example":      {"--server", "db.fellside.example", "--user", "u"},
		"db.fellside.example:5432": {"--server", "db.fellside.example:5432", "--user", "u"},
		"/run/huts/.s.PGSQL.5432":  {"--server", "/run/huts/.s.PGSQL.5432", "--user", "u"},
		"alias:bookings":           {"huts/alias"}, "container:hutdb": {"huts/container"},
	} {
		if kind, name, _ := strings.Cut(place, ":"); len(args) == 1 {
			more := []string{"add", args[0], "--" + kind, name, "--user", "u", "--database", "b", "--secret", "wallet"}
			if kind == "container" {
				more = append(more, "--engine", "postgres")
			}
			w.must(0, more...)
		}
		r := w.must(0, append(append([]string{"wallet", "add"}, args...), "--passphrase-file", phrase,
			"--secret-file", password)...)
		has(t, r.out, place)
		if strings.Contains(r.err, " ;") || strings.Contains(r.err, " to  ") || strings.Contains(r.err, " to without") {
			t.Errorf("%s: a note has no name: %s", place, r.err)
		}
		if strings.Contains(r.err, "any port") != (place == "db.fellside.example") {
			t.Errorf("%s: %s", place, r.err)
		}
	}
}

// TestRemediesOfAConnectionString pastes the first command that is proposed for a connection
// string: it names the same connection, without the password, however the string came.
func TestRemediesOfAConnectionString(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	w.environ = append(w.environ, "PATH="+filepath.Dir(gharbor)+":"+os.Getenv("PATH"))
	p, m := realPostgres(t), realMariaDB(t)
	for _, given := range []string{
		fmt.Sprintf("postgres://warden_app:%s@127.0.0.1:%d/bunkhous", canary, p.port),
		fmt.Sprintf("postgresql://warden_app:%s@127.0.0.1:%d/bunkhous?sslmode=require&application_name=it%%27s",
			canary, p.port),
		fmt.Sprintf("host=127.0.0.1 port=%d user=warden_app password=%s dbname=bunkhous sslmode=disable", p.port, canary),
		fmt.Sprintf("mysql://warden_app:%s@127.0.0.1:%d/bunkhous", canary, m.port),
		fmt.Sprintf("mariadb://warden_app:%s@127.0.0.1:%d/bunkhous?ssl-mode=REQUIRED", canary, m.port),
	} {
		for _, word := range []string{given, "-"} {
			w.stdin = given
			r := w.run("test", word)
			w.stdin = ""
			has(t, r.out, "bunkhous")
			_, command, found := strings.Cut(r.out, "gharbor test ")
			command, _, _ = strings.Cut(command, "\n")
			if !found || strings.HasPrefix(command, "- ") || strings.Contains(r.out+r.err, canary) {
				t.Errorf("%s: no command that can be pasted, or a password is shown:\n%s%s",
					strings.ReplaceAll(word, canary, "…"), r.out, r.err)
				continue
			}
			cmd := exec.Command("sh", "-c", "gharbor test "+command+" --secret env:PW")
			cmd.Dir, cmd.Env = w.home, w.environ
			if again := w.finish(cmd); again.code != 0 || !strings.Contains(again.out, "database bunkhouse") {
				t.Errorf("%s: exit %d\n%s%s", command, again.code, again.out, again.err)
			}
		}
	}
}

// TestServersWithoutAPort has servers that listen on no port, and on a socket in a folder of
// their own: where they answer is found, and none of them is proposed to be started.
func TestServersWithoutAPort(t *testing.T) {
	t.Parallel()
	realPostgres(t)
	realMariaDB(t)
	w := newWorld(t, "PW="+canary)
	folder, err := os.MkdirTemp("", "ghs")
	must(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	must(t, os.Chmod(folder, 0o755))
	warm := realtest.Postgres(t, filepath.Join(folder, "postgres"))
	warm.Listens(5999)
	warm.Launch(t, "-c", "listen_addresses=")
	cold := realtest.MariaDB(t, filepath.Join(folder, "mysql"))
	cold.Launch(t, "--skip-networking", "--socket="+cold.Folder+"/warm")
	for engine, socket := range map[string]string{"postgres": filepath.Join(folder, "postgres/.s.PGSQL.5999"),
		"mariadb": filepath.Join(folder, "mysql/warm")} {
		user := map[string]string{"postgres": "overseer", "mariadb": "root"}[engine]
		database := map[string]string{"postgres": "postgres", "mariadb": "mysql"}[engine]
		w.must(0, "add", engine, "--engine", engine, "--socket", socket, "--user", user, "--database", database,
			"--secret", "none")
		w.must(0, "await", engine, "--for", "30s")
		for _, args := range [][]string{{"--socket", filepath.Join(folder, "elsewhere")},
			{"--host", "127.0.0.1", "--port", fmt.Sprint(closedPort(t))}} {
			r := w.run(append([]string{"test", engine}, args...)...)
			has(t, r.out, "answers on "+socket)
			if args[0] == "--socket" {
				has(t, r.out, "port.socket-missing", "gharbor test "+engine+" --socket "+socket)
			}
			if strings.Contains(r.out, "Start it:") {
				t.Errorf("%s %v: a server that runs is to be started:\n%s", engine, args, r.out)
			}
		}
		has(t, w.must(0, "find", "--only", "listening").out, socket)
	}
}

// TestWhoMayLookAtEveryCrossing refuses a login at the end of each kind of way to a server, and
// has the profile of an administrator look there: one that goes the same way, and one that goes
// another is not used.
func TestWhoMayLookAtEveryCrossing(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil, "PW=x", "O=overseer")
	e := practiceEngine(t, h.world)
	pg, maria := realPostgres(t), realMariaDB(t)
	h.save("pg-socket", "postgres", "--socket", pg.socket, "--user", "overseer", "--secret", "none")
	h.save("maria-socket", "mariadb", "--socket", maria.socket, "--user", "root", "--secret", "none")
	h.must(0, "run", "pg-socket", "create role crossing_late login password 'x' valid until '2020-01-01'")
	h.must(0, "run", "maria-socket", "create user crossing_late@127.0.0.1 identified by 'x' account lock; "+
		"create user crossing_admin@127.0.0.1 identified by 'x'; grant all on *.* to crossing_admin@127.0.0.1")
	for name, s := range map[string]*server{"postgres": pg, "mariadb": maria} {
		admin, password, database, code, says := "overseer", "env:O", "bunkhouse", "login.refused",
			"the password of crossing_late was valid until 2020-01-01"
		if name == "mariadb" {
			admin, password, code, says = "crossing_admin", "env:PW", "login.locked", "lock"
		}
		inside := map[string]int{"postgres": 5432, "mariadb": 3306}[name]
		e.Put(standin.Contained{Name: name + "-hut", Image: name + ":test",
			Published: map[int][]string{inside: {fmt.Sprintf("127.0.0.1:%d", s.port)}}})
		h.must(0, "alias", "add", name+"-alias", "--engine", name,
			"--address", fmt.Sprintf("127.0.0.1:%d", s.port), "--tls", "off")
		for way, flags := range map[string][]string{
			"host":      append(s.at("127.0.0.1"), "--engine", name, "--tls", "off"),
			"hop":       append(s.at("127.0.0.1"), "--engine", name, "--tls", "off", "--via", h.via),
			"alias":     {"--alias", name + "-alias"},
			"container": {"--container", name + "-hut", "--engine", name, "--tls", "off"},
		} {
			at := name + "-" + way
			h.must(0, append([]string{"add", at, "--user", "crossing_late", "--database", database,
				"--secret", "env:PW"}, flags...)...)
			h.fails(code, at)
			if r := h.must(3, "meaning", "--at", at); !strings.Contains(r.out+r.err, "select") {
				t.Errorf("%s: no statement for an administrator: %s%s", at, r.out, r.err)
			}
			h.must(0, append([]string{"add", at + "-admin", "--user", admin, "--database", database,
				"--secret", password}, flags...)...)
			h.must(0, "test", at+"-admin")
			f := h.fails(code, at)
			has(t, strings.Join(tries(f), "\n"), "gharbor meaning --at "+at)
			has(t, h.must(2, "meaning", "--at", at).err, "--yes")
			has(t, h.must(0, "meaning", "--at", at, "--yes").out, says)
			h.must(0, "remove", at+"-admin", "--yes")
		}
	}
	// At a terminal it asks, and no is no.
	h.must(0, append([]string{"add", "postgres-boss", "--engine", "postgres", "--user", "overseer",
		"--database", "bunkhouse", "--secret", "env:O"}, pg.at("127.0.0.1")...)...)
	h.must(0, "test", "postgres-boss")
	for answer, shown := range map[string]bool{"n": false, "y": true} {
		p := h.sit("meaning", "--at", "postgres-host")
		p.Reads("postgres-boss")
		p.Types(answer + "\n")
		if code, _ := p.Ends(); code != 0 || strings.Contains(p.Screen(), "was valid until") != shown {
			t.Errorf("answered %s: exit %d: %s", answer, code, p.Screen())
		}
	}
}

// TestARunIsNoCrowd tests more profiles at the same time than an account may have connections:
// the run itself is what fills it, so each is tested once more by itself. Where others fill the
// account, it stays full.
func TestARunIsNoCrowd(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "X=x")
	s := realPostgres(t)
	w.save("socket", "postgres", "--socket", s.socket, "--user", "overseer", "--secret", "none")
	w.must(0, "run", "socket", "create role crowd_few login password 'x' connection limit 2 in role awkward")
	for i := range 24 {
		w.write(fmt.Sprintf("gharbor/profiles/crowd/p%d.yaml", i),
			fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\nuser: crowd_few\ndatabase: bunkhouse\nsecret: env:X\n",
				s.port))
	}
	crowded := false
	for range 5 { // whether they meet is up to the machine
		r := w.must(0, "test", "crowd/", "--parallel", "24")
		has(t, r.out, "24 profiles: 24 connected, 0 failed")
		if crowded = strings.Contains(r.out, "of them were tested once more by themselves"); crowded {
			break
		}
	}
	if !crowded {
		t.Error("the account was never full")
	}
	has(t, w.must(0, "test", "crowd/", "--parallel", "24", "--json").out, `"ok": true`)
	busy := w.command("run", "crowd/p0", "select pg_sleep(30)")
	must(t, busy.Start())
	other := w.command("run", "crowd/p1", "select pg_sleep(30)")
	must(t, other.Start())
	defer func() { _ = busy.Process.Kill(); _ = other.Process.Kill(); _ = busy.Wait(); _ = other.Wait() }()
	until(t, "two sessions", "", func() bool {
		return strings.Contains(w.run("run", "socket", "--as", "bare",
			"select 'open: ' || count(*) from pg_stat_activity where usename = 'crowd_few'").out, "open: 2")
	})
	r := w.must(7, "test", "crowd/", "--parallel", "24")
	has(t, r.out, "database.user-limit", "24 profiles: 0 connected, 24 failed")
}
