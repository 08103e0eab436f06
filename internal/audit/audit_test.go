package audit

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route/jump"
	"gentle-harbor/internal/secret/keep/credentials"
	"gentle-harbor/internal/target"

	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/standin"
)

const canary = "canary-5b2f"

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// home writes files into a folder of a user's own.
func home(t *testing.T, files map[string]string) Scope {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "home")
	must(t, os.MkdirAll(folder, 0o700))
	for name, text := range files {
		path := filepath.Join(folder, filepath.FromSlash(name))
		must(t, os.MkdirAll(filepath.Dir(path), 0o700))
		must(t, os.WriteFile(path, []byte(strings.ReplaceAll(text, "HOME", folder)), 0o600))
	}
	return Scope{Home: folder, State: filepath.Join(folder, "state"),
		Library: profile.Library{Mine: profile.Store{Dir: folder}}, Now: now,
		Env: func(name string) (string, bool) { return canary, name == "SET" }}
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// lines gives what was found, a line each, with the home folder written HOME.
func lines(s Scope) string {
	list, _ := s.Run()
	var b strings.Builder
	for _, f := range list {
		fmt.Fprintf(&b, "%s %s %s: %s\n", f.Severity, f.About, strings.ReplaceAll(f.Place, s.Home, "HOME"),
			strings.ReplaceAll(f.What, s.Home, "HOME"))
	}
	return b.String()
}

func TestEachKindOfTrouble(t *testing.T) {
	const remote, local = "engine: postgres\nhost: db.fellside.example\nuser: reader\n", "engine: postgres\nhost: 127.0.0.1\nuser: reader\n"
	for _, c := range []struct {
		name  string
		files map[string]string
		want  string // one line, or none
	}{
		{"nothing", nil, ""},
		{"a good profile", map[string]string{"profiles/a.yaml": remote}, ""},
		{"without encryption", map[string]string{"profiles/a.yaml": remote + "tls: {mode: off}\n"},
			"serious travel a: logs in to"},
		{"without encryption and password",
			map[string]string{"profiles/a.yaml": remote + "tls: {mode: off}\nsecret: none\n"}, ""},
		{"on this machine", map[string]string{"profiles/a.yaml": local + "tls: {mode: off}\n"}, ""},
		{"identity unchecked", map[string]string{"profiles/a.yaml": remote + "tls: {mode: encrypt}\n"},
			"warning travel a: encrypts, but does not check who db.fellside.example:5432 is: someone on the " +
				"network between can answer as if it were the server, and try to guess the password"},
		{"unset variable", map[string]string{"profiles/a.yaml": local + "secret: env:UNSET\n"},
			"warning reference a: takes its password from the variable UNSET, which is not set here"},
		{"a variable", map[string]string{"profiles/a.yaml": local + "secret: env:SET\n"},
			"advice clear a: takes its password from the environment, where each program that you start can read it"},
		{"no file", map[string]string{"profiles/a.yaml": local + "secret: file:HOME/pw\n"},
			"warning reference a: takes its password from a file that cannot be used: There is no file HOME/pw"},
		{"a file", map[string]string{"profiles/a.yaml": local + "secret: file:HOME/pw\n", "pw": canary},
			"advice clear HOME/pw: has the password of a in clear; a wallet stores it encrypted and bound to its server"},
		{"no program", map[string]string{"profiles/a.yaml": local + "secret: 'command: [/no/such]'\n"},
			"warning reference a: takes its password from the program /no/such, which is not there or may not be run"},
		{"no wallet", map[string]string{"profiles/a.yaml": local + "secret: wallet\n"},
			"warning reference a: takes its password from a wallet that is not there"},
		{"no credential file", map[string]string{"profiles/a.yaml": local + "secret: credentials\n"},
			"warning reference a: takes its password from a credential file: There is no credential file HOME/credentials"},
		{"another credential file", map[string]string{"profiles/a.yaml": local + "secret: credentials:HOME/c\n",
			"c": credentials.Header + "\nat 127.0.0.1\n  reader: " + canary + "\n"},
			"advice clear HOME/c: has a password in clear; a wallet stores them encrypted"},
		{"no certificate", map[string]string{"profiles/a.yaml": remote + "tls: {ca: HOME/ca.pem}\n"},
			"warning reference a: names the certificates HOME/ca.pem, which cannot be read"},
		{"a password in a comment", map[string]string{"profiles/a.yaml": local + "# password: " + canary +
			"\n"}, "serious leaked HOME/profiles/a.yaml:4: has what looks like a password or a key"},
		{"a password in a group", map[string]string{"profiles/g/group.yaml": "note: postgres://u:" + canary +
			"@h/d\n"}, "serious leaked HOME/profiles/g/group.yaml:1: has what looks like a password or a key"},
		{"a broken profile", map[string]string{"profiles/a.yaml": "x\n"},
			"warning reference a: cannot be read: HOME/profiles/a.yaml:1: a profile is a list of settings"},
		{"a broken credential file", map[string]string{"credentials": "x"},
			"warning reference HOME/credentials: cannot be used: HOME/credentials:1: this is not the first line"},
	} {
		got := lines(home(t, c.files))
		if c.want == "" && got != "" || !strings.HasPrefix(got, c.want) || strings.Count(got, "\n") > 1 {
			t.Errorf("%s:\n%s", c.name, got)
		}
		if strings.Contains(got, canary) {
			t.Errorf("%s: it shows the password", c.name)
		}
	}
}

