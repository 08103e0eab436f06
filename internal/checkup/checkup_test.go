package checkup

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/container"
	"gentle-harbor/internal/discover"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
)

const canary = "canary-5b2f-secret"

// names is a name service in which every name of fellside.example is this machine.
type names map[string][]string

func (n names) LookupNetIP(_ context.Context, _, host string) ([]netip.Addr, error) {
	var addrs []netip.Addr
	for _, text := range n[host] {
		addrs = append(addrs, netip.MustParseAddr(text))
	}
	if addrs == nil {
		return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
	}
	return addrs, nil
}

func start(t *testing.T, config standin.Config) *standin.Server {
	t.Helper()
	if config.Accounts == nil {
		config.Accounts = map[string]string{"warden_app": canary, "steward": "another-5b2f"}
	}
	config.Superuser = "steward"
	s, err := standin.Start(config)
	must(t, err)
	t.Cleanup(s.Close)
	return s
}

func settings(pairs ...string) agree.Admitted {
	layer := profile.Layer{}
	for i := 0; i < len(pairs); i += 2 {
		layer[pairs[i]] = profile.Value{Text: pairs[i+1], Origin: profile.Origin{Layer: "profile"}}
	}
	a, err := agree.Own(profile.Library{}, "huts/test", layer)
	if err != nil {
		panic(err)
	}
	return a
}

var world = names{"db.fellside.example": {"127.0.0.1"}, "two.fellside.example": {"127.0.0.2", "127.0.0.1"}}

func checker(password secret.Secret) Checker {
	return Checker{Resolver: world, Stores: Stores{Secrets: secret.Finder{Known: password}}}
}

// engines of the stand-ins, with the ways of logging in that each has.
var kinds = []struct{ engine, login string }{
	{"postgres", ""}, {"mysql", "caching_sha2_password"}, {"mysql", "mysql_native_password"},
	{"mariadb", "mysql_native_password"},
}

func TestGoodTest(t *testing.T) {
	authority, err := standin.NewAuthority("practice")
	must(t, err)
	encryption, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), "db.fellside.example")
	must(t, err)
	ca := filepath.Join(t.TempDir(), "ca.pem")
	must(t, os.WriteFile(ca, authority.PEM, 0o600))
	for _, kind := range kinds {
		s := start(t, standin.Config{Engine: kind.engine, Login: kind.login, TLS: encryption})
		for _, dest := range [][]string{
			{"host", "127.0.0.1"},
			{"host", "127.0.0.1", "tls.mode", "encrypt"},
			{"host", "db.fellside.example", "tls.mode", "verify", "tls.ca", ca},
		} {
			for _, user := range []string{"warden_app", "steward"} {
				name := fmt.Sprint(kind, dest, user)
				password := map[string]string{"warden_app": canary, "steward": "another-5b2f"}[user]
				p := settings(append(dest, "engine", kind.engine, "port", fmt.Sprint(s.Port()), "user", user,
					"database", "bunkhouse")...)
				r, err := checker(secret.New(password)).Test(t.Context(), p)
				if err != nil || !r.OK || r.Finding != nil {
					t.Errorf("%s: %v %+v", name, err, r.Finding)
					continue
				}
				for _, leg := range r.Legs {
					if leg.OK == nil || !*leg.OK || leg.Saw == "" {
						t.Errorf("%s: the leg %s: %+v", name, leg.Name, leg)
					}
				}
				encrypted := len(dest) > 2
				if r.Server.Encrypted != encrypted || r.Server.Superuser == nil || *r.Server.Superuser != (user == "steward") ||
					r.Server.Database != "bunkhouse" || r.Server.User != user || r.Server.Identity == "" ||
					r.Server.Client == "" || r.Server.Login == "" {
					t.Errorf("%s: %+v", name, r.Server)
				}
			}
		}
	}
}

