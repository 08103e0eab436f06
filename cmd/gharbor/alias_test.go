//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/realtest"
	"gentle-harbor/internal/standin"
)

// realPair starts a PostgreSQL server, copies its folder when it is stopped, and starts both, the
// copy as a standby. The command is the primary's.
func realPair(t *testing.T) (primary, replica *realtest.Server, cmd *exec.Cmd) {
	t.Helper()
	folder, err := os.MkdirTemp("", "gharbor-pair")
	must(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	primary = realtest.Postgres(t, folder)
	first := primary.Start(t)
	primary.Do(t, "create role warden_app login password '"+canary+"'", "create database bunkhouse owner warden_app")
	_ = first.Process.Signal(os.Interrupt)
	_ = first.Wait()
	replica = primary.Copied(t, "two")
	replica.Put(t, "standby.signal", "")
	replica.Configure(t, fmt.Sprintf("primary_conninfo='host=127.0.0.1 port=%d user=overseer'\n", primary.Port))
	cmd = primary.Start(t)
	replica.Start(t)
	realtest.Until(t, "the replica", replica.Log, func() bool {
		n, err := primary.Ask("select count(*) from pg_stat_replication")
		return err == nil && n == "1"
	})
	return primary, replica, cmd
}

// TestAPrimaryAndItsReplica names two real servers by one alias, in each order and for each role,
// and then has the primary fail.
func TestAPrimaryAndItsReplica(t *testing.T) {
	t.Parallel()
	primary, replica, running := realPair(t)
	w := newWorld(t, "PW="+canary)
	one, two := fmt.Sprintf("127.0.0.1:%d", primary.Port), fmt.Sprintf("127.0.0.1:%d", replica.Port)
	w.must(0, "alias", "add", "pair", "--engine", "postgres", "--address", one, "--address", two)
	w.must(0, "add", "p", "--alias", "pair", "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
	for _, c := range []struct {
		addresses []string
		wants     string
		serves    string
		tried     int
	}{
		{[]string{one, two}, "either", one, 1}, {[]string{two, one}, "either", two, 1},
		{[]string{one, two}, "primary", one, 1}, {[]string{two, one}, "primary", one, 2},
		{[]string{one, two}, "replica", two, 2}, {[]string{two, one}, "replica", two, 1},
	} {
		w.must(0, "alias", "change", "pair", "--address", c.addresses[0], "--address", c.addresses[1], "--wants", c.wants)
		r := w.report("p")
		if n := len(r.Attempts); !r.OK || n != c.tried || r.Attempts[n-1].Address != c.serves {
			t.Errorf("%v, %s: %v %+v", c.addresses, c.wants, r.Attempts, r.Finding)
		}
	}
	w.must(0, "alias", "change", "pair", "--wants", "primary")
	// A door leads to the server of the role.
	doors, cmd, _ := w.held("p")
	must(t, logsIn(doors[0].Port))
	_ = cmd.Process.Signal(os.Interrupt)
	_ = cmd.Wait()
	// The primary stops: what is left is a replica, and then takes over.
	_ = running.Process.Kill()
	_ = running.Wait()
	f := w.fails("alias.no-primary", "p")
	has(t, f.Cause, two+" is a replica", one+" failed with port.refused")
	if said, err := replica.Ask("select pg_promote()"); said != "t" {
		t.Fatalf("the replica is not promoted: %s %v", said, err)
	}
	r := w.report("p")
	if n := len(r.Attempts); !r.OK || r.Attempts[n-1].Address != two || r.Server.ReadOnly == nil || *r.Server.ReadOnly {
		t.Errorf("after the promotion: %+v %+v", r.Attempts, r.Finding)
	}
	w.must(0, "alias", "change", "pair", "--wants", "replica")
	w.fails("alias.no-replica", "p")
}

// TestARealReadOnlyServer has a real MariaDB server that takes no changes be the replica.
func TestARealReadOnlyServer(t *testing.T) {
	maria := realMariaDB(t)
	w := newWorld(t, "PW="+canary)
	owner := "mysql://root@" + strings.ReplaceAll(maria.socket, "/", "%2F")
	other := practice(t, standin.Config{Engine: "mariadb"})
	address, second := fmt.Sprintf("127.0.0.1:%d", maria.port), fmt.Sprintf("127.0.0.1:%d", other.Port())
	w.must(0, "alias", "add", "m", "--engine", "mariadb", "--address", address, "--address", second, "--wants", "primary")
	w.must(0, "add", "p", "--alias", "m", "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
	if r := w.report("p"); !r.OK || len(r.Attempts) != 1 {
		t.Errorf("%+v", r.Finding)
	}
	w.must(0, "run", owner, "set global read_only = 1")
	t.Cleanup(func() { w.must(0, "run", owner, "set global read_only = 0") })
	if r := w.report("p"); !r.OK || len(r.Attempts) != 2 || r.Attempts[1].Address != second {
		t.Errorf("%+v %+v", r.Attempts, r.Finding)
	}
	w.must(0, "alias", "change", "m", "--wants", "replica")
	if r := w.report("p"); !r.OK || len(r.Attempts) != 1 {
		t.Errorf("%+v %+v", r.Attempts, r.Finding)
	}
}

// TestAliases has an alias be used, moved, held back and confirmed. How it is renamed, copied, given
// out, taken in and removed is in the tests of internal/harbor/edits.
func TestAliases(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	s := practice(t, standin.Config{Engine: "postgres"})
	spare := practice(t, standin.Config{Engine: "postgres"})
	at := func(s *standin.Server) string { return fmt.Sprintf("127.0.0.1:%d", s.Port()) }
	phrase, pw := w.write("phrase", phrase+"\n"), w.write("pw", canary+"\n")
	has(t, w.must(0, "alias", "list").out, "No aliases yet")
	has(t, w.must(0, "alias", "add", "bookings", "--engine", "postgres", "--address", at(s),
		"--address", "127.0.0.1:1", "--database", "bunkhouse", "--note", "the huts").out, "Saved the alias bookings")
	w.must(0, "add", "huts/a", "--alias", "bookings", "--user", "warden_app")
	has(t, w.must(0, "show", "huts/a").out, "bookings", "aliases.yaml:")
	has(t, w.must(0, "list").out, "alias:bookings")
	has(t, w.must(0, "alias", "users", "bookings").out, "huts/a")
	// A kept password is for the alias as it was.
	w.must(0, "wallet", "create", "--passphrase-file", phrase)
	w.must(0, "wallet", "unattended", "on", "--passphrase-file", phrase, "--yes")
	w.must(0, "wallet", "add", "huts/a", "--secret-file", pw, "--passphrase-file", phrase)
	has(t, w.must(0, "wallet", "list").out, "alias:bookings", "huts/a")
	has(t, w.must(0, "test", "huts/a").out, "the alias bookings (", "You are in")
	w.must(0, "alias", "change", "bookings", "--address", at(spare), "--address", at(s))
	f := w.fails("secret.alias-changed", "huts/a")
	has(t, f.Cause, "an address that it did not have")
	has(t, fmt.Sprint(f.Try), "gharbor wallet confirm bookings")
	if len(spare.Opened()) > 0 {
		t.Error("someone logged in at the new address")
	}
	has(t, w.must(0, "wallet", "confirm", "bookings", "--passphrase-file", phrase).out, "1 entry")
	w.must(0, "test", "huts/a")
	// An address less holds nothing back, another encryption does.
	w.must(0, "alias", "change", "bookings", "--address", at(s))
	w.must(0, "test", "huts/a")
	w.must(0, "alias", "change", "bookings", "--tls", "encrypt")
	has(t, w.fails("secret.alias-changed", "huts/a").Cause, "the encryption, the authority, the server's name or the hops")
	w.must(0, "alias", "change", "bookings", "--unset", "tls")
	w.must(0, "test", "huts/a")
	// The same in a credential file.
	w.must(0, "credentials", "add", "huts/a", "--secret-file", pw)
	w.must(0, "test", "huts/a", "--secret", "credentials")
	w.must(0, "alias", "change", "bookings", "--address", at(s), "--address", at(spare))
	has(t, fmt.Sprint(w.fails("secret.alias-changed", "huts/a", "--secret", "credentials").Try),
		"gharbor credentials confirm bookings")
	has(t, w.must(0, "credentials", "confirm", "bookings").out, "1 entry")
	w.must(0, "test", "huts/a", "--secret", "credentials")
	// What only your own alias is stored for, a project's of the same name does not get.
	w.write(".gentle-harbor/aliases.yaml", "bookings: {engine: postgres, addresses: ['"+at(s)+"'], database: bunkhouse}\n")
	w.write(".gentle-harbor/profiles/theirs.yaml", "alias: bookings\nuser: warden_app\n")
	must(t, os.Chmod(filepath.Join(w.home, ".gentle-harbor"), 0o755))
	has(t, w.run("test", "huts/a").out, "Both you and the project have an alias bookings")
	w.must(0, "agree", "theirs", "--yes")
	if r := w.run("test", "theirs", "--secret", "wallet"); r.code == 0 || !strings.Contains(r.out, "secret.") {
		t.Errorf("a project's alias gets what is stored for your own: %s", r.out)
	}
	w.write(".gentle-harbor/aliases.yaml",
		"bookings: {engine: postgres, addresses: ['"+at(spare)+"'], database: bunkhouse}\n")
	has(t, w.run("test", "theirs").out, "settings.not-agreed")
	has(t, w.run("test", "postgres://u@h/d", "--alias", "project:bookings", "--host", "").err+w.run("test",
		"huts/a", "--alias", "project:bookings").out, "comes from the project")
	has(t, w.run("alias", "probe", "project:bookings").err, "comes from the project")
	// A profile that was agreed to is not agreed to with another of the project's aliases, and a
	// project has a part in an alias of its own that is the same as one in a file that was named.
	w.write(".gentle-harbor/aliases.yaml",
		"bookings: {engine: postgres, addresses: ['"+at(s)+"'], database: bunkhouse}\nother: {engine: postgres, "+
			"addresses: ['"+at(spare)+"']}\nmixed: {same-as: team, tls: {mode: 'off'}}\n")
	opened := len(spare.Opened())
	w.must(0, "agree", "theirs", "--yes")
	w.must(0, "test", "theirs", "--secret", "file:"+pw)
	has(t, w.run("test", "theirs", "--alias", "project:other", "--secret", "file:"+pw).out, "comes from the project")
	team := w.write("team-only.yaml", "team: {engine: postgres, addresses: ['"+at(spare)+"']}\n")
	has(t, w.run("test", "huts/a", "--alias", "mixed", "--aliases", team, "--secret", "file:"+pw).out,
		"comes from the project")
	if len(spare.Opened()) > opened {
		t.Errorf("someone connected for a project's alias that was not agreed to: %q", spare.Opened())
	}
	must(t, os.RemoveAll(filepath.Join(w.home, ".gentle-harbor")))
	// What a profile may not say beside it.
	w.must(0, "alias", "change", "bookings", "--tls", "verify", "--via", "ops@gate.fellside.example")
	for _, c := range []struct {
		code, says string
		args       []string
	}{
		{"alias.weakened", "asks for tls verify", []string{"--tls", "off"}},
		{"alias.weakened", "says its hops", []string{"--via", "other"}},
		{"alias.weakened", "says its hops", []string{"--via", ""}},
		{"alias.engine-differs", "is of PostgreSQL", []string{"--engine", "mysql"}},
		{"alias.unknown", "did you mean bookings?", []string{"--alias", "boookings"}},
		{"settings.invalid", "says the ports", []string{"--port", "5"}},
	} {
		if f := w.fails(c.code, append([]string{"huts/a"}, c.args...)...); !strings.Contains(f.Cause, c.says) {
			t.Errorf("%v: %s", c.args, f.Cause)
		}
	}
	w.must(0, "alias", "change", "bookings", "--unset", "tls", "--unset", "via")
	w.must(0, "test", "huts/a", "--secret", "file:"+pw)
}

// TestWaitingAtATerminal looks at what is shown while something takes its time: it goes away, and
// no sign that steers the terminal is shown.
func TestWaitingAtATerminal(t *testing.T) {
	w := newWorld(t)
	w.must(0, "alias", "add", "a", "--engine", "postgres", "--address", "127.0.0.1:1")
	p := w.sit("alias", "probe", "a")
	p.Reads("port.refused")
	if p.Ends(); !strings.Contains(p.Screen(), "asking …\r\x1b[K") || strings.Contains(p.Screen(), `\r`) {
		t.Errorf("%q", p.Screen())
	}
}

// TestImportOfSeveralHosts makes an alias of a connection string with several hosts.
func TestImportOfSeveralHosts(t *testing.T) {
	w := newWorld(t, "PW="+canary)
	s := practice(t, standin.Config{Engine: "postgres"})
	has(t, w.must(0, "import", "huts/two",
		fmt.Sprintf("postgres://warden_app@127.0.0.1:1,127.0.0.1:%d/bunkhouse", s.Port()),
		"--secret", "env:PW").err, "its 2 hosts are the alias two")
	if r := w.report("huts/two"); !r.OK || len(r.Attempts) != 2 {
		t.Errorf("%+v", r.Finding)
	}
	has(t, w.must(0, "export", "huts/two", "--as", "uri").out, "127.0.0.1:1/")
	has(t, w.must(0, "export", "huts/two", "--as", "json").out, `"alias": "two"`)
}

// TestProbe asks addresses whether they answer: good ones, one that is starting, one that is
// another engine's, one that is not there, and silent ones side by side.
func TestProbe(t *testing.T) {
	w := newWorld(t)
	good, starting := practice(t, standin.Config{Engine: "postgres"}), practice(t,
		standin.Config{Engine: "postgres", Faults: standin.Faults{StartingUp: true}})
	other, silent := practice(t, standin.Config{Engine: "mysql"}), practice(t,
		standin.Config{Engine: "postgres", Faults: standin.Faults{Stall: true}})
	at := func(s *standin.Server) string { return fmt.Sprintf("127.0.0.1:%d", s.Port()) }
	w.must(0, "alias", "add", "all", "--engine", "postgres", "--address", at(good), "--address", at(starting),
		"--address", at(other), "--address", "127.0.0.1:1", "--address", "nowhere.invalid")
	w.must(0, "alias", "add", "none", "--engine", "postgres", "--address", "127.0.0.1:1")
	r := w.must(0, "alias", "probe", "all", "none", "--repeat", "3")
	has(t, r.out, "answers  ", "answers, but lets nobody in yet: database.starting-up", "greeting.other-engine",
		"port.refused", "name.not-found", "3 of 3")
	var list struct{ Aliases []checkup.Answers }
	must(t, json.Unmarshal([]byte(w.must(0, "alias", "probe", "all", "--json").out), &list))
	if a := list.Aliases[0].Addresses; len(a) != 5 || !a[0].Answers || a[0].Good != 5 || a[0].Min <= 0 ||
		a[0].Median < a[0].Min || a[0].Max < a[0].Median || !a[1].Answers || a[1].Open || a[2].Answers {
		t.Errorf("%+v", list)
	}
	// A name stands as it is written, with the address that it led to.
	w.must(0, "alias", "add", "named", "--engine", "postgres", "--address", fmt.Sprintf("localhost:%d", good.Port()))
	has(t, w.must(0, "alias", "probe", "named").out, fmt.Sprintf("localhost:%d (127.0.0.1)", good.Port()))
	has(t, w.must(0, "alias", "probe", "named", "--json").out,
		fmt.Sprintf(`"address": "127.0.0.1:%d"`, good.Port()), fmt.Sprintf(`"written": "localhost:%d"`, good.Port()))
	if r := w.run("alias", "probe", "none"); r.code != 5 {
		t.Errorf("exit %d", r.code)
	}
	if opened := good.Opened(); slices.ContainsFunc(opened, func(database string) bool { return database != "" }) {
		t.Errorf("someone logged in: %q", opened)
	}
	args := []string{"alias", "add", "many", "--engine", "postgres"}
	for i := range 100 {
		s := silent
		if i%2 == 0 {
			s = good
		}
		args = append(args, "--address", fmt.Sprintf("127.0.%d.1:%d", i, s.Port()))
	}
	w.must(0, args...)
	began := time.Now()
	w.run("alias", "probe", "many", "--timeout", "2s")
	if took := time.Since(began); took > 8*time.Second {
		t.Errorf("100 addresses took %s", took)
	}
}
