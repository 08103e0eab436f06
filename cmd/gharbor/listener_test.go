//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/standin"
)

const censusService = "census.fellside.example"

// listener starts a practice listener with one service.
func listener(t *testing.T, config standin.Config) *standin.Server {
	t.Helper()
	config.Engine, config.Databases = "oracle", []string{censusService}
	if config.Accounts == nil {
		config.Accounts = map[string]string{"warden_app": canary, "sys": canary, "closed_off": canary}
	}
	config.Superuser, config.Shut = "sys", []string{"closed_off"}
	s, err := standin.Start(config)
	must(t, err)
	t.Cleanup(s.Close)
	return s
}

// TestListenerSituations has each finding of a listener, and of the database behind it.
func TestListenerSituations(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary, "BAD=not-it")
	refused := func(number string, early bool) standin.Config {
		return standin.Config{Faults: standin.Faults{Refusal: number, Early: early}}
	}
	for _, c := range []struct {
		name   string
		config standin.Config
		args   []string
		code   string
		exit   int
		says   string // in the finding's words or remedies
	}{
		{"good", standin.Config{}, nil, "", 0, ""},
		{"the older verifier", standin.Config{Login: "verifier-11g"}, nil, "", 0, ""},
		{"the older verifier, an older server", standin.Config{Login: "verifier-11g-old"}, nil, "", 0, ""},
		{"the oldest verifier", standin.Config{Login: "verifier-10g"}, nil, "login.old-verifier", 6,
			`alter user "WARDEN_APP" identified by`},
		{"a verifier that is not listed", standin.Config{}, []string{"--login-methods", "verifier-11g"},
			"login.method-not-supported", 6, "accepts only"},
		{"by instance", standin.Config{}, []string{"--instance", "HUTS1"}, "", 0, ""},
		{"by another instance", standin.Config{}, []string{"--instance", "HUTS2"}, "greeting.no-instance", 5,
			"the instance HUTS2"},
		{"another service", standin.Config{}, []string{"--service", "censos"}, "greeting.no-service", 5,
			"does not say which ones it knows"},
		{"the service alone", standin.Config{}, []string{"--database", censusService}, "", 0, ""},
		{"not known yet", standin.Config{State: standin.IsUnknown}, nil, "greeting.no-service", 5, "gharbor await p"},
		{"mounted", standin.Config{State: standin.IsMounted}, nil, "greeting.not-ready", 5, "gharbor await p"},
		{"mounted, by instance", standin.Config{State: standin.IsMounted}, []string{"--instance", "HUTS1"},
			"database.not-ready", 7, "gharbor await p"},
		{"stopped, by instance", standin.Config{State: standin.IsStopped}, []string{"--instance", "HUTS1"},
			"database.stopped", 7, "startup"},
		{"restricted", standin.Config{State: standin.IsRestricted}, nil, "greeting.restricted", 5, "only its administrators"},
		{"restricted, by instance", standin.Config{State: standin.IsRestricted},
			[]string{"--instance", "HUTS1"}, "database.restricted", 7, "disable restricted session"},
		{"read-only", standin.Config{State: standin.IsReadOnly},
			[]string{"--user", "sys", "--role", "sysdba", "--expect", "read-only=true"}, "", 0, ""},
		{"an administrator of a mounted one", standin.Config{State: standin.IsMounted},
			[]string{"--user", "sys", "--role", "sysdba", "--instance", "HUTS1", "--expect", "superuser=true"},
			"", 0, ""},
		{"the filter", refused("12529", true), nil, "greeting.filtered", 5, "lets in only some addresses"},
		{"no handler", refused("12518", true), nil, "greeting.not-ready", 5, ""},
		{"a number that nobody knows", refused("12999", true), nil, "greeting.unknown", 5, ""},
		{"its own encryption", standin.Config{Faults: standin.Faults{OwnEncryption: true}}, nil,
			"greeting.own-encryption", 5, "is not TLS"},
		{"a wrong password", standin.Config{}, []string{"--secret", "env:BAD"}, "login.refused", 6, "capital letters count"},
		{"locked", standin.Config{Faults: standin.Faults{Locked: true}}, nil, "login.locked", 6,
			`alter user "WARDEN_APP" account unlock`},
		{"expired", refused("28001", false), nil, "login.password-expired", 6, "dba_users"},
		{"no right to a session", standin.Config{}, []string{"--user", "closed_off"}, "login.no-session", 6,
			`grant create session to "CLOSED_OFF"`},
		{"no privileged mode", standin.Config{}, []string{"--role", "sysdba"}, "login.mode-refused", 6, "--role ''"},
		{"a privileged mode alone", standin.Config{}, []string{"--user", "sys"}, "login.mode-refused", 6, "--role sysdba"},
		{"no method in common", refused("28040", false), nil, "login.old-verifier", 6, ""},
		{"too many sessions", refused("18", false), nil, "database.too-many-connections", 7, "v$session"},
		{"too many of the user", refused("2391", false), nil, "database.user-limit", 7, ""},
		{"shutting down", refused("1089", false), nil, "database.shutting-down", 7, ""},
		{"not open", refused("1109", false), nil, "database.not-open", 7, "alter database open"},
		{"resent", standin.Config{Faults: standin.Faults{Resend: 2}}, nil, "", 0, ""},
		{"resent without an end", standin.Config{Faults: standin.Faults{Resend: 100}}, nil, "greeting.malformed", 5, ""},
		{"around and around", standin.Config{Faults: standin.Faults{Redirect: "here"}}, nil,
			"greeting.led-too-often", 5, "again and again"},
		{"no proof", standin.Config{Faults: standin.Faults{Unproven: "no proof"}}, nil, "login.server-unproven", 6, ""},
		{"a wrong proof", standin.Config{Faults: standin.Faults{Unproven: "wrong proof"}}, nil,
			"login.server-unproven", 6, ""},
		{"too many rounds", standin.Config{Faults: standin.Faults{Rounds: 100_000_000}},
			[]string{"--timeout", "1s"}, "login.too-many-rounds", 6, "100000000 rounds"},
		{"a silent login", standin.Config{Faults: standin.Faults{StallLogin: true}},
			[]string{"--timeout", "500ms"}, "login.silent", 6, ""},
		{"a silent statement", standin.Config{Faults: standin.Faults{StallQuery: true}},
			[]string{"--timeout", "500ms"}, "query.silent", 7, ""},
		{"a silent listener", standin.Config{Faults: standin.Faults{Stall: true}},
			[]string{"--timeout", "500ms"}, "greeting.silent", 5, ""},
		{"a role of the database", standin.Config{}, []string{"--role", "helper"}, "settings.invalid", 3,
			"sysdba or sysoper"},
	} {
		s := listener(t, c.config)
		p := w.save("p", "oracle", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()),
			"--service", censusService, "--user", "warden_app", "--secret", "env:PW")
		r := w.report(append([]string{p}, c.args...)...)
		if string(r.Code()) != c.code || r.Exit != c.exit {
			t.Errorf("%s: %s, exit %d, instead of %s: %+v", c.name, r.Code(), r.Exit, c.code, r.Finding)
		}
		text := w.run(append([]string{"test", p}, c.args...)...)
		flat := strings.Join(strings.Fields(text.out), " ")
		if !strings.Contains(flat, c.says) || strings.Contains(text.out+text.err, canary) || text.took > 6*time.Second {
			t.Errorf("%s: %q is not said, or too late (%s):\n%s%s", c.name, c.says, text.took, text.out, text.err)
		}
		for _, raw := range []string{"DESCRIPTION", "EOF", "i/o timeout", "context deadline", "driver:"} {
			if strings.Contains(strings.ReplaceAll(flat, "(DESCRIPTION=(TMP=)", ""), raw) &&
				c.code != "greeting.unknown" && !strings.HasPrefix(c.code, "greeting.") {
				t.Errorf("%s: the raw words %q stand in\n%s", c.name, raw, text.out)
			}
		}
	}
}