func TestFaults(t *testing.T) {
	type faults = standin.Faults
	remote := []string{"host", "db.fellside.example", "tls.mode", "off"}
	for _, c := range []struct {
		name   string
		faults faults
		extra  []string
		want   map[string]string // the code for each family
	}{
		{"stall", faults{Stall: true}, nil, both("greeting.silent")},
		{"hang up", faults{Hangup: true}, nil, both("greeting.closed")},
		{"junk", faults{Greeting: []byte("junk and more junk\n")}, nil, both("greeting.malformed")},
		{"ssh", faults{Greeting: []byte("SSH-2.0-practice\r\n")}, nil, both("greeting.not-a-database")},
		{"web", faults{Greeting: []byte("HTTP/1.1 400 Bad Request\r\n\r\n")}, nil, both("greeting.not-a-database")},
		{"huge", faults{Greeting: append([]byte{0xff, 0xff, 0xff, 0, 10}, make([]byte, 1<<20)...)}, nil,
			both("greeting.malformed")},
		{"huge message", faults{Greeting: append([]byte("R\x7f\xff\xff\xff"), make([]byte, 1<<20)...)}, nil,
			both("greeting.malformed")},
		{"starting up", faults{StartingUp: true}, nil,
			map[string]string{"postgres": "database.starting-up", "mysql": "database.shutting-down"}},
		{"too many", faults{TooMany: true}, nil, both("database.too-many-connections")},
		{"locked", faults{Locked: true}, nil, map[string]string{"postgres": "login.may-not-log-in", "mysql": "login.locked"}},
		{"stalled login", faults{StallLogin: true}, nil, both("login.silent")},
		{"stalled query", faults{StallQuery: true}, nil,
			map[string]string{"postgres": "query.silent", "mysql": "query.silent"}},
		{"query hangs up", faults{HangupQuery: true}, nil,
			map[string]string{"postgres": "query.closed", "mysql": "query.closed"}},
		{"asks for the password in clear", faults{AskClear: true}, remote, both("login.would-show-password")},
		{"the same, encrypted without a check", faults{AskClear: true},
			[]string{"host", "db.fellside.example", "tls.mode", "encrypt"}, both("login.would-show-password")},
		{"a key of its own", faults{OwnKey: true}, remote, map[string]string{"mysql": "login.would-show-password"}},
		{"a key of its own, encrypted without a check", faults{OwnKey: true},
			[]string{"host", "db.fellside.example", "tls.mode", "encrypt"},
			map[string]string{"mysql": "login.would-show-password"}},
		{"hostile words", faults{ErrorText: "no \x1b]0;gone\x07\u202e" + strings.Repeat("x", 5000), Echo: true},
			nil, both("login.refused")},
		{"an authority that is not trusted", faults{}, []string{"tls.mode", "verify"}, both("tls.not-trusted")},
		{"nothing offers encryption", faults{}, []string{"tls.mode", "verify"}, both("tls.not-offered")},
		{"no such database", faults{}, []string{"database", "none"}, both("database.missing")},
		{"no such account", faults{}, []string{"user", "nobody"}, both("login.refused")},
	} {
		authority, err := standin.NewAuthority("practice")
		must(t, err)
		encryption, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), "127.0.0.1")
		must(t, err)
		for _, engine := range []string{"postgres", "mysql", "oracle", "mongodb"} {
			want := c.want[engine]
			if want == "" {
				continue
			}
			t.Run(c.name+"/"+engine, func(t *testing.T) {
				t.Parallel()
				config := standin.Config{Engine: engine, Faults: c.faults, TLS: encryption}
				if c.name == "nothing offers encryption" {
					config.TLS = nil
				}
				s := start(t, config)
				timeout := "8s" // what is not about silence is not to fail for a busy machine
				if strings.HasSuffix(want, ".silent") {
					timeout = "500ms"
				}
				p := merged([]string{"engine", engine, "host", "127.0.0.1", "port", fmt.Sprint(s.Port()),
					"user", "warden_app", "database", "bunkhouse", "timeout.leg", timeout}, c.extra)
				began := time.Now()
				r, err := checker(secret.New(canary)).Test(t.Context(), p)
				must(t, err)
				if string(r.Code()) != want {
					t.Errorf("%s instead of %s: %+v", r.Code(), want, r.Finding)
				}
				if took := time.Since(began); took > 9*time.Second {
					t.Errorf("it took %s", took)
				}
				if strings.HasSuffix(want, "would-show-password") && len(s.Shown()) > 0 {
					t.Error("the password was shown")
				}
				checkReport(t, r)
			})
		}
	}
}

