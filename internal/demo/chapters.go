package demo

import "fmt"

// Step is one command of a chapter.
type Step struct {
	Say     string   // a sentence on what it is for
	Args    []string // the command, without the program's name
	Environ []string // set for this command alone
	Exit    int      // the exit code that is expected
	// Before changes what is there, nil for nothing.
	Before func()
	// Needs is a program without which the step is left out.
	Needs string
}

// Chapter is a part of the demo that stands by itself.
type Chapter struct {
	Name  string // "" for the main one
	About string // a few words
	Parts Part
	Steps func(s *Scene) []Step
}

// Chapters are the demo's, in their order.
var Chapters = []Chapter{
	{"", "define, test, a failure and its fix, a password in a wallet, a door", Bookings | Ledger, (*Scene).first},
	{"secrets", "where passwords come from, and what they are not sent to", Bookings | Secure | Careless,
		(*Scene).secrets},
	{"hops", "a server behind a jump host, and doors to it", Gate, (*Scene).hops},
	{"aliases", "one name for a server and its spares; profiles that share settings", Bookings | Spare | Census,
		(*Scene).aliases},
	{"containers", "a server in a container, found, made anew and stopped", Container, (*Scene).containers},
	{"documents", "a server of documents: is the name right, what is there, one command", Snow, (*Scene).documents},
	{"cloud", "sign in to a cloud, have this machine let in, a login for each run", Cloud, (*Scene).cloud},
}

// Find gives the chapter of a name, and whether there is one.
func Find(name string) (Chapter, bool) {
	for _, each := range Chapters {
		if each.Name == name {
			return each, true
		}
	}
	return Chapter{}, false
}

// Names lists the chapters but the main one.
func Names() []string {
	var names []string
	for _, each := range Chapters[1:] {
		names = append(names, each.Name)
	}
	return names
}

// local gives the step that writes the profile of Bookings.
func (s *Scene) local(say string) Step {
	return Step{Say: say, Args: []string{"add", "huts/local", "--engine", "postgres", "--host", "127.0.0.1",
		"--port", fmt.Sprint(s.Bookings.Port()),
		"--database", "bunkhouse", "--user", "warden_app", "--secret", "env:HUT_WARDEN_PW"}}
}

func ledger(port int) string { return fmt.Sprintf("mariadb://reader@127.0.0.1:%d/bunkhouse", port) }

// first gives the steps of the main chapter.
func (s *Scene) first() []Step {
	return []Step{
		s.local("A profile gives a connection a name. The password stays out of it: the profile only says in " +
			"which variable to look."),
		{Say: "A test walks one connection, leg by leg, and then says where you are.", Args: []string{"test", "huts/local"}},
		{Say: "Then one statement can be run.",
			Args: []string{"run", "huts/local", "select name, height, valley from hut order by height desc"}},
		{Say: "A connection string works too. This one has a wrong port.",
			Args: []string{"add", "archive/ledger", ledger(1), "--secret", "env:HUT_READER_PW"}},
		{Say: "The test says where the connection failed, why, what it saw, and what to try.",
			Args: []string{"test", "archive/ledger"}, Exit: 5},
		{Say: "The first command that it offers helps, so the profile keeps that port.",
			Args: []string{"change", "archive/ledger", "--port", fmt.Sprint(s.Ledger.Port())}},
		{Say: "", Args: []string{"test", "archive/ledger"}},
		{Say: "So far the passwords came from variables. A wallet stores them encrypted. Its passphrase comes " +
			"from a file here, since nobody is there to type it.",
			Args: []string{"wallet", "create", "--passphrase-file", "phrase.txt"}},
		{Say: "An entry is bound to its user, its server and its encryption.",
			Args: []string{"wallet", "add", "huts/local", "--secret", "env:HUT_WARDEN_PW", "--passphrase-file", "phrase.txt"}},
		{Say: "A profile that says nothing about its secret finds the entry.",
			Args: []string{"change", "huts/local", "--unset", "secret"}},
		{Say: "A flag sends the same profile to another server. The password is not sent there: it is stored " +
			"for one server only.",
			Args: []string{"test", "huts/local", "--host", "localhost", "--port", fmt.Sprint(s.Bookings.Port()),
				"--passphrase-file", "phrase.txt"}, Exit: 4},
		{Say: "A door is an address on this machine at which the server answers, for other programs. This one " +
			"closes by itself after a second.",
			Args: []string{"hold", "huts/local", "--for", "1s", "--passphrase-file", "phrase.txt"}},
		{Say: "Or a door is open for as long as one program runs. The program gets the address in its environment.",
			Args: []string{"with", "archive/ledger", "--", "printenv", "GHARBOR_DOOR_HOST",
				"GHARBOR_DOOR_USER"}, Needs: "printenv"},
	}
}