// TestListenerNamesNothingOfThisMachine looks at what is said of this machine and its user at a
// login.
func TestListenerNamesNothingOfThisMachine(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary, "USER=the-real-user", "HOSTNAME=the-real-host")
	s := listener(t, standin.Config{})
	w.must(0, "test", fmt.Sprintf("oracle://warden_app@127.0.0.1:%d/%s", s.Port(), censusService), "--secret", "env:PW")
	about := s.About()
	if about["AUTH_SID"] != "gharbor" || about["AUTH_MACHINE"] != "gharbor" || about["AUTH_PROGRAM_NM"] != "gharbor" {
		t.Errorf("it says %v", about)
	}
	host, _ := os.Hostname()
	for name, value := range about {
		if len(host) > 3 && strings.Contains(value, host) || strings.Contains(value, "real") ||
			strings.Contains(value, fmt.Sprint(os.Getpid())) && name == "AUTH_PID" {
			t.Errorf("%s is %q", name, value)
		}
	}
	for _, name := range []string{"AUTH_SESSKEY", "AUTH_PBKDF2_SPEEDY_KEY", "AUTH_ALTER_SESSION",
		"SESSION_CLIENT_DRIVER_NAME"} {
		if about[name] == "" {
			t.Errorf("%s is not said", name)
		}
	}
}

