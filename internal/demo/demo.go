// Package demo is the scenario of Fellside Huts, a made-up society that books bunks in mountain huts: which
// practice servers there are, and which steps the tour takes with them.
package demo

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"time"

	"golang.org/x/crypto/ssh"

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
	Spare    *standin.Server // PostgreSQL's protocol, a replica of Bookings
	Secure   *standin.Server // PostgreSQL's protocol, encrypted, with a certificate of another authority
	Inside   *standin.Server // PostgreSQL's protocol, in a container
	Anew     *standin.Server // PostgreSQL's protocol, in the container that is made anew
	Live     *standin.Server // PostgreSQL's protocol, in the cloud
	Reports  *standin.Server // a copy of it
	// Cloud is a practice cloud, with Live as its server bunkhouse.
	Cloud *standin.Cloud
	// Engine is a container engine, with the container of Inside and a stopped one; nil before StartEngine.
	Engine *standin.Engine
	Gate   *standin.Jump // an SSH server, behind which bookings.fellside.example is
	// Authority has issued the certificate of Secure, in PEM form.
	Authority []byte
	// GateKey is the private key that the gate lets in, in OpenSSH's form.
	GateKey []byte
}

// Start starts the servers.
func Start() (*Scene, error) {
	accounts := map[string]string{"warden_app": passwords["HUT_WARDEN_PW"], "reader": passwords["HUT_READER_PW"], "steward": "keys-of-every-hut"}
	authority, err := standin.NewAuthority("Fellside Huts practice authority")
	if err != nil {
		return nil, err
	}
	encryption, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().AddDate(0, 6, 0), "localhost", "127.0.0.1", "db.fellside.example", "bookings.fellside.example")
	if err != nil {
		return nil, err
	}
	clouds, err := standin.NewAuthority("Fellside practice cloud authority")
	if err != nil {
		return nil, err
	}
	lives, err := clouds.Serve(time.Now().Add(-time.Hour), time.Now().AddDate(0, 6, 0), liveName)
	if err != nil {
		return nil, err
	}
	s := &Scene{Authority: authority.PEM}
	for _, each := range []struct {
		into   **standin.Server
		config standin.Config
	}{
		{&s.Bookings, standin.Config{Engine: "postgres"}},
		{&s.Inside, standin.Config{Engine: "postgres"}},
		{&s.Anew, standin.Config{Engine: "postgres"}},
		{&s.Spare, standin.Config{Engine: "postgres", Replica: true}},
		{&s.Ledger, standin.Config{Engine: "mariadb", Login: "mysql_native_password"}},
		{&s.Secure, standin.Config{Engine: "postgres", TLS: encryption}},
		{&s.Live, standin.Config{Engine: "postgres", TLS: lives}},
		{&s.Reports, standin.Config{Engine: "postgres", TLS: lives, Replica: true}},
		{&s.Fake, standin.Config{Engine: "postgres", Faults: standin.Faults{AskClear: true}}},
	} {
		each.config.Accounts, each.config.Superuser = accounts, "steward"
		if *each.into, err = standin.Start(each.config); err != nil {
			s.Close()
			return nil, err
		}
	}
	err = s.startGate()
	if err == nil {
		err = s.startCloud(string(clouds.PEM))
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// startGate starts the jump host, with a key that it lets in.
func (s *Scene) startGate() error {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	block, err := ssh.MarshalPrivateKey(private, "practice")
	if err != nil {
		return err
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return err
	}
	s.GateKey = pem.EncodeToMemory(block)
	s.Gate, err = standin.StartJump(standin.JumpConfig{
		Keys: []ssh.PublicKey{signer.PublicKey()}, Forwards: map[string]string{"bookings.fellside.example:5432": fmt.Sprintf("127.0.0.1:%d", s.Secure.Port())},
	})
	return err
}

// GateFingerprint gives the fingerprint of the jump host's key, SHA256:…
func (s *Scene) GateFingerprint() string { return ssh.FingerprintSHA256(s.Gate.HostKey()) }

// Close ends the servers.
func (s *Scene) Close() {
	if s.Gate != nil {
		s.Gate.Close()
	}
	if s.Cloud != nil {
		s.Cloud.Close()
	}
	if s.Engine != nil {
		s.Engine.Close()
	}
	for _, server := range []*standin.Server{s.Bookings, s.Inside, s.Anew, s.Spare, s.Ledger, s.Fake, s.Secure, s.Live, s.Reports} {
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
	// Before changes what is there, nil for nothing.
	Before func()
	// Needs is a program without which the step is left out.
	Needs string
}

// Compose is the Compose file of the tour's folder.
const Compose = `name: huts
services:
  db:
    image: postgres:16
    environment:
      POSTGRES_USER: warden_app
      POSTGRES_PASSWORD: ${HUT_WARDEN_PW}
      POSTGRES_DB: bunkhouse
    ports: ["5432"]
    volumes: ["hutdata:/var/lib/postgresql/data"]
  snow:
    image: mariadb:11
    environment: {MARIADB_USER: reader, MARIADB_PASSWORD: "${HUT_READER_PW}", MARIADB_DATABASE: snow_depth}
volumes: {hutdata: {}}
`

// StartEngine has the practice container engine listen on a socket, with the containers of a folder's Compose file.
func (s *Scene) StartEngine(socket, folder string) (err error) {
	if s.Engine, err = standin.StartEngine(socket); err != nil {
		return err
	}
	s.container(s.Inside, "running", folder)
	s.Engine.Put(standin.Contained{Name: "tally", Image: "mariadb:10.11", State: "exited", ExitCode: 0, Ended: time.Now().Add(-50 * time.Hour), Env: []string{"MARIADB_ROOT_PASSWORD=" + passwords["HUT_READER_PW"]}, Volume: "tally", Folder: "/var/lib/mysql"})
	return nil
}

// container makes the container of the service db, with a server in it.
func (s *Scene) container(server *standin.Server, state, folder string) {
	c := standin.Contained{
		Name: "huts-db-1", Image: "postgres:16", State: state, Published: map[int][]string{5432: {server.Address()}}, Volume: "huts_hutdata", Folder: "/var/lib/postgresql/data", Health: "healthy",
		Env:    []string{"POSTGRES_USER=warden_app", "POSTGRES_PASSWORD=" + passwords["HUT_WARDEN_PW"], "POSTGRES_DB=bunkhouse"},
		Labels: map[string]string{"com.docker.compose.project": "huts", "com.docker.compose.service": "db", "com.docker.compose.container-number": "1", "com.docker.compose.project.working_dir": folder},
	}
	if state != "running" {
		c.Health, c.ExitCode, c.Ended = "", 137, time.Now().Add(-3*time.Minute)
		c.Log = []string{"the hut is closing for the night", "database system is shut down"}
	}
	s.Engine.Put(c)
}

// Containers gives the steps with the container engine.
func (s *Scene) Containers(folder string) []Step {
	return []Step{
		{Say: "What is in containers, and in this folder's Compose file: each server once, with the profile that it would become.", Args: []string{"find", "--only", "containers,compose"}},
		{Say: "A profile of one of them. Its password stays where it is, in the container.", Args: []string{"find", "--only", "containers,compose", "--add", "huts/db"}},
		{Say: "The container is removed, and another one is made of the same image, on another port. The profile follows it.", Args: []string{"test", "huts/db"},
			Before: func() { s.container(s.Anew, "running", folder) }},
		{Say: "And when it is stopped, the test says since when, and how its log ends.", Args: []string{"test", "huts/db"}, Exit: 5,
			Before: func() { s.container(s.Anew, "exited", folder) }},
	}
}

// Profiles gives the steps that write the scenario's profiles.
func (s *Scene) Profiles() []Step {
	return []Step{
		{Say: "A profile gives a connection a name. A setting that is not given has its default; the password stays out of it, and the profile only says in which variable to look.",
			Args: []string{"add", "huts/local", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Bookings.Port()),
				"--database", "bunkhouse", "--user", "warden_app", "--secret", "env:HUT_WARDEN_PW", "--note", "the practice server"}},
		{Say: "A connection string does as well. This one is tested first, and saved because the test passes.",
			Args: []string{"add", "archive/ledger", fmt.Sprintf("mariadb://reader@127.0.0.1:%d/bunkhouse", s.Ledger.Port()), "--secret", "env:HUT_READER_PW", "--test"}},
	}
}

// Staging gives the step that writes the profile behind the jump host, which is found at a host.
func (s *Scene) Staging(gate string) Step {
	return Step{Say: "A database that only a jump host can see. The profile names the hop, and the key for it.",
		Args: []string{"add", "huts/staging", "--engine", "postgres", "--host", "bookings.fellside.example", "--database", "bunkhouse", "--user", "warden_app", "--secret", "env:HUT_WARDEN_PW",
			"--via", fmt.Sprintf("{host: %s, user: ops, port: %d, key: id_gate}", gate, s.Gate.Port()), "--tls-ca", "authority.pem"}}
}

// Tour gives the steps that follow.
func (s *Scene) Tour() []Step {
	return []Step{
		{Say: "These are the profiles now.", Args: []string{"list"}},
		{Say: "Each setting knows where it comes from.", Args: []string{"show", "huts/local"}},
		{Say: "A profile can start from another and say only what differs.",
			Args: []string{"add", "huts/winter", "--base", "huts/local", "--user", "reader", "--secret", "env:HUT_READER_PW", "--label", "season=winter"}},
		{Say: "Then it can be told which values come from where, and which ones they hide.", Args: []string{"show", "huts/winter", "--all"}},
		{Say: "A value is changed in place, and the rest of the file stays as someone wrote it.", Args: []string{"change", "huts/winter", "--timeout", "2s"}},
		{Say: "A program gets the connection as it likes it; a password would leave only to a file or a pipe.", Args: []string{"export", "huts/winter", "--as", "dotenv"}},
		{Say: "A test walks one connection, leg by leg, and then says what it is in.", Args: []string{"test", "huts/local"}},
		{Say: "One statement can be run directly.", Args: []string{"run", "huts/local", "select name, height, valley from hut order by height desc"}},
		{Say: "Or listed.", Args: []string{"survey", "archive/ledger", "databases"}},
		{Say: "So far the passwords stood in variables. A wallet keeps them encrypted; its passphrase comes from a file here, since nobody is there to type it.",
			Args: []string{"wallet", "create", "--passphrase-file", "phrase.txt"}},
		{Say: "What goes in is bound to its user, its server and its encryption.",
			Args: []string{"wallet", "put", "--profile", "huts/local", "--secret", "env:HUT_WARDEN_PW", "--passphrase-file", "phrase.txt"}},
		{Say: "Jobs are let in without the passphrase once that is switched on, and it says what that means.",
			Args: []string{"wallet", "unattended", "on", "--passphrase-file", "phrase.txt", "--yes"}},
		{Say: "A profile that says nothing about its secret finds it there.", Args: []string{"change", "huts/local", "--unset", "secret"}},
		{Say: "No variable, no question.", Args: []string{"test", "huts/local"}},
		{Say: "The same profile, sent to another server by a flag: what is kept for one server is not sent to another.",
			Args: []string{"test", "huts/local", "--host", "localhost", "--port", fmt.Sprint(s.Bookings.Port())}, Exit: 4},
		{Say: "What is not as safe as it could be, and how to fix it.", Args: []string{"audit"}},
		{Say: "An alias names a server once, with its spare addresses, for many profiles. One of these is down, one is a replica, and the primary is wanted.",
			Args: []string{"alias", "add", "bookings", "--engine", "postgres", "--address", "127.0.0.1:1", "--address", s.Spare.Address(), "--address", s.Bookings.Address(), "--wants", "primary"}},
		{Say: "Whether an address answers, and how fast, can be asked without a login.", Args: []string{"alias", "probe", "bookings"}},
		{Say: "A profile names the alias in the place of a host.",
			Args: []string{"add", "huts/bookings", "--alias", "bookings", "--database", "bunkhouse", "--user", "warden_app", "--secret", "env:HUT_WARDEN_PW"}},
		{Say: "The test says which address served, and why the others did not.", Args: []string{"test", "huts/bookings"}},
		{Say: "Now what goes wrong. The port of the other engine: the greeting says who is there.",
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
		s.Staging("gate.fellside.example"),
		{Say: "The hop is not known yet, so nothing is sent before a person has compared its key.", Args: []string{"test", "huts/staging"}, Exit: 5},
		{Say: "It is the right one.", Args: []string{"test", "huts/staging", "--accept-host-key", s.GateFingerprint()}},
		{Say: "A door on this machine lets other programs through. This one closes by itself after a second.", Args: []string{"hold", "huts/staging", "--for", "1s"}},
		{Say: "Or a program runs with a door of its own, and gets the address in its environment.", Args: []string{"with", "huts/staging", "--", "printenv", "GHARBOR_DOOR_HOST", "GHARBOR_DOOR_USER", "GHARBOR_DOOR_DATABASE"}, Needs: "printenv"},
		{Say: "Every report can be had as JSON, for scripts.", Args: []string{"list", "--json"}},
	}
}