func TestModesAreMended(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("modes are not checked on Windows")
	}
	s := home(t, map[string]string{"profiles/a.yaml": "engine: postgres\nuser: a\nsecret: none\n",
		"credentials": credentials.Header + "\n", "wallet/owner": "x", "wallets/team/sealed": "x",
		"state/history": "x", "wallet/.lock": ""})
	modes := map[string]os.FileMode{"profiles/a.yaml": 0o646, "credentials": 0o640, "wallet/owner": 0o604,
		"wallets/team/sealed": 0o644, "state/history": 0o666, "profiles": 0o777, "wallet/.lock": 0o644}
	for name, mode := range modes {
		must(t, os.Chmod(filepath.Join(s.Home, name), mode))
	}
	list, _ := s.Run()
	if len(list) != 6 {
		t.Errorf("%d things:\n%s", len(list), lines(s))
	}
	Fix(list)
	for _, f := range list {
		if !f.Fixed || f.Severity != Serious || f.About != "files" {
			t.Errorf("%+v", f)
		}
	}
	for name, want := range map[string]os.FileMode{"profiles/a.yaml": 0o644, "credentials": 0o600,
		"wallet/owner": 0o600, "wallets/team/sealed": 0o600, "state/history": 0o644, "profiles": 0o755} {
		if info, err := os.Stat(filepath.Join(s.Home, name)); err != nil || info.Mode().Perm() != want {
			t.Errorf("%s has mode %v", name, info.Mode())
		}
	}
	// What a link leads to is told of and left alone; so is what belongs to someone else.
	outside := filepath.Join(t.TempDir(), "shared")
	must(t, os.WriteFile(outside, nil, 0o600))
	must(t, os.Chmod(outside, 0o666))
	must(t, os.Symlink(outside, filepath.Join(s.Home, "link")))
	if os.Geteuid() == 0 {
		must(t, os.Chown(filepath.Join(s.Home, "credentials"), 12345, -1))
	}
	list, _ = s.Run()
	Fix(list)
	if info, err := os.Stat(outside); err != nil || info.Mode().Perm() != 0o666 || len(list) == 0 ||
		list[0].Fixed || list[len(list)-1].Fixed {
		t.Errorf("%v %v\n%s", info.Mode(), err, lines(s))
	}
	must(t, os.Remove(filepath.Join(s.Home, "link")))
	must(t, os.Chown(filepath.Join(s.Home, "credentials"), os.Geteuid(), -1))
	if again := lines(s); again != "" {
		t.Errorf("it is not all fixed:\n%s", again)
	}
}