func both(code string) map[string]string { return map[string]string{"postgres": code, "mysql": code} }

func merged(pairs, extra []string) agree.Admitted {
	layer := map[string]string{}
	var order []string
	for i := 0; i < len(pairs); i += 2 {
		layer[pairs[i]] = pairs[i+1]
	}
	for i := 0; i < len(extra); i += 2 {
		layer[extra[i]] = extra[i+1]
	}
	for name, text := range layer {
		order = append(order, name, text)
	}
	return settings(order...)
}

// checkReport checks what holds of every failed report: one failed leg, none reached after it,
// words that are safe to show, no secret.
func checkReport(t *testing.T, r *Report) {
	t.Helper()
	text, err := json.Marshal(r)
	must(t, err)
	if bytes.Contains(text, []byte(canary)) {
		t.Error("the report shows the password")
	}
	if shown := fmt.Sprintf("%v %v %v", r.Legs, r.Attempts, *r.Finding); strings.IndexFunc(shown, outside.Unsafe) >= 0 {
		t.Errorf("the report holds unsafe characters: %q", shown)
	}
	failed := 0
	for _, leg := range r.Legs {
		switch {
		case failed > 0 && leg.OK != nil:
			t.Errorf("the leg %s was reached after the failed one", leg.Name)
		case leg.OK == nil && failed == 0 && (leg.Name != "login" || r.Finding.Leg != "database"):
			t.Errorf("the leg %s was not reached before any failed", leg.Name)
		case leg.OK != nil && !*leg.OK:
			failed++
			if leg.Name != r.Finding.Leg {
				t.Errorf("the leg %s failed, and the finding is of %s", leg.Name, r.Finding.Leg)
			}
		}
	}
	if failed != 1 || r.OK || r.Exit != finding.Exit(r.Finding.Leg) {
		t.Errorf("%d failed legs, exit %d", failed, r.Exit)
	}
	lines := []string{r.Finding.Cause}
	for _, remedy := range r.Finding.Try {
		lines = append(lines, remedy.String())
	}
	for _, line := range lines {
		if line == "" || strings.Contains(line, "{") || strings.Contains(line, "  ") {
			t.Errorf("a line with a gap: %q", line)
		}
	}
}

func TestSettingsAndSecretFindings(t *testing.T) {
	for _, c := range []struct {
		name  string
		pairs []string
		want  string
	}{
		{"no user", []string{"engine", "postgres"}, "settings.incomplete"},
		{"host and socket", []string{"engine", "postgres", "user", "a", "host", "b", "socket", "/s"}, "settings.invalid"},
		{"no such ca", []string{"engine", "postgres", "user", "a", "host", "b", "tls.ca", "/no/such"}, "settings.tls-file"},
		{"no secret", []string{"engine", "postgres", "user", "a"}, "secret.none"},
		{"no variable", []string{"engine", "postgres", "user", "a", "secret", "env:GONE"}, "secret.variable-unset"},
		{"no file", []string{"engine", "postgres", "user", "a", "secret", "file:/no/such"}, "secret.file-missing"},
		{"nobody to ask", []string{"engine", "postgres", "user", "a", "secret", "ask"}, "secret.nobody-to-ask"},
		{"no name", []string{"engine", "postgres", "user", "a", "host", "gone.fellside.example", "secret",
			"none"}, "name.not-found"},
		{"no socket", []string{"engine", "mysql", "user", "a", "socket", "/no/such"}, "port.socket-missing"},
	} {
		r, err := Checker{Resolver: world, NoEvidence: true}.Test(t.Context(), settings(c.pairs...))
		if err != nil || string(r.Code()) != c.want {
			t.Errorf("%s: %v %s", c.name, err, r.Code())
			continue
		}
		checkReport(t, r)
	}
}