// secrets gives the steps about passwords.
func (s *Scene) secrets() []Step {
	return []Step{
		s.local("This profile takes its password from a variable."),
		{Say: "A wrong capital letter in it. Most servers hide whether user or password is wrong, and so the " +
			"finding says both.",
			Args: []string{"test", "huts/local"}, Environ: []string{"HUT_WARDEN_PW=Ropes-and-lanterns-7"}, Exit: 6},
		{Say: "A wallet stores passwords encrypted. Its passphrase comes from a file here, since nobody is there to type it.",
			Args: []string{"wallet", "create", "--passphrase-file", "phrase.txt"}},
		{Say: "An entry is bound to its user, its server and its encryption.",
			Args: []string{"wallet", "add", "huts/local", "--secret", "env:HUT_WARDEN_PW",
				"--passphrase-file", "phrase.txt"}},
		{Say: "Jobs get in without the passphrase once that is switched on. The command says what that means.",
			Args: []string{"wallet", "unattended", "on", "--passphrase-file", "phrase.txt", "--yes"}},
		{Say: "A profile that says nothing about its secret finds the entry.",
			Args: []string{"change", "huts/local", "--unset", "secret"}},
		{Say: "No variable, no question.", Args: []string{"test", "huts/local"}},
		{Say: "What is in the wallet, and who uses it.", Args: []string{"wallet", "list"}},
		{Say: "A certificate of an authority that nobody here knows: nothing is sent to such a server.",
			Args: []string{"test", "huts/local", "--port", fmt.Sprint(s.Secure.Port()), "--tls", "verify",
				"--secret", "env:HUT_WARDEN_PW"}, Exit: 5},
		{Say: "With the certificate of that authority the server is trusted.",
			Args: []string{"test", "huts/local", "--port", fmt.Sprint(s.Secure.Port()), "--tls", "verify",
				"--tls-ca", "authority.pem", "--secret", "env:HUT_WARDEN_PW"}},
		{Say: "A server on another machine asks to be shown the password, over a connection that anyone could " +
			"read. The password is not sent.",
			Args: []string{"test", "huts/local", "--host", "db.fellside.example",
				"--port", fmt.Sprint(s.Careless.Port()), "--tls", "off", "--secret", "env:HUT_WARDEN_PW"}, Exit: 6},
		{Say: "What is not as safe as it could be, and how to fix it.", Args: []string{"audit"}},
	}
}

// Staging gives the step that writes the profile behind the jump host, which is found at a host.
func (s *Scene) Staging(gate string) Step {
	return Step{Say: "A database that only a jump host can reach. The profile names the hop, and the key for it.",
		Args: []string{"add", "huts/staging", "--engine", "postgres", "--host", "bookings.fellside.example",
			"--database", "bunkhouse", "--user", "warden_app", "--secret", "env:HUT_WARDEN_PW",
			"--via", fmt.Sprintf("{host: %s, user: ops, port: %d, key: id_gate}", gate, s.Gate.Port()),
			"--tls-ca", "authority.pem"}}
}

// hops gives the steps with the jump host.
func (s *Scene) hops() []Step {
	return []Step{
		s.Staging("gate.fellside.example"),
		{Say: "The hop's key is not known yet, so nothing is sent before a person has compared it.",
			Args: []string{"test", "huts/staging"}, Exit: 5},
		{Say: "It is the right one.", Args: []string{"test", "huts/staging", "--accept-host-key", s.GateFingerprint()}},
		{Say: "A door on this machine lets other programs through. This one closes by itself after a second.",
			Args: []string{"hold", "huts/staging", "--for", "1s"}},
		{Say: "Or a door is open for as long as one program runs. The program gets the address in its environment.",
			Args: []string{"with", "huts/staging", "--", "printenv", "GHARBOR_DOOR_HOST", "GHARBOR_DOOR_USER",
				"GHARBOR_DOOR_DATABASE"}, Needs: "printenv"},
		{Say: "These host keys were accepted here.", Args: []string{"hops", "list"}},
	}
}