func TestCertificatesAboutToEnd(t *testing.T) {
	authority, err := standin.NewAuthority("Fellside Huts test authority")
	must(t, err)
	for days, want := range map[int]string{-1: "serious certificate HOME/c.pem: the certificate of carded ended " +
		"on 2026-11-22",
		9:  "warning certificate HOME/c.pem: the certificate of carded ends on 2026-12-02, in 9 days",
		29: "warning", 31: ""} {
		cert, key, err := authority.Issue(now.AddDate(-1, 0, 0), now.AddDate(0, 0, days).Add(time.Minute), "carded")
		must(t, err)
		got := lines(home(t, map[string]string{"c.pem": string(cert), "c.key": string(key),
			"profiles/a.yaml": "engine: postgres\nhost: h\nuser: carded\nsecret: none\ntls: {cert: HOME/c.pem, " +
				"key: HOME/c.key}\n",
			"profiles/b.yaml": "base: a\n"}))
		if want == "" && got != "" || !strings.HasPrefix(got, want) || strings.Count(got, "\n") > 1 {
			t.Errorf("%d days:\n%s", days, got)
		}
	}
}

func TestWalletAndWeakPasswords(t *testing.T) {
	at := func(user, host string, port int, text string) wallet.Entry {
		e := target.Endpoint{Host: host, Port: port}
		return wallet.Entry{Target: target.Target{User: user, Endpoint: e, TLS: e.WeakestTLS()}, Secret: secret.New(text)}
	}
	profiles := map[string]string{}
	for name, host := range map[string]string{"reader": "db.fellside.example", "warden_app": "127.0.0.1"} {
		profiles["profiles/"+name+".yaml"] = "engine: postgres\nhost: " + host + "\nuser: " + name + "\nsecret: wallet\n"
	}
	for _, c := range []struct {
		name    string
		entries []wallet.Entry
		want    string
	}{
		{"good", []wallet.Entry{at("reader", "db.fellside.example", 5432, canary),
			at("warden_app", "127.0.0.1", 0, "another "+canary)}, ""},
		{"empty", []wallet.Entry{at("reader", "db.fellside.example", 5432, ""), at("warden_app", "127.0.0.1", 0, "")},
			"serious weak the password of reader at db.fellside.example:5432 is empty\nwarning weak the " +
				"password of warden_app at 127.0.0.1 is empty\n"},
		{"the account's name", []wallet.Entry{at("reader", "db.fellside.example", 5432, "Reader"),
			at("warden_app", "127.0.0.1", 0, canary)},
			"serious weak the password of reader at db.fellside.example:5432 is the account's name\n"},
		{"common", []wallet.Entry{at("reader", "db.fellside.example", 5432, "Welcome2026!"),
			at("warden_app", "127.0.0.1", 0, "123456")},
			"serious weak the password of reader at db.fellside.example:5432 is easy to guess: it is a word of " +
				"the trade\nwarning weak the password of warden_app at 127.0.0.1 is easy to guess: it is a run " +
				"of keys, letters or digits\n"},
		{"the same", []wallet.Entry{at("reader", "db.fellside.example", 5432, canary),
			at("warden_app", "127.0.0.1", 0, canary)},
			"warning weak the same password is used for 2 servers: db.fellside.example:5432, 127.0.0.1\n"},
		{"unused, and no entry", []wallet.Entry{at("reader", "db.fellside.example", 5433, canary),
			at("warden_app", "127.0.0.1", 0, "another "+canary)},
			"warning reference takes its password from the wallet: The wallet has a password of reader that is " +
				"not for this connection: it is stored for db.fellside.example:5433, and this connection goes " +
				"to db.fellside.example:5432\nwarning unused no profile uses the entry of reader at db.fellside.example:5433\n"},
	} {
		s := home(t, profiles)
		s.Wallets = []Opened{{Wallet: wallet.Wallet{Dir: filepath.Join(s.Home, "wallet")},
			Contents: &wallet.Contents{Entries: c.entries}}}
		must(t, os.MkdirAll(filepath.Join(s.Home, "wallet"), 0o700))
		must(t, os.WriteFile(filepath.Join(s.Home, "wallet", "sealed"), nil, 0o600))
		list, _ := s.Run()
		var got strings.Builder
		for _, f := range list {
			fmt.Fprintf(&got, "%s %s %s\n", f.Severity, f.About, f.What)
			if f.Fix == "" || f.Place == "" || strings.Contains(fmt.Sprint(f), canary) {
				t.Errorf("%s: %+v", c.name, f)
			}
		}
		if got.String() != c.want {
			t.Errorf("%s:\n%s", c.name, got.String())
		}
	}
}