func TestAddressesAreTriedInTurn(t *testing.T) {
	s := start(t, standin.Config{Engine: "postgres"})
	p := settings("engine", "postgres", "host", "two.fellside.example", "port", fmt.Sprint(s.Port()), "user",
		"warden_app", "tls.mode", "off", "database", "bunkhouse")
	r, err := checker(secret.New(canary)).Test(t.Context(), p)
	if err != nil || !r.OK || len(r.Attempts) != 2 || r.Attempts[0].Address != fmt.Sprintf("127.0.0.2:%d", s.Port()) {
		t.Errorf("%v %+v", err, r)
	}
	if ok := r.Attempts[0].Legs[0].OK; ok == nil || *ok {
		t.Error("the first attempt's leg is not kept as failed")
	}
	// A login that was tried and refused is not tried elsewhere.
	world["login.fellside.example"] = []string{"127.0.0.1", "127.0.0.2"}
	p = settings("engine", "postgres", "host", "login.fellside.example", "port", fmt.Sprint(s.Port()), "user",
		"warden_app", "tls.mode", "off")
	r, err = checker(secret.New("wrong")).Test(t.Context(), p)
	if err != nil || r.Code() != "login.refused" || len(r.Attempts) != 1 {
		t.Errorf("%v, %s after %d attempts", err, r.Code(), len(r.Attempts))
	}
}

func TestRefusedNamesWhoGreetsElsewhere(t *testing.T) {
	s := start(t, standin.Config{Engine: "mariadb", Login: "mysql_native_password"})
	free, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	port := free.Addr().(*net.TCPAddr).Port
	_ = free.Close()
	check := checker(secret.New(canary))
	check.Look = func(ctx context.Context) (all []Listener) { // what other tests start here is not named
		for _, each := range discover.Databases(context.WithoutCancel(ctx)) { // on a busy machine too
			if each.Address.Port() == uint16(s.Port()) {
				all = append(all, each)
			}
		}
		return all
	}
	r, err := check.Test(t.Context(),
		settings("engine", "mariadb", "host", "127.0.0.1", "port", fmt.Sprint(port), "user", "warden_app"))
	if err != nil || r.Code() != "port.refused" {
		t.Fatalf("%v %s", err, r.Code())
	}
	if !strings.Contains(strings.Join(r.Finding.Seen, "\n"),
		"a MariaDB server answers on 127.0.0.1:"+fmt.Sprint(s.Port())) {
		t.Errorf("it does not say who greets where: %q", r.Finding.Seen)
	}
	if len(r.Finding.Try) == 0 || !strings.Contains(r.Finding.Try[0].String(), "gharbor test huts/test --port ") {
		t.Errorf("it does not say what to try: %q", r.Finding.Try)
	}
}

// TestContainersBesideManyPorts looks at the containers while the ports are looked at, which may
// take all the time that there is.
func TestContainersBesideManyPorts(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "e.sock")
	practice, err := standin.StartEngine(socket)
	must(t, err)
	defer practice.Close()
	practice.Put(standin.Contained{Name: "hutdb", Image: "postgres:16",
		Published: map[int][]string{5432: {"127.0.0.1:5499"}}})
	check := checker(secret.New(canary))
	check.Engines = func() ([]container.Engine, error) { return []container.Engine{{URL: "unix://" + socket}}, nil }
	check.Look = func(ctx context.Context) []Listener {
		for len(practice.Asked()) == 0 && ctx.Err() == nil {
			time.Sleep(time.Millisecond)
		}
		if ctx.Err() != nil {
			t.Error("the containers wait for the ports")
		}
		return nil
	}
	r, err := check.Test(t.Context(),
		settings("engine", "postgres", "host", "127.0.0.1", "port", "1", "user", "warden_app"))
	if err != nil || r.Code() != finding.PortRefused ||
		!strings.Contains(strings.Join(r.Finding.Seen, "\n"),
			"the container hutdb has the image postgres:16, and publishes 127.0.0.1:5499") {
		t.Errorf("%v %+v", err, r.Finding)
	}
}