// TestListenerOpens waits for a database that opens after a while, and for a service that the
// listener is told of later.
func TestListenerOpens(t *testing.T) {
	t.Parallel()
	for _, state := range []standin.State{standin.IsUnknown, standin.IsMounted, standin.IsStarted, standin.IsRestricted} {
		w := newWorld(t, "PW="+canary)
		s := listener(t, standin.Config{State: state})
		w.must(0, "add", "archive/census", "--engine", "oracle", "--host", "127.0.0.1",
			"--port", fmt.Sprint(s.Port()), "--service", censusService, "--user", "warden_app", "--secret", "env:PW")
		timer := s.OpenAfter(300 * time.Millisecond)
		r := w.must(0, "await", "archive/census", "--for", "20s", "--every", "100ms")
		timer.Stop()
		has(t, r.out, "census")
	}
}

// TestListenerLeads follows a listener that hands the connection on, as far as what is stored may
// go there.
func TestListenerLeads(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	behind := listener(t, standin.Config{})
	first := listener(t, standin.Config{Faults: standin.Faults{Redirect: behind.Address()}})
	to := fmt.Sprintf("oracle://warden_app@127.0.0.1:%d/%s", first.Port(), censusService)
	r := w.must(0, "test", to, "--secret", "env:PW")
	has(t, r.out, "handed the connection on to "+behind.Address())

	// An address that answers nobody.
	free, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	nobody := free.Addr().String()
	must(t, free.Close())
	astray := listener(t, standin.Config{Faults: standin.Faults{Redirect: nobody}})
	f := w.fails("greeting.led-astray",
		fmt.Sprintf("oracle://warden_app@127.0.0.1:%d/%s", astray.Port(), censusService), "--secret", "env:PW")
	has(t, f.Cause, nobody, "cannot be reached")

	// A name that leads nowhere, and addresses that only this machine has.
	for _, each := range []string{"169.254.169.254:1521", "224.0.0.1:1521"} {
		s := listener(t, standin.Config{Faults: standin.Faults{Redirect: each}})
		f := w.fails("greeting.led-astray",
			fmt.Sprintf("oracle://warden_app@127.0.0.1:%d/%s", s.Port(), censusService), "--secret", "env:PW",
			"--timeout", "1s")
		has(t, f.Cause, "a server elsewhere cannot lead there")
	}

	// What is stored for the first listener is not sent to the second, nor for another service.
	before := len(behind.Opened())
	w.write("gharbor/credentials", fmt.Sprintf("# gentle-harbor credentials 1\nat 127.0.0.1:%d\n  warden_app: %s\n",
		first.Port(), canary))
	f = w.fails("greeting.led-elsewhere", to)
	has(t, f.Cause, "the password was not sent there", behind.Address())
	if len(behind.Opened()) != before {
		t.Error("it was connected to")
	}
	w.write("gharbor/credentials", fmt.Sprintf("# gentle-harbor credentials 1\nat 127.0.0.1\n  warden_app: %s\n", canary))
	w.must(0, "test", to) // any port of the host
	w.write("gharbor/credentials", fmt.Sprintf("# gentle-harbor credentials 1\nat 127.0.0.1\n  warden_app on %s: %s\n",
		"hall.fellside.example", canary))
	w.fails("secret.bound-elsewhere", to)

	// An alias with both addresses stands for both.
	w.must(0, "alias", "add", "census", "--engine", "oracle", "--service", censusService,
		"--address", first.Address(), "--address", behind.Address())
	w.must(0, "add", "by-alias", "--alias", "census", "--user", "warden_app")
	w.must(0, "wallet", "create", "--passphrase-file", w.write("phrase", "a long enough phrase"))
	w.must(0, "wallet", "add", "by-alias", "--secret", "env:PW", "--passphrase-file", "phrase")
	w.must(0, "test", "by-alias", "--secret", "wallet", "--passphrase-file", "phrase")
	has(t, w.must(0, "wallet", "list", "--passphrase-file", "phrase", "--json").out, censusService)
}