// TestServersAreCountedOnce counts an alias and an address of it as one server, and what an alias
// joins, too.
func TestServersAreCountedOnce(t *testing.T) {
	for _, c := range []struct {
		places [][]string
		n      int
	}{
		{nil, 0}, {[][]string{{"a"}}, 1}, {[][]string{{"a"}, {"b"}}, 2}, {[][]string{{"a"}, {"a", "b"}}, 1},
		{[][]string{{"a"}, {"b"}, {"a", "b"}}, 1}, {[][]string{{"a", "b"}, {"c"}, {"b", "c"}, {"d"}}, 2},
	} {
		if n := apart(c.places); n != c.n {
			t.Errorf("%v: %d", c.places, n)
		}
	}
	direct := target.Target{Endpoint: target.Endpoint{Host: "db.fellside.example", Port: 5432}}
	alias := target.Target{Endpoint: target.Endpoint{Alias: "bookings"},
		Defined: target.Define([]target.Address{{Kind: target.Host, Name: "db.fellside.example", Port: 5432},
			{Kind: target.Host, Name: "spare.fellside.example", Port: 5432}}, "", target.TLS{}, "", nil)}
	other := target.Target{Endpoint: target.Endpoint{Host: "db.fellside.example", Port: 5433}}
	if n := apart([][]string{direct.Servers(), alias.Servers()}); n != 1 {
		t.Errorf("%d: %v %v", n, direct.Servers(), alias.Servers())
	}
	if n := apart([][]string{direct.Servers(), alias.Servers(), other.Servers()}); n != 2 {
		t.Errorf("%d", n)
	}
}

func TestGuess(t *testing.T) {
	for text, want := range map[string]string{
		"password": "trade", "Password123": "trade", "p@ssw0rd!": "trade", "secret!": "trade",
		"admin2026": "trade", "postgres": "trade", "letmein...": "trade", "Password-1": "trade",
		"123456": "run", "654321": "run", "1111": "run", "7": "run", "qwerty": "run", "QWERTZ1": "run",
		"poiuy": "run", "abc": "run", "aaaa": "run",
		"fellside": "name", "Bunkhouse26": "name", "warden": "name", "DB": "name",
		"ropes-and-lanterns-7": "", "passwordless-hut": "", "x": "", "2026": "", "": "", "ädmin": "", "13572468": "",
	} {
		if why := guess(text, "db", "fellside", "example", "warden", "bunkhouse", ""); !strings.Contains(why,
			want) || (why == "") != (want == "") {
			t.Errorf("%q: %q", text, why)
		}
	}
}