// TestManyServersOnThisMachine names the three likeliest of many, that of the last good test
// first, and counts the others.
func TestManyServersOnThisMachine(t *testing.T) {
	for many, more := range map[int]string{3: "", 4: "and 1 more: gharbor find --every-port",
		9: "and 6 more: gharbor find --every-port"} {
		check := checker(secret.New(canary))
		check.Look = func(context.Context) (all []discover.Found) {
			for i := range many {
				all = append(all, discover.Found{Address: netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"),
					uint16(3391+i)), Answer: engine.Answer{Kind: "mariadb", Title: "a MariaDB server"}})
			}
			return all
		}
		check.History.Last = &Past{Settings: map[string]string{"host": "127.0.0.1", "port": fmt.Sprint(3390 + many)}}
		r, err := check.Test(t.Context(),
			settings("engine", "mariadb", "host", "127.0.0.1", "port", "1", "user", "warden_app"))
		if err != nil || r.Finding == nil {
			t.Fatal(err)
		}
		seen := strings.Join(r.Finding.Seen, "\n")
		if n := strings.Count(seen, " answers on 127.0.0.1:"); n != 3 || !strings.Contains(seen, more) ||
			more == "" && strings.Contains(seen, "gharbor find") ||
			!strings.Contains(seen, fmt.Sprint("answers on 127.0.0.1:", 3390+many)) {
			t.Errorf("%d servers: %q", many, r.Finding.Seen)
		}
	}
}

// Of several servers on this machine, the remedy names the one that the last good test met.
func TestTheServerOfTheLastGoodTest(t *testing.T) {
	look := func(context.Context) []discover.Found {
		var all []discover.Found
		for _, port := range []uint16{3391, 3392, 3393} {
			all = append(all, discover.Found{Address: netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"),
				port), Answer: engine.Answer{Kind: "mariadb", Title: "MariaDB"}})
		}
		return all
	}
	for _, c := range []struct{ host, port, want string }{
		{"127.0.0.1", "3392", "3392"},
		{"127.0.0.1", "3399", "3391"},
		{"db.fellside.example", "3392", "3391"}, // it was another machine's
	} {
		check := checker(secret.New(canary))
		check.Look = look
		check.History.Last = &Past{Settings: map[string]string{"host": c.host, "port": c.port}}
		free, err := net.Listen("tcp", "127.0.0.1:0")
		must(t, err)
		_ = free.Close()
		r, err := check.Test(t.Context(),
			settings("engine", "mariadb", "host", "127.0.0.1", "port",
				fmt.Sprint(free.Addr().(*net.TCPAddr).Port), "user", "warden_app"))
		if err != nil || len(r.Finding.Try) == 0 || !strings.HasSuffix(r.Finding.Try[0].String(), "--port "+c.want) {
			t.Errorf("%v: %v %q", c, err, r.Finding.Try)
		}
	}
}

func TestInterrupted(t *testing.T) {
	for _, faults := range []standin.Faults{{Stall: true}, {StallLogin: true}, {StallQuery: true}} {
		s := start(t, standin.Config{Engine: "postgres", Faults: faults})
		ctx, cancel := context.WithCancel(t.Context())
		time.AfterFunc(100*time.Millisecond, cancel)
		began := time.Now()
		_, err := checker(secret.New(canary)).Test(ctx,
			settings("engine", "postgres", "host", "127.0.0.1", "port", fmt.Sprint(s.Port()), "user", "warden_app"))
		if err != context.Canceled || time.Since(began) > 5*time.Second {
			t.Errorf("%v after %s", err, time.Since(began))
		}
	}
}

// slowNames is a name service that takes its time.
type slowNames struct{ after time.Duration }