// aliases gives the steps about what profiles share.
func (s *Scene) aliases() []Step {
	return []Step{
		{Say: "An alias names a server once, with its spare addresses, for many profiles. Of these addresses " +
			"one is down and one is a replica; the primary is wanted.",
			Args: []string{"alias", "add", "bookings", "--engine", "postgres", "--address", "127.0.0.1:1",
				"--address", s.Spare.Address(), "--address", s.Bookings.Address(), "--wants", "primary"}},
		{Say: "Which addresses answer, and how fast: nobody logs in for that.", Args: []string{"alias", "probe", "bookings"}},
		{Say: "A profile names the alias instead of a host.",
			Args: []string{"add", "huts/bookings", "--alias", "bookings", "--database", "bunkhouse",
				"--user", "warden_app", "--secret", "env:HUT_WARDEN_PW"}},
		{Say: "The test says which address served, and why the others did not.", Args: []string{"test", "huts/bookings"}},
		{Say: "A profile can start from another one and say only what differs.",
			Args: []string{"add", "huts/winter", "--base", "huts/bookings", "--user", "reader",
				"--secret", "env:HUT_READER_PW", "--label", "season=winter"}},
		{Say: "Which value comes from where, and which value it hides.", Args: []string{"show", "huts/winter", "--hidden"}},
		{Say: "A value is changed in place. The rest of the file stays as it was written.",
			Args: []string{"change", "huts/winter", "--timeout", "2s"}},
		{Say: "Other programs get the connection in their own form. A password leaves only to a file or a pipe.",
			Args: []string{"export", "huts/winter", "--as", "dotenv"}},
		{Say: "Some servers are behind a listener, and clients have a file of names for them. It becomes aliases.",
			Args: []string{"alias", "import", "names.ora"}},
		{Say: "The listener is asked for the service that the alias says.",
			Args: []string{"add", "archive/census", "--alias", "CENSUS", "--user", "warden_app",
				"--secret", "env:HUT_WARDEN_PW"}},
		{Say: "", Args: []string{"test", "archive/census"}},
		{Say: "Every report can be printed as JSON, for scripts.", Args: []string{"list", "--json"}},
	}
}

// containers gives the steps with the container engine.
func (s *Scene) containers() []Step {
	return []Step{
		{Say: "What is in containers, and in this folder's Compose file: each server once, with the profile " +
			"that it would become.",
			Args: []string{"find", "--only", "containers,compose"}},
		{Say: "A profile of one of them. Its password stays where it is, in the container.",
			Args: []string{"find", "--only", "containers,compose", "--add", "huts/db"}},
		{Say: "The container is removed, and another one is made of the same image, on another port. The profile follows it.",
			Args: []string{"test", "huts/db"}, Before: s.anewContainer},
		{Say: "When it is stopped, the test says since when, and how its log ends.",
			Args: []string{"test", "huts/db"}, Exit: 5, Before: func() { s.container(s.anew, "exited") }},
	}
}

// documents gives the steps with a server of documents.
func (s *Scene) documents() []Step {
	return []Step{
		{Say: "A server that keeps documents. Its connection string says where the account is known, too.",
			Args: []string{"add", "archive/snow",
				fmt.Sprintf("mongodb://warden_app@127.0.0.1:%d/bunkhouse?authSource=admin", s.Snow.Port()),
				"--secret", "env:HUT_WARDEN_PW"}},
		{Say: "The test says which server of its set this is, and whether it takes changes.",
			Args: []string{"test", "archive/snow"}},
		{Say: "Such a server opens a wrong name without an error. The test says that it is not there.",
			Args: []string{"test", "archive/snow", "--database", "bunkhose"}},
		{Say: "What is there.", Args: []string{"survey", "archive/snow", "tables"}},
		{Say: "One command, written as Extended JSON. A value goes beside it, and never becomes a part of its text.",
			Args: []string{"run", "archive/snow",
				`{"find": "snow_depth", "filter": {"centimetres": {"$gt": {{least}}}}}`, "--let", "least:integer=3"}},
		{Say: "A command that may change something is known by its name. The guard refuses it before anything is sent.",
			Args: []string{"run", "archive/snow", `{"drop": "snow_depth"}`, "--guard", "read-only"}, Exit: 7},
	}
}