// TestListenerStoresForItsService stores a password by a profile: it is for its service alone,
// since each leads to a database with accounts of its own.
func TestListenerStoresForItsService(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	s := listener(t, standin.Config{})
	phrase := w.write("phrase", "a long enough phrase")
	w.must(0, "wallet", "create", "--passphrase-file", phrase)
	at := []string{"--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()), "--user", "warden_app"}
	w.must(0, append([]string{"add", "census", "--engine", "oracle", "--service", censusService}, at...)...)
	w.must(0, append([]string{"add", "by-instance", "--engine", "oracle", "--instance", "HUTS1"}, at...)...)
	w.must(0, "wallet", "add", "census", "--secret", "env:PW", "--passphrase-file", phrase)
	w.must(0, "test", "census", "--passphrase-file", phrase)
	for _, args := range [][]string{{"census", "--service", "hall.fellside.example"},
		{"census", "--instance", "HUTS1"}, {"by-instance"}} {
		f := w.fails("secret.bound-elsewhere", append(args, "--passphrase-file", phrase)...)
		has(t, strings.Join(f.Seen, "\n"), "it is stored for the database "+censusService)
		if tries := fmt.Sprint(f.Try); len(args) > 1 {
			has(t, tries, fmt.Sprintf("wallet add --server %s/%s --user warden_app", s.Address(),
				map[string]string{"--service": args[2], "--instance": "instance:" + args[2]}[args[1]]))
		}
	}
	has(t, fmt.Sprint(w.fails("secret.variable-unset", "census", "--secret", "env:NOT_THERE").Try), "--until greeting")
	w.must(0, "wallet", "add", "by-instance", "--secret", "env:PW", "--passphrase-file", phrase)
	w.must(0, "test", "by-instance", "--passphrase-file", phrase)
	has(t, w.must(0, "wallet", "list", "--passphrase-file", phrase).out, "instance:HUTS1", censusService)
}

// TestListenerProbe shows, without a login, who answers, who knows the service, and who is ready.
func TestListenerProbe(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	args := []string{"alias", "add", "census", "--engine", "oracle", "--service", censusService}
	var servers []*standin.Server
	for _, state := range []standin.State{standin.IsOpen, standin.IsUnknown, standin.IsMounted} {
		s := listener(t, standin.Config{State: state})
		servers = append(servers, s)
		args = append(args, "--address", s.Address())
	}
	w.must(0, append(args, "--address", "127.0.0.1:1", "--tls", "off")...)
	r := w.must(0, "alias", "probe", "census", "--repeat", "1", "--json")
	var all struct{ Aliases []checkup.Answers }
	must(t, json.Unmarshal([]byte(r.out), &all))
	var got []string
	for _, each := range all.Aliases[0].Addresses {
		got = append(got, fmt.Sprint(each.Answers, each.Open, " ", each.Code))
	}
	want := []string{"true true ", "true false greeting.no-service", "true false greeting.not-ready",
		"false false port.refused"}
	if !slices.Equal(got, want) {
		t.Errorf("%q instead of %q\n%s", got, want, r.out)
	}
	has(t, w.must(0, "alias", "probe", "census", "--repeat", "1").out, "answers: no service", "answers: not ready")
	for _, s := range servers {
		if len(s.Opened()) > 0 {
			t.Error("someone logged in")
		}
	}
}

// TestListenerLegs walks up to each leg, with and without TLS: it comes before the greeting here.
func TestListenerLegs(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	authority, config := encrypting(t, "127.0.0.1")
	ca := w.write("ca.pem", string(authority.PEM))
	plain, encrypted := listener(t, standin.Config{}), listener(t, standin.Config{TLS: config})
	for _, c := range []struct {
		server *standin.Server
		args   []string
		order  []string
	}{
		{plain, []string{"--tls", "off"}, []string{"port", "greeting", "login", "database", "query"}},
		{encrypted, []string{"--tls", "verify", "--tls-ca", ca},
			[]string{"port", "tls", "greeting", "login", "database", "query"}},
		{encrypted, []string{"--tls", "encrypt"}, []string{"port", "tls", "greeting", "login", "database", "query"}},
	} {
		to := append([]string{fmt.Sprintf("oracle://warden_app@127.0.0.1:%d/%s", c.server.Port(),
			censusService), "--secret", "env:PW"}, c.args...)
		for i, until := range append(c.order, "") {
			args := to
			if until != "" {
				args = append(slices.Clone(to), "--until", until)
			}
			r := w.report(args...)
			var legs []string
			for _, leg := range r.Legs {
				if leg.OK == nil || !*leg.OK {
					t.Errorf("%v: the leg %s did not pass", args, leg.Name)
				}
				legs = append(legs, leg.Name)
			}
			want := c.order[:min(i+1, len(c.order))]
			if got := legs[slices.Index(legs, "port"):]; !slices.Equal(got, want) || !r.OK {
				t.Errorf("%v: %v instead of %v: %+v", args, got, want, r.Finding)
			}
		}
		r := w.report(to...)
		if r.Server.Encrypted != (c.server == encrypted) {
			t.Errorf("encrypted: %v", r.Server.Encrypted)
		}
	}
	to := fmt.Sprintf("oracle://warden_app@127.0.0.1:%d/%s", plain.Port(), censusService)
	f := w.fails("tls.silent", to, "--secret", "env:PW", "--tls", "encrypt", "--timeout", "500ms")
	has(t, strings.Join(tries(f), "\n"), "--tls off", "a port of its own")
	w.fails("greeting.closed", fmt.Sprintf("oracle://warden_app@127.0.0.1:%d/%s", encrypted.Port(),
		censusService), "--secret", "env:PW", "--tls", "off", "--timeout", "500ms")
	w.fails("tls.not-trusted", fmt.Sprintf("oracle://warden_app@127.0.0.1:%d/%s", encrypted.Port(),
		censusService), "--secret", "env:PW", "--tls", "verify")
}

// TestListenerNames takes a file of names over, and writes one.
func TestListenerNames(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	s := listener(t, standin.Config{})
	w.write("names/names.ora", fmt.Sprintf(`# names of the archive
CENSUS, CENSUS.FELLSIDE =
  (DESCRIPTION =
    (ADDRESS_LIST = (LOAD_BALANCE = on)
      (ADDRESS = (PROTOCOL = TCP)(HOST = 127.0.0.1)(PORT = %d))
      (ADDRESS = (PROTOCOL = TCP)(HOST = spare.fellside.example)(PORT = 1522)))
    (CONNECT_DATA = (SERVER = DEDICATED)(SERVICE_NAME = %s)))
SAFE = (DESCRIPTION=(ADDRESS=(PROTOCOL=TCPS)(HOST=safe.fellside.example)(PORT=2484))(CONNECT_DATA=(SID=HUTS1))(SECURITY=(SSL_SERVER_CERT_DN="CN=db.fellside.example,O=Huts")))
bad name! = (DESCRIPTION=(ADDRESS=(PROTOCOL=IPC)(KEY=x))(CONNECT_DATA=(SID=HUTS1)))
IFILE = more.ora
IFILE = ../outside.ora
IFILE = /etc/passwd
`, s.Port(), censusService))
	w.write("names/more.ora", "HALL = (DESCRIPTION=(ADDRESS=(PROTOCOL=TCP)(HOST=hall.fellside.example)(PORT=1521))(CONNECT_DATA=(SERVICE_NAME=hall)))\nIFILE=names.ora\n")
	w.write("outside.ora", "OUTSIDE = (DESCRIPTION=(ADDRESS=(PROTOCOL=TCP)(HOST=h)(PORT=1521))(CONNECT_DATA=(SERVICE_NAME=hall)))\n")
	r := w.must(0, "alias", "import", "names/names.ora")
	has(t, r.out, "Saved 4 aliases")
	has(t, r.err, "of CENSUS, this is left out: SERVER", "../outside.ora is not read",
		"/etc/passwd is not read", "left out: it names no TCP address")
	show := func(name string) map[string]any {
		var row map[string]any
		must(t, json.Unmarshal([]byte(w.must(0, "alias", "show", name, "--json").out), &row))
		return row
	}
	census := show("CENSUS")
	if got := fmt.Sprint(census["engine"], census["addresses"], census["service"], census["pick"],
		census["tls"]); got != fmt.Sprintf("oracle[127.0.0.1:%d spare.fellside.example:1522]%srandomoff",
		s.Port(), censusService) {
		t.Errorf("CENSUS is %s", got)
	}
	if safe := show("SAFE"); safe["instance"] != "HUTS1" || safe["tls"] != "verify" ||
		!strings.Contains(w.must(0, "alias", "show", "SAFE").out, "db.fellside.example") {
		t.Errorf("SAFE is %v", safe)
	}
	if further := show("CENSUS.FELLSIDE"); further["same_as"] != "CENSUS" {
		t.Errorf("a further name is %v", further)
	}
	w.must(3, "alias", "show", "OUTSIDE")
	w.must(0, "add", "archive/census", "--alias", "HALL", "--user", "warden_app", "--secret", "env:PW")
	w.must(0, "change", "archive/census", "--alias", "CENSUS")
	w.must(0, "test", "archive/census")

	// What is written can be read again, and means the same.
	text := w.must(0, "alias", "export", "CENSUS", "SAFE", "--as", "description").out
	w.write("names/again.ora", text)
	other := newWorld(t)
	other.must(0, "alias", "import", w.write("names/again.ora", text))
	for _, name := range []string{"CENSUS", "SAFE"} {
		row := func(from *world) string {
			var all struct{ Aliases map[string]map[string]any }
			must(t, json.Unmarshal([]byte(from.must(0, "alias", "export", name).out), &all))
			return fmt.Sprint(all.Aliases[name])
		}
		if was, is := row(w), row(other); was != is {
			t.Errorf("%s was %s and is %s", name, was, is)
		}
	}
	has(t, w.must(0, "export", "archive/census", "--as", "description").out, "(SERVICE_NAME="+censusService+")")
	for name, line := range map[string]string{"a = (DESCRIPTION=(ADDRESS": "1:", "\n\nb (": "3:",
		"x = nothing": "1:", "x = (DESCRIPTION=(ADDRESS=(PROTOCOL=TCP)(HOST=h)(PORT=99999)))": "1:"} {
		has(t, w.must(3, "alias", "import", w.write("bad.ora", name)).err, "bad.ora:"+line)
	}
}

// TestListenerStrings takes each form of string in, and writes it again.
func TestListenerStrings(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for i, c := range []struct{ in, says, bare string }{
		{"//db.fellside.example:1522/census", "db.fellside.example 1522 census  ", "//db.fellside.example:1522/census"},
		{"//db.fellside.example/census", "db.fellside.example 1521 census  ", "//db.fellside.example:1521/census"},
		{"oracle://reader@db.fellside.example/census", "db.fellside.example 1521 census  reader",
			"//db.fellside.example:1521/census"},
		{"oracle://reader@db.fellside.example?sid=HUTS1", "db.fellside.example 1521  HUTS1 reader", ""},
		{"oracle+oracledb://reader@db.fellside.example?service_name=census",
			"db.fellside.example 1521 census  reader", "//db.fellside.example:1521/census"},
		{"jdbc:oracle:thin:@//db.fellside.example:1522/census", "db.fellside.example 1522 census  ",
			"//db.fellside.example:1522/census"},
		{"jdbc:oracle:thin:@db.fellside.example:1522/census", "db.fellside.example 1522 census  ",
			"//db.fellside.example:1522/census"},
		{"jdbc:oracle:thin:reader@db.fellside.example:1522:HUTS1", "db.fellside.example 1522  HUTS1 reader", ""},
		{"(DESCRIPTION=(ADDRESS=(PROTOCOL=TCP)(HOST=db.fellside.example)(PORT=1522))(CONNECT_DATA=(SERVICE_NAME=census)))",
			"db.fellside.example 1522 census  ", "//db.fellside.example:1522/census"},
		{"(description=(address=(protocol=tcps)(host=db.fellside.example)(port=2484))(connect_data=(sid=HUTS1)))",
			"db.fellside.example 2484  HUTS1 ", ""},
	} {
		name := fmt.Sprintf("p%d", i)
		w.must(0, "add", name, c.in, "--user", "reader")
		var shown struct {
			Profiles []struct {
				Settings map[string]struct{ Value any }
			}
		}
		r := w.must(0, "show", name, "--json")
		must(t, json.Unmarshal([]byte(r.out), &shown))
		text := w.must(0, "show", name).out
		for _, part := range strings.Fields(c.says) {
			if !strings.Contains(text, part) {
				t.Errorf("%s: %q is missing in\n%s", c.in, part, text)
			}
		}
		if c.bare == "" {
			w.must(3, "export", name, "--as", "bare")
		} else if got := strings.TrimSpace(w.must(0, "export", name, "--as", "bare").out); got != c.bare {
			t.Errorf("%s: %s instead of %s", c.in, got, c.bare)
		}
		// Each form leads back to the same place.
		for _, form := range []string{"uri", "description"} {
			again := strings.TrimSpace(w.must(0, "export", name, "--as", form).out)
			w.must(0, "add", name+form, again, "--user", "reader")
			if was, is := placeOf(text), placeOf(w.must(0, "show", name+form).out); was != is {
				t.Errorf("%s as %s: %q was %q", c.in, again, is, was)
			}
		}
	}
	// With the password of a string, nothing of it is shown.
	r := w.run("add", "q", "jdbc:oracle:thin:reader/"+canary+"@db.fellside.example:1522/census")
	if strings.Contains(r.out+r.err, canary) {
		t.Errorf("the password is shown:\n%s%s", r.out, r.err)
	}
	for _, bad := range []string{"//db.fellside.example:1522/cen sus", "(DESCRIPTION=(ADDRESS=(HOST=x",
		"jdbc:oracle:thin:@"} {
		if r := w.run("add", "bad", bad, "--user", "reader"); r.code == 0 {
			t.Errorf("%s was taken:\n%s", bad, r.out)
		}
	}
}

var placeLine = regexp.MustCompile(`(?m)^\s+(host|port|service|instance|database|tls mode)\s+(\S+)`)

// placeOf gives where a profile leads, as show says it; a database is a service here.
func placeOf(shown string) string {
	var parts []string
	for _, met := range placeLine.FindAllStringSubmatch(shown, -1) {
		parts = append(parts, strings.Replace(met[1], "database", "service", 1)+"="+met[2])
	}
	slices.Sort(parts)
	return strings.Join(slices.Compact(parts), " ")
}

// TestListenerSettings has what may and may not stand beside each other, by layer.
func TestListenerSettings(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	p := w.save("p", "oracle", "--host", "db.fellside.example", "--service", "census", "--user", "reader")
	for _, c := range []struct {
		args []string
		says string // "" where it is complete
	}{
		{nil, ""},
		{[]string{"--instance", "HUTS1"}, ""}, // a run's word counts alone
		{[]string{"--database", "hall"}, ""},
		{[]string{"--service", "a", "--instance", "b"}, "The settings service and instance contradict each other"},
		{[]string{"--service", "a", "--database", "b"}, "The settings service and database contradict each other"},
		{[]string{"--instance", "a", "--database", "b"}, "The settings instance and database contradict each other"},
		{[]string{"--engine", "postgres"}, "is for engines with a listener"},
		{[]string{"--role", "sysdba"}, ""},
		{[]string{"--role", "clerk"}, "no privileged mode"},
		{[]string{"--service", ""}, "The setting service is missing"},
	} {
		r := w.run(append([]string{"test", p, "--until", "settings"}, c.args...)...)
		flat := strings.Join(strings.Fields(r.out), " ")
		if c.says == "" && r.code != 0 || !strings.Contains(flat, c.says) {
			t.Errorf("%v: exit %d, %q is not said:\n%s%s", c.args, r.code, c.says, r.out, r.err)
		}
	}
	has(t, w.must(2, "test", p, "--service", "a)(HOST=evil").err, "--service")
	env := newWorld(t, "GHARBOR_SERVICE=hall")
	env.save("p", "oracle", "--host", "db.fellside.example", "--service", "census", "--user", "reader")
	has(t, env.must(0, "show", "p").out, "hall")
}

// TestListenerRuns runs statements: one at a time, with rows as text, in a transaction of its own.
func TestListenerRuns(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	s := listener(t, standin.Config{})
	p := w.save("p", "oracle", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()),
		"--service", censusService, "--user", "warden_app", "--secret", "env:PW")
	has(t, w.must(0, "run", p, "select name, height, null as n from hut order by height", "--as", "csv").out,
		"Swallow Barn,455,")
	has(t, w.must(0, "run", p, "select count(*) from hut;").out, "4")
	has(t, w.must(0, "run", p, "update hut set height = height + 1 where id = 1").out, "1")
	has(t, w.must(0, "run", p, "select height from hut where id = 1", "--as", "csv").out, "813")
	has(t, w.must(7, "run", p, "select nothing from hutt").err, "query.")
	has(t, w.must(7, "run", p, "select name from hat").err, "query.no-such-object", "ORA-00942")
	r := w.run("run", p, "--guard", "read-only", "delete from hut")
	if r.code == 0 || !strings.Contains(r.err, "the guard is read-only") {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	has(t, w.must(0, "run", p, "--guard", "read-only", "select count(*) from hut", "--as", "csv").out, "4")
	many := "select h.id, b.id as x, c.id as y from hut h, bunk b, booking c, snow_depth"
	if got := strings.Count(w.must(0, "run", p, many, "--as", "csv").out, "\n"); got != 1+4*12*4*4 {
		t.Errorf("%d lines", got)
	}
	// What is a later matter is said plainly.
	file := w.write("two.sql", "select 1 from dual;\nselect 2 from dual;\n")
	for _, args := range [][]string{
		{"run", p, "--from", file}, {"run", p, "select 1 from dual; select 2 from dual"},
		{"load", p, "hut", w.write("rows.csv", "id\n1\n")}, {"survey", p, "tables"}, {"survey", p, "databases"},
		{"run", p, "select {{v}} from dual", "--let", "v=1"},
	} {
		r := w.run(args...)
		if r.code == 0 || r.took > 5*time.Second ||
			!strings.Contains(r.out+r.err, "cannot") && !strings.Contains(r.err, "one statement at a time") &&
				!strings.Contains(r.err, "take no values") {
			t.Errorf("%v: exit %d\n%s%s", args, r.code, r.out, r.err)
		}
		t.Logf("%v: %s", args[:2], strings.TrimSpace(r.err))
	}
	// Ctrl-C ends a statement that does not end.
	stuck := listener(t, standin.Config{Faults: standin.Faults{StallQuery: true}})
	q := w.sit("run", fmt.Sprintf("oracle://warden_app@127.0.0.1:%d/%s", stuck.Port(), censusService),
		"--secret", "env:PW", "select 1 from dual")
	time.Sleep(500 * time.Millisecond)
	q.Types("\x03")
	if code, took := q.Ends(); code != 130 || took > 8*time.Second {
		t.Errorf("exit %d after %s\n%s", code, took, q.Screen())
	}
}

// TestListenerDoor opens a door to a listener, encrypted to the server or not: redirects are
// followed by the door, as far as they may be.
func TestListenerDoor(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	authority, config := encrypting(t, "127.0.0.1")
	ca := w.write("ca.pem", string(authority.PEM))
	behind, safe := listener(t, standin.Config{}), listener(t, standin.Config{TLS: config})
	first, safeFirst := listener(t, standin.Config{Faults: standin.Faults{Redirect: behind.Address()}}), listener(t,
		standin.Config{TLS: config, Faults: standin.Faults{Redirect: safe.Address()}})
	for _, s := range []*standin.Server{behind, first, safe, safeFirst} {
		args := []string{"--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()), "--service", censusService,
			"--user", "warden_app", "--secret", "env:PW"}
		if s == safe || s == safeFirst {
			args = append(args, "--tls", "verify", "--tls-ca", ca)
		}
		p := w.save("p", "oracle", args...)
		script := w.write("inside", `exec "$1" run "oracle://warden_app@$GHARBOR_DOOR_HOST:$GHARBOR_DOOR_PORT/`+censusService+`" --secret env:PW --tls off "select count(*) from hut" --as csv`)
		has(t, w.must(0, "with", p, "--", "sh", script, gharbor).out, "4")
	}
}

// TestListenerIsFound finds a practice listener on this machine.
func TestListenerIsFound(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	s := listener(t, standin.Config{})
	r := w.must(0, "find", "--only", "listening", "--every-port", "--json")
	if !strings.Contains(r.out, fmt.Sprint(s.Port())) || !strings.Contains(r.out, `"oracle"`) {
		t.Errorf("the listener at %d is not found:\n%s", s.Port(), r.out)
	}
}

// TestListenerInAContainer finds a container of a well-known image, takes its account from its
// variables, and connects to what it publishes and into it.
func TestListenerInAContainer(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := practiceEngine(t, w)
	config := standin.Config{Engine: "oracle",
		Accounts: map[string]string{"warden_app": canary, "system": canary}, Databases: []string{"FREEPDB1", "HUTS"}}
	s, err := standin.Start(config)
	must(t, err)
	t.Cleanup(s.Close)
	put := func(env ...string) {
		e.Put(standin.Contained{Name: "censusdb", Image: "gvenzl/oracle-free:23-slim", Env: env,
			Published: map[int][]string{1521: {s.Address()}}, Streams: map[int]string{1521: s.Address()}})
	}
	const name = "containers/censusdb"
	for _, c := range []struct {
		env           []string
		user, service string
	}{
		{[]string{"ORACLE_PASSWORD=" + canary, "APP_USER=warden_app", "APP_USER_PASSWORD=" + canary},
			"warden_app", "FREEPDB1"},
		{[]string{"ORACLE_PASSWORD=" + canary, "ORACLE_DATABASE=HUTS"}, "system", "HUTS"},
	} {
		put(c.env...)
		r := w.must(0, "find", "--only", "containers", "--add", name)
		shown := w.must(0, "show", name).out
		has(t, shown, "oracle", c.user, c.service, "container")
		has(t, w.must(0, "test", name).out, "service "+c.service+"", strings.ToUpper(c.user))
		w.must(0, "test", name, "--container", "{name: censusdb, reach: exec}")
		if strings.Contains(r.out+r.err+shown, canary) {
			t.Error("the password is shown")
		}
		w.must(0, "remove", name, "--yes")
	}
}
