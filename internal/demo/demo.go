// Package demo is the scenario of Fellside Huts, a made-up society that books bunks in mountain huts: which
// practice servers there are, and which steps the tour takes with them.
package demo

import (
	"fmt"
	"time"

	"gentle-harbor/internal/standin"
)

// Passwords of the practice accounts, by the variable in which the tour's profiles look for them. They open
// nothing but the practice servers, which end with the demo.
var passwords = map[string]string{
	"HUT_WARDEN_PW": "ropes-and-lanterns-7",
	"HUT_READER_PW": "reading-by-the-stove",
}

// Phrase opens the tour's wallet, which goes with the demo.
const Phrase = "the warden keeps the lamp lit"

// Scene is the set of practice servers, running.
type Scene struct {
	Bookings *standin.Server // PostgreSQL's protocol, without encryption
	Ledger   *standin.Server // MariaDB's protocol
	Fake     *standin.Server // PostgreSQL's protocol, asks to be shown the password
	Secure   *standin.Server // PostgreSQL's protocol, encrypted, with a certificate of another authority
}

// Start starts the servers.
func Start() (*Scene, error) {
	accounts := map[string]string{"warden_app": passwords["HUT_WARDEN_PW"], "reader": passwords["HUT_READER_PW"], "steward": "keys-of-every-hut"}
	authority, err := standin.NewAuthority("Fellside Huts practice authority")
	if err != nil {
		return nil, err
	}
	encryption, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().Add(24*time.Hour), "localhost", "127.0.0.1", "db.fellside.example")
	if err != nil {
		return nil, err
	}
	s := &Scene{}
	for _, each := range []struct {
		into   **standin.Server
		config standin.Config
	}{
		{&s.Bookings, standin.Config{Engine: "postgres"}},
		{&s.Ledger, standin.Config{Engine: "mariadb", Login: "mysql_native_password"}},
		{&s.Secure, standin.Config{Engine: "postgres", TLS: encryption}},
		{&s.Fake, standin.Config{Engine: "postgres", Faults: standin.Faults{AskClear: true}}},
	} {
		each.config.Accounts, each.config.Superuser = accounts, "steward"
		if *each.into, err = standin.Start(each.config); err != nil {
			s.Close()
			return nil, err
		}
	}
	return s, nil
}

// Close ends the servers.
func (s *Scene) Close() {
	for _, server := range []*standin.Server{s.Bookings, s.Ledger, s.Fake, s.Secure} {
		if server != nil {
			server.Close()
		}
	}
}

// Environ gives NAME=VALUE pairs with the passwords that the tour's profiles look for.
func Environ() []string {
	var pairs []string
	for _, name := range []string{"HUT_WARDEN_PW", "HUT_READER_PW"} {
		pairs = append(pairs, name+"="+passwords[name])
	}
	return pairs
}

// Step is one command of the tour.
type Step struct {
	Say     string   // a sentence on what it is for
	Args    []string // the command, without the program's name
	Environ []string // set for this command alone
	Exit    int      // the exit code that the tour expects
}

// Profiles gives the steps that write the scenario's profiles.
func (s *Scene) Profiles() []Step {
	return []Step{
		{Say: "A way into a database gets a name. What is not said keeps its default; the password stays out of it, and the profile only says in which variable to look.",
			Args: []string{"add", "huts/local", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Bookings.Port()),
				"--database", "bunkhouse", "--user", "warden_app", "--secret", "env:HUT_WARDEN_PW", "--note", "the practice server"}},
		{Say: "A connection string does as well. This one is tested first, and saved because the test passes.",
			Args: []string{"add", "archive/ledger", fmt.Sprintf("mariadb://reader@127.0.0.1:%d/bunkhouse", s.Ledger.Port()), "--secret", "env:HUT_READER_PW", "--test"}},
	}
}