// TestWhatOthersCouldChange finds what is open on the way to your own files, to a file of
// secrets, to one's authority and to those of the environment, and a wallet whose keys are not
// the remembered ones. None of it is changed unasked.
func TestWhatOthersCouldChange(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("modes are not checked on Windows")
	}
	const local, remote = "engine: postgres\nhost: 127.0.0.1\nuser: reader\n", "engine: postgres\nhost: " +
		"db.fellside.example\nuser: reader\n"
	open := filepath.Join(t.TempDir(), "open")
	must(t, os.MkdirAll(filepath.Join(open, "below"), 0o700))
	for _, name := range []string{"pw", "ca.pem", "below/pw"} {
		must(t, os.WriteFile(filepath.Join(open, name), []byte(canary), 0o600))
	}
	must(t, os.Chmod(open, 0o777))
	for _, c := range []struct {
		name  string
		files map[string]string
		alter func(s *Scope)
		want  string // the beginning of a line
	}{
		{"a folder above", map[string]string{"profiles/a.yaml": local}, func(s *Scope) {
			must(t, os.Chmod(filepath.Dir(s.Home), 0o777))
		}, "serious files UP: has mode 0777: others could replace what is in it by another file"},
		{"a link to a profile below an open folder", nil, func(s *Scope) {
			must(t, os.MkdirAll(filepath.Join(s.Home, "profiles"), 0o700))
			must(t, os.Symlink(filepath.Join(open, "below", "pw"), filepath.Join(s.Home, "profiles", "x.yaml")))
		}, "serious files OPEN: has mode 0777"},
		{"a secret in an open folder", map[string]string{"profiles/a.yaml": local + "secret: file:OPEN/pw\n"},
			nil, "serious files OPEN: has mode 0777"},
		{"a secret below one", map[string]string{"profiles/a.yaml": local + "secret: file:OPEN/below/pw\n"},
			nil, "serious files OPEN: has mode 0777"},
		{"a secret linked into one", map[string]string{"profiles/a.yaml": local + "secret: file:HOME/pw\n"}, func(s *Scope) {
			must(t, os.Symlink(filepath.Join(open, "below/pw"), filepath.Join(s.Home, "pw")))
		}, "serious files OPEN: has mode 0777"},
		{"one's authority", map[string]string{"profiles/a.yaml": remote +
			"secret: none\ntls: {ca: OPEN/ca.pem}\n"}, nil, "serious files OPEN: has mode 0777"},
		{"the environment's authorities", nil, func(s *Scope) {
			s.CertVariables = []string{"SSL_CERT_DIR"}
			s.Env = func(string) (string, bool) { return s.Home + string(filepath.ListSeparator) + open, true }
		}, "serious files OPEN: has mode 0777"},
		{"a file of the environment's", nil, func(s *Scope) {
			s.CertVariables = []string{"SSL_CERT_FILE"}
			s.Env = func(string) (string, bool) { return "/etc/own.pem", true }
		}, "advice authority SSL_CERT_FILE: decides which authorities certify servers"},
		{"another wallet's keys", map[string]string{"wallet/sealed": "x", "wallet/owner": "x"}, func(s *Scope) {
			w := wallet.Wallet{Dir: filepath.Join(s.Home, "wallet")}
			s.Wallets = []Opened{{Wallet: w,
				Err: &finding.Problem{Code: finding.SecretWalletUntrusted,
					Facts: finding.Facts{finding.FactDetail: "It has another key."}}}}
		}, "serious files HOME/wallet: cannot be opened: It has another key."},
		{"a project's authority", map[string]string{"profiles/a.yaml": remote}, func(s *Scope) {
			s.Admitted = func(stack profile.Stack) (profile.Effective, bool) {
				e := stack.Resolve()
				e.ProjectAuthority = "00"
				return e, true
			}
		}, "advice authority a: trusts an authority that its project brings"},
	} {
		for name, text := range c.files {
			c.files[name] = strings.ReplaceAll(text, "OPEN", open)
		}
		s := home(t, c.files)
		if c.alter != nil {
			c.alter(&s)
		}
		found := lines(s)
		list, _ := s.Run()
		Fix(list)
		got := strings.ReplaceAll(strings.ReplaceAll(found, open, "OPEN"), filepath.Dir(s.Home)+":", "UP:")
		if !strings.Contains("\n"+got, "\n"+c.want) || strings.Contains(got, canary) {
			t.Errorf("%s:\n%s", c.name, got)
		}
		if info, err := os.Stat(open); err != nil || info.Mode().Perm() != 0o777 {
			if c.name != "a secret in an open folder" { // that one is asked for by the profile itself
				t.Errorf("%s: the folder was changed to %v", c.name, info.Mode())
			}
			must(t, os.Chmod(open, 0o777))
		}
	}
}