// Account gives the steps that make the cloud's account and the profile of its server.
func (s *Scene) Account() []Step {
	return []Step{
		{Say: "A cloud runs servers too. It gets a name here, once it has shown that it is one.",
			Args: []string{"cloud", "add", "fellside", s.Cloud.URL()}},
		{Say: "A profile names one of its servers instead of a host. The cloud says the address and the " +
			"authority, and makes a login for each run.",
			Args: []string{"add", "huts/live", "--engine", "postgres", "--cloud", "fellside/bunkhouse",
				"--database", "bunkhouse", "--secret", "cloud", "--timeout", "1s"}},
	}
}

// Profiles gives the steps that write the scenario's profiles.
func (s *Scene) Profiles() []Step {
	return []Step{s.local(""), {Args: []string{"add", "archive/ledger", ledger(s.Ledger.Port()),
		"--secret", "env:HUT_READER_PW"}}, s.Staging("127.0.0.1")}
}

// Places gives NAME=VALUE pairs that say where the practice servers are.
func (s *Scene) Places() []string {
	return []string{
		fmt.Sprint("HUT_PORT=", s.Bookings.Port()), fmt.Sprint("SPARE_PORT=", s.Spare.Port()),
		fmt.Sprint("LEDGER_PORT=", s.Ledger.Port()),
		fmt.Sprint("GATE_PORT=", s.Gate.Port()), "GATE_KEY=" + s.GateFingerprint(), "CLOUD_URL=" + s.Cloud.URL(),
		fmt.Sprint("CENSUS_PORT=", s.Census.Port()), fmt.Sprint("SNOW_PORT=", s.Snow.Port()),
	}
}

// Wallet gives the steps that make a wallet which opens without its passphrase.
func (s *Scene) Wallet() []Step {
	return []Step{
		{Say: "The key of a sign-in is stored in a wallet. The wallet's passphrase comes from a file here, " +
			"since nobody is there to type it.",
			Args: []string{"wallet", "create", "--passphrase-file", "phrase.txt"}},
		{Say: "Jobs open it without the passphrase from now on.",
			Args: []string{"wallet", "unattended", "on", "--passphrase-file", "phrase.txt", "--yes"}},
	}
}

// cloud gives the steps with the practice cloud.
func (s *Scene) cloud() []Step {
	steps := append(s.Account(), Step{Say: "Nobody is signed in yet.", Args: []string{"test", "huts/live"}, Exit: 4})
	return append(append(steps, s.Wallet()...), []Step{
		{Say: "To sign in, a person compares this code with the one on the page. The keeper of Fellside does it now.",
			Args: []string{"cloud", "sign-in", "fellside", "--passphrase-file", "phrase.txt"}, Before: s.keeper},
		{Say: "A service of a new project is off. The cloud says where it is switched on; gharbor await would " +
			"wait for the click.",
			Args: []string{"cloud", "servers"}, Exit: 5},
		{Say: "The keeper has switched it on.", Args: []string{"cloud", "servers"}, Before: func() {
			s.Cloud.SwitchOn(true)
		}},
		{Say: "The server's network lets nobody in at first. The cloud explains the silence at its port.",
			Args: []string{"test", "huts/live"}, Exit: 5},
		{Say: "This machine's address is let in for two hours. The command ends when the server greets.",
			Args: []string{"cloud", "admit", "huts/live", "--for", "2h", "--yes"}},
		{Say: "Now the test passes.", Args: []string{"test", "huts/live"}},
		{Say: "What was let in is not forgotten.", Args: []string{"cloud", "admissions"}},
		{Say: "Signed out, here and at the cloud.", Args: []string{"cloud", "sign-out"}},
	}...)
}