func (n slowNames) LookupNetIP(ctx context.Context, _, _ string) ([]netip.Addr, error) {
	select {
	case <-time.After(n.after):
		return []netip.Addr{netip.MustParseAddr("127.0.0.1")}, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// TestSilenceIsSharedAsLongAsItLasted has one profile wait for less than another would: what it
// did not wait for is not known to be silent.
func TestSilenceIsSharedAsLongAsItLasted(t *testing.T) {
	s := start(t, standin.Config{Engine: "postgres"})
	c := Checker{Resolver: slowNames{700 * time.Millisecond},
		Stores: Stores{Secrets: secret.Finder{Known: secret.New(canary)}}, NoEvidence: true, Silences: &sync.Map{}}
	profileOf := func(leg string) agree.Admitted {
		return settings("engine", "postgres", "host", "slow.fellside.example", "port", fmt.Sprint(s.Port()),
			"user", "warden_app", "tls.mode", "off", "timeout.leg", leg, "database", "bunkhouse")
	}
	for _, each := range []struct {
		leg, code string
		quick     bool
	}{{"500ms", "name.silent", false}, {"450ms", "name.silent", true}, {"4s", "", false}} {
		began := time.Now()
		r, err := c.Test(t.Context(), profileOf(each.leg))
		if err != nil || string(r.Code()) != each.code || each.quick && time.Since(began) > 250*time.Millisecond {
			t.Errorf("%s: %v, %s after %s", each.leg, err, r.Code(), time.Since(began))
		}
	}
}

// TestExplainAfterCtrlC words a failure when the run is over already.
func TestExplainAfterCtrlC(t *testing.T) {
	s := start(t, standin.Config{Engine: "postgres"})
	ctx, cancel := context.WithCancel(t.Context())
	c := checker(secret.New(canary))
	session, _, err := c.Open(ctx, settings("engine", "postgres", "host", "127.0.0.1", "port",
		fmt.Sprint(s.Port()), "user", "warden_app", "database", "bunkhouse"))
	if err != nil || session == nil {
		t.Fatal(err)
	}
	defer session.Close()
	_, failure := session.(engine.Runner).Run(ctx, engine.Statement{Text: "selec"}, nil)
	cancel()
	if _, err := Explain(session, failure); err != context.Canceled {
		t.Errorf("%v", err)
	}
}

// TestManyNamesAtOnce looks several names of one walk up side by side, as probes of an alias do;
// run it with -race.
func TestManyNamesAtOnce(t *testing.T) {
	w := Checker{}.walk(t.Context(), settings("engine", "postgres", "host", "db.fellside.example", "user", "u"))
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			_, _ = sharing{w, names{"db.fellside.example": {"127.0.0.1"}}}.LookupNetIP(t.Context(), "ip", "db.fellside.example")
		})
	}
	all.Wait()
	if led := w.ledTo(); len(led) != 1 || !led[0].IsLoopback() {
		t.Errorf("%v", led)
	}
}

// TestExplainTwice words two failures of one session, behind a wrapper too: each has its own
// finding, and the report of the opening stays.
func TestExplainTwice(t *testing.T) {
	s := start(t, standin.Config{Engine: "postgres"})
	c := checker(secret.New(canary))
	session, report, err := c.Open(t.Context(),
		settings("engine", "postgres", "host", "127.0.0.1", "port", fmt.Sprint(s.Port()), "user", "warden_app",
			"database", "bunkhouse"))
	if err != nil || session == nil {
		t.Fatal(err)
	}
	defer session.Close()
	for _, code := range []finding.Code{finding.QuerySilent, finding.QueryClosed, finding.QuerySilent} {
		f, err := Explain(wrapped{session}, &finding.Problem{Code: code})
		if err != nil || f.Code != code || len(f.Try) == 0 {
			t.Errorf("%s: %v, %+v", code, err, f)
		}
	}
	if !report.OK || report.Finding != nil {
		t.Errorf("the report of the opening has become %+v", report.Finding)
	}
	strange := errors.New("not about the connection")
	if _, err := Explain(session, strange); err != strange {
		t.Errorf("%v", err)
	}
}

// wrapped is a session around another.
type wrapped struct{ engine.Session }

func (w wrapped) Inner() engine.Session { return w.Session }

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