// TestHops looks at the way to a server: keys, what the OpenSSH configuration lets pass, and host
// keys.
func TestHops(t *testing.T) {
	const through = "engine: postgres\nhost: db.fellside.example\nuser: reader\nsecret: none\nvia: [gate]\n"
	const known = "gate ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDJJ3hyVEBexe1vXyMMeQXxOmNRrRXTLG1EZjEuQ2lyp\n"
	for _, c := range []struct {
		name  string
		files map[string]string
		open  string // this file is open to others
		want  string // one line, or none
	}{
		{"all is well", map[string]string{".ssh/known_hosts": known}, "", ""},
		{"a key of its own", map[string]string{".ssh/known_hosts": known, ".ssh/id_ed25519": "x"}, "", ""},
		{"an open key", map[string]string{".ssh/known_hosts": known, ".ssh/id_ed25519": "x"}, ".ssh/id_ed25519",
			"serious files HOME/.ssh/id_ed25519: has mode 0644: others on this machine can read or change the secrets in it"},
		{"an open key that the configuration names",
			map[string]string{".ssh/known_hosts": known, ".ssh/config": "IdentityFile HOME/key\n", "key": "x"},
			"key", "serious files HOME/key: has mode 0644"},
		{"an open key for another hop",
			map[string]string{".ssh/known_hosts": known,
				".ssh/config": "IdentityFile ~/none\nHost elsewhere\nIdentityFile HOME/key\n", ".ssh/key": "x"},
			".ssh/key", ""},
		{"nobody checked", nil, "", "advice hop a: goes through gate, whose host key nobody has checked here"},
		{"revoked is not known", map[string]string{".ssh/known_hosts": "@revoked " + known}, "",
			"advice hop a: goes through gate, whose host key nobody has checked here"},
		{"an agent forwarded", map[string]string{".ssh/known_hosts": known,
			".ssh/config": "Host g*\n  ForwardAgent yes\n"}, "",
			"warning hop HOME/.ssh/config:2: lets ssh forward the agent to gate"},
		{"an agent forwarded to another",
			map[string]string{".ssh/known_hosts": known,
				".ssh/config": "Host gate\n ForwardAgent no\nHost *\n  ForwardAgent yes\n"}, "", ""},
		{"any key will do", map[string]string{".ssh/known_hosts": known,
			".ssh/config": "Host gate\n  StrictHostKeyChecking no\n"}, "",
			"warning hop HOME/.ssh/config:2: lets ssh take any host key for gate"},
		{"what cannot be honoured", map[string]string{".ssh/config": "Host gate\n  KnownHostsCommand /bin/x\n"},
			"", "warning hop a: goes through gate, for which the OpenSSH configuration cannot be used: " +
				"HOME/.ssh/config:2 knownhostscommand"},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.files = maps.Clone(c.files)
			if c.files == nil {
				c.files = map[string]string{}
			}
			c.files["profiles/a.yaml"] = through
			s := home(t, c.files)
			if c.open != "" {
				must(t, os.Chmod(filepath.Join(s.Home, c.open), 0o644))
			}
			config := jump.Config{User: filepath.Join(s.Home, ".ssh/config"), World: jump.World{Home: s.Home, User: "reader"}}
			s.Hops = func(hops []target.Hop) []jump.Seen { return config.Look(hops, filepath.Join(s.Home, "known-hosts")) }
			if got := lines(s); strings.Count(got, "\n") != min(1, len(c.want)) || !strings.HasPrefix(got, c.want) {
				t.Errorf("%q instead of %q", got, c.want)
			}
		})
	}
}