// Tour gives the steps that follow.
func (s *Scene) Tour() []Step {
	return []Step{
		{Say: "These are the profiles now.", Args: []string{"list"}},
		{Say: "Each setting knows where it comes from.", Args: []string{"show", "huts/local"}},
		{Say: "A profile can start from another and say only what differs.",
			Args: []string{"add", "huts/winter", "--base", "huts/local", "--user", "reader", "--secret", "env:HUT_READER_PW", "--label", "season=winter"}},
		{Say: "Then it can be told which values come from where, and which ones they hide.", Args: []string{"show", "huts/winter", "--all"}},
		{Say: "A value is changed in place, and the rest of the file stays as somebody wrote it.", Args: []string{"change", "huts/winter", "--timeout", "2s"}},
		{Say: "A program gets the connection as it likes it; a password would leave only to a file or a pipe.", Args: []string{"export", "huts/winter", "--as", "dotenv"}},
		{Say: "A test walks one connection, leg by leg, and then says what it is in.", Args: []string{"test", "huts/local"}},
		{Say: "One thing can be asked at once.", Args: []string{"run", "huts/local", "select name, height, valley from hut order by height desc"}},
		{Say: "Or listed.", Args: []string{"survey", "archive/ledger", "databases"}},
		{Say: "So far the passwords stood in variables. A wallet keeps them encrypted; its passphrase comes from a file here, since nobody is there to type it.",
			Args: []string{"wallet", "create", "--passphrase-file", "phrase.txt"}},
		{Say: "What goes in is bound to its user, its place and its encryption.",
			Args: []string{"wallet", "put", "--profile", "huts/local", "--secret", "env:HUT_WARDEN_PW", "--passphrase-file", "phrase.txt"}},
		{Say: "Jobs are let in without the passphrase once that is switched on, and it says what that means.",
			Args: []string{"wallet", "unattended", "on", "--passphrase-file", "phrase.txt", "--yes"}},
		{Say: "A profile that says nothing about its secret finds it there.", Args: []string{"change", "huts/local", "--unset", "secret"}},
		{Say: "No variable, no question.", Args: []string{"test", "huts/local"}},
		{Say: "The same profile, turned to another place by a flag: what is kept for one place is not sent to another.",
			Args: []string{"test", "huts/local", "--host", "localhost", "--port", fmt.Sprint(s.Bookings.Port())}, Exit: 4},
		{Say: "Whatever is not as safe as it could be, with its mend.", Args: []string{"audit"}},
		{Say: "Now what goes wrong. The port of the other engine: the greeting tells who is there.",
			Args: []string{"test", "huts/local", "--port", fmt.Sprint(s.Ledger.Port()), "--secret", "env:HUT_WARDEN_PW"}, Exit: 5},
		{Say: "A port on which nothing listens: other ports of this machine are looked at.",
			Args: []string{"test", "archive/ledger", "--port", "1"}, Exit: 5},
		{Say: "A password with a wrong capital letter: most servers hide whether user or password is wrong, and so the finding says both.",
			Args: []string{"test", "huts/local", "--secret", "env:HUT_WARDEN_PW"}, Environ: []string{"HUT_WARDEN_PW=Ropes-and-lanterns-7"}, Exit: 6},
		{Say: "A database that is not there.", Args: []string{"test", "archive/ledger", "--database", "bunkhaus"}, Exit: 7},
		{Say: "A certificate of an authority that nobody here knows: nothing is sent to such a server.",
			Args: []string{"test", "huts/local", "--port", fmt.Sprint(s.Secure.Port()), "--tls", "verify", "--secret", "env:HUT_WARDEN_PW"}, Exit: 5},
		{Say: "And a server on another machine that asks to be shown the password, over a connection that anyone could read: it is not sent.",
			Args: []string{"test", "huts/local", "--host", "db.fellside.example", "--port", fmt.Sprint(s.Fake.Port()), "--tls", "off", "--secret", "env:HUT_WARDEN_PW"}, Exit: 6},
		{Say: "Every report can be had as JSON, for scripts.", Args: []string{"list", "--json"}},
	}
}
