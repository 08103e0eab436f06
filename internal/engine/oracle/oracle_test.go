package oracle

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/enginetest"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
)

const (
	canary  = enginetest.Canary
	service = "census.fellside.example"
)

// practice starts a practice listener.
func practice(t testing.TB, config standin.Config) *standin.Server {
	t.Helper()
	config.Engine, config.Accounts, config.Databases = "oracle", map[string]string{"warden_app": canary,
		"sys": canary}, []string{service}
	config.Superuser = "sys"
	s, err := standin.Start(config)
	must(t, err)
	t.Cleanup(s.Close)
	return s
}

// recorded is a connection that keeps what the server said and what was said to it.
type recorded struct {
	net.Conn
	mu         sync.Mutex
	said, sent []byte
}

func (r *recorded) Read(p []byte) (int, error) {
	n, err := r.Conn.Read(p)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.said = append(r.said, p[:n]...)
	return n, err
}

func (r *recorded) Write(p []byte) (int, error) {
	r.mu.Lock()
	r.sent = append(r.sent, p...)
	r.mu.Unlock()
	return r.Conn.Write(p)
}

// to gives the way to a practice listener, and each connection that was made.
func to(s *standin.Server, password string, line engine.Line) (engine.Endpoint, *[]*recorded) {
	made := &[]*recorded{}
	at := route.Address{Network: "tcp", Host: "127.0.0.1", Port: s.Port()}
	return engine.Endpoint{At: at, Connect: func(ctx context.Context, at route.Address) (engine.Line, error) {
		conn, err := route.Dial(ctx, "tcp", at.String())
		if err != nil {
			return engine.Line{}, err
		}
		one := &recorded{Conn: conn}
		*made = append(*made, one)
		line := line
		line.Conn, line.Given = one, true
		line.Secret = func(string) secret.Secret { return secret.New(password) }
		return line, nil
	}}, made
}

var usual = engine.Login{User: "warden_app", Database: service}

func open(t testing.TB, s *standin.Server, login engine.Login) *session {
	t.Helper()
	end, _ := to(s, canary, engine.Line{})
	opened, err := Engine{}.Open(t.Context(), end, login, func(string, string) {})
	must(t, err)
	t.Cleanup(opened.Close)
	return opened.(*session)
}

type table struct {
	columns []engine.Column
	rows    [][]engine.Cell
}

func (r *table) Columns(c []engine.Column) error { r.columns = c; return nil }
func (r *table) Row(c []engine.Cell) error       { r.rows = append(r.rows, c); return nil }
func (*table) Bytes([]byte) error                { return nil }

func TestAbilities(t *testing.T) {
	enginetest.Abilities(t, Engine{}, open(t, practice(t, standin.Config{}), usual))
}

// TestThePasswordIsNeverSent logs in with each verifier, encrypted or not, and looks for the
// password, and for the half of the session's key that only we have, in what was sent.
func TestThePasswordIsNeverSent(t *testing.T) {
	authority, err := standin.NewAuthority("practice")
	must(t, err)
	serve, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), "127.0.0.1")
	must(t, err)
	for _, verifier := range []string{"verifier-12c", "verifier-11g", "verifier-11g-old", "verifier-10g"} {
		for _, unproven := range []string{"", "no proof", "wrong proof"} {
			for _, config := range []*tls.Config{nil, serve} {
				line := engine.Line{Unverified: true}
				if config != nil {
					line.TLS = &tls.Config{InsecureSkipVerify: true}
				}
				end, made := to(practice(t,
					standin.Config{Login: verifier, TLS: config, Faults: standin.Faults{Unproven: unproven}}),
					canary, line)
				opened, err := Engine{}.Open(t.Context(), end, usual, func(string, string) {})
				var p *finding.Problem
				want := finding.Code("")
				switch {
				case verifier == "verifier-10g":
					want = finding.LoginOldVerifier
				case unproven != "":
					want = finding.LoginServerUnproven
				}
				if errors.As(err, &p); want == "" && err != nil || want != "" && (p == nil || p.Code != want) {
					t.Errorf("%s, %q: %v", verifier, unproven, err)
				}
				if opened != nil {
					opened.Close()
				}
				for _, each := range *made {
					if bytes.Contains(each.sent, []byte(canary)) ||
						bytes.Contains(bytes.ToLower(each.sent), []byte(hex.EncodeToString([]byte(canary)))) {
						t.Errorf("%s: the password was sent", verifier)
					}
					if verifier == "verifier-10g" && bytes.Contains(each.sent, []byte("AUTH_PASSWORD")) {
						t.Errorf("%s: something of the password was sent", verifier)
					}
				}
			}
		}
	}
}

// TestLoginsGoOnlyWhereAsked has the secret released for an accepted verifier alone, and not
// before the server has named it.
func TestLoginsGoOnlyWhereAsked(t *testing.T) {
	for _, c := range []struct {
		config  standin.Config
		accepts string
		given   string
	}{
		{standin.Config{}, "", newVerifier},
		{standin.Config{}, newVerifier, newVerifier},
		{standin.Config{}, oldVerifier, ""},
		{standin.Config{Login: oldVerifier}, newVerifier, ""},
		{standin.Config{Login: oldVerifier}, "", oldVerifier},
		{standin.Config{Login: oldest}, "", ""},
		{standin.Config{State: standin.IsUnknown}, "", ""},
		{standin.Config{Faults: standin.Faults{Rounds: 100}}, "", ""},         // fewer than can be trusted
		{standin.Config{Faults: standin.Faults{Rounds: 100_000_000}}, "", ""}, // more than can be computed
	} {
		end, _ := to(practice(t, c.config), canary, engine.Line{Unverified: true})
		connect, given := end.Connect, ""
		end.Connect = func(ctx context.Context, at route.Address) (engine.Line, error) {
			line, err := connect(ctx, at)
			line.Secret = func(method string) secret.Secret { given = method; return secret.New(canary) }
			return line, err
		}
		login := usual
		login.Methods, login.Leg = strings.Fields(c.accepts), time.Second
		began := time.Now()
		opened, err := Engine{}.Open(t.Context(), end, login, func(string, string) {})
		if opened != nil {
			opened.Close()
		}
		if given != c.given || time.Since(began) > 2*time.Second {
			t.Errorf("%+v, %q: the secret was given for %q after %s: %v", c.config, c.accepts, given, time.Since(began), err)
		}
	}
}

// TestLeadsAreBounded counts the connections that a listener which hands on to itself gets.
func TestLeadsAreBounded(t *testing.T) {
	end, made := to(practice(t, standin.Config{Faults: standin.Faults{Redirect: "here"}}), canary, engine.Line{})
	_, err := Engine{}.Open(t.Context(), end, usual, func(string, string) {})
	var p *finding.Problem
	if !errors.As(err, &p) || p.Code != finding.GreetingLedTooOften || len(*made) != mostLeads+1 {
		t.Errorf("%d connections: %v", len(*made), err)
	}
	for i, each := range *made {
		if _, err := each.Conn.Write([]byte{0}); err == nil {
			t.Errorf("connection %d is open still", i)
		}
	}
	// With TLS, nobody leads to where there is none.
	s := practice(t, standin.Config{Faults: standin.Faults{Redirect: "here"}})
	text := fmt.Sprintf("(ADDRESS=(PROTOCOL=tcps)(HOST=127.0.0.1)(PORT=%d))", s.Port())
	body := append([]byte{0, byte(len(text))}, text...)
	kept := &keeping{}
	_ = (&stream{conn: kept}).write(packetRedirect, 0, body)
	_, err = Engine{}.Open(t.Context(),
		enginetest.On(&enginetest.Scripted{Data: kept.sent}, enginetest.Given(engine.Line{})), usual,
		func(string, string) {})
	if !errors.As(err, &p) || p.Code != finding.GreetingLedAstray {
		t.Errorf("%v", err)
	}
}

// conversation gives what a practice server says in a whole session, and where the login's part
// of it ends.
func conversation(t testing.TB, verifier string) (login, whole []byte) {
	end, made := to(practice(t, standin.Config{Login: verifier,
		Faults: standin.Faults{Expires: "the password ends in 3 days", Resend: 1}}), canary, engine.Line{})
	opened, err := Engine{}.Open(t.Context(), end, usual, func(string, string) {})
	must(t, err)
	login = bytes.Clone((*made)[0].said)
	_ = opened.Ask(t.Context())
	_, _ = opened.Facts(t.Context())
	_, _ = opened.(engine.Runner).Run(t.Context(),
		engine.Statement{Text: "select h.name, h.height, null as n, b.guest from hut h, booking b"}, &table{})
	_, _ = opened.(engine.Runner).Run(t.Context(), engine.Statement{Text: "select nobody from hutt"}, &table{})
	opened.Close()
	return login, (*made)[0].said
}

// ways gives wrong forms of what a server says: each cut off, with each byte another one, and
// with lengths that nothing can have.
func wrongs(said []byte, each func(data []byte)) {
	for i := range said {
		each(said[:i])
		for _, b := range []byte{0, 0x7f, 0x80, 0xfe, 0xff, said[i] + 1, said[i] ^ 0x20} {
			data := bytes.Clone(said)
			data[i] = b
			each(data)
		}
		if i+4 <= len(said) {
			data := bytes.Clone(said)
			copy(data[i:], []byte{0xb2, 0xd0, 0x5e, 0x00}) // 3 GB
			each(data)
			// a number below zero, and everything shifted
			data = append(append(bytes.Clone(said[:i]), 0x84, 0x7f, 0xff, 0xff, 0xff), said[i:]...)
			each(data)
		}
	}
}

// TestRogues has a server say wrong things in each place of a login, and of a session.
func TestRogues(t *testing.T) {
	met := 0
	for _, verifier := range []string{newVerifier, oldVerifier} {
		login, whole := conversation(t, verifier)
		if sent := enginetest.Drive(t, Engine{}, login); !bytes.Contains(sent, []byte("AUTH_PASSWORD")) {
			t.Fatal("the server's own words do not lead to the end of the login")
		}
		step := 0
		wrongs(login, func(data []byte) {
			if step++; step%11 != 0 && os.Getenv("ROGUES") != "all" { // each costs the work of a login
				return
			}
			met++
			if sent := enginetest.Drive(t, Engine{}, data); bytes.Contains(sent, []byte(canary)) {
				t.Error("the password was shown")
			}
		})
		step = 0
		wrongs(whole[len(login):], func(data []byte) {
			if step++; step%3 == 0 {
				met++
				drive(t, data)
			}
		})
		if t.Failed() {
			t.FailNow()
		}
	}
	t.Logf("%d rogues met", met)
}

// drive has an open session talk to a server whose bytes are given.
func drive(t *testing.T, data []byte) {
	t.Helper()
	conn := &enginetest.Scripted{Data: data}
	s := &session{stream: &stream{conn: conn, accepted: true, large: true},
		spoken: spoken{fields: fields, end: true, sequence: true, pieces: true}, login: usual}
	began := time.Now()
	_ = s.Ask(t.Context())
	_, _ = s.Facts(t.Context())
	_, _ = s.Run(t.Context(), engine.Statement{Text: "select name from hut", Largest: 1 << 20}, &table{})
	_ = s.Together(t.Context(), true, func() error { return s.Do(t.Context(), engine.Statement{Text: "delete from hut"}) })
	s.Close()
	if took := time.Since(began); took > 3*time.Second {
		t.Errorf("it took %s", took)
	}
	if bytes.Contains(conn.Sent, []byte(canary)) {
		t.Error("the password was shown")
	}
}

// TestFive are the five rogues that an unmodified driver does not hold (docs/architecture.md).
func TestFive(t *testing.T) {
	accepted := append([]byte{0, 45, 0, 0, packetAccept, 0, 0, 0, 1, 61, 0, 0, 32, 0, 255, 255, 1, 0, 0, 0, 0,
		45, 4, 12}, make([]byte, 21)...)
	for name, c := range map[string]struct {
		faults standin.Faults
		code   finding.Code
	}{
		"redirects without an end": {standin.Faults{Redirect: "here"}, finding.GreetingLedTooOften},
		"a malformed answer": {standin.Faults{Script: []byte{0, 12, 0, 0, packetAccept, 0, 0, 0, 1, 2, 3,
			4}}, finding.GreetingMalformed},
		"a length of 3 GB": {standin.Faults{Script: append(bytes.Clone(accepted), 0xb2, 0xd0, 0x5e, 0,
			packetData, 0, 0, 0, 0, 0)}, finding.GreetingMalformed},
		"rounds without an end": {standin.Faults{Rounds: 100_000_000}, finding.LoginTooManyRounds},
		"a frozen TLS":          {standin.Faults{Stall: true}, finding.TLSSilent},
	} {
		line := engine.Line{}
		if c.code == finding.TLSSilent {
			line.TLS = &tls.Config{ServerName: "127.0.0.1"}
		}
		end, _ := to(practice(t, standin.Config{Faults: c.faults}), canary, line)
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		login := usual
		login.Leg = time.Second
		began := time.Now()
		_, err := engine.Guarded(Engine{}).Open(ctx, end, login, func(string, string) {})
		cancel()
		var p *finding.Problem
		if !errors.As(err, &p) || p.Code != c.code || time.Since(began) > 1500*time.Millisecond {
			t.Errorf("%s: %v after %s", name, err, time.Since(began))
		}
	}
}

// FuzzLogin drives a login with a server's bytes.
func FuzzLogin(f *testing.F) {
	for _, verifier := range []string{newVerifier, oldVerifier, "verifier-11g-old", oldest} {
		if verifier == oldest {
			f.Add([]byte{0, 8, 0, 0, packetResend, 0, 0, 0})
			continue
		}
		login, _ := conversation(f, verifier)
		f.Add(login)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if sent := enginetest.Drive(t, Engine{}, data); bytes.Contains(sent, []byte(canary)) {
			t.Error("the password was shown")
		}
	})
}

// FuzzSession drives an open session with a server's bytes.
func FuzzSession(f *testing.F) {
	login, whole := conversation(f, newVerifier)
	f.Add(whole[len(login):])
	f.Fuzz(drive)
}

// FuzzNames reads files of names: what is written of what was read can be read again.
func FuzzNames(f *testing.F) {
	for _, text := range []string{
		"CENSUS = (DESCRIPTION=(ADDRESS=(PROTOCOL=TCP)(HOST=h)(PORT=1521))(CONNECT_DATA=(SERVICE_NAME=s)))",
		"a, b.c=\n(DESCRIPTION = # a note\n " +
			"(ADDRESS_LIST=(LOAD_BALANCE=on)(FAILOVER=off)(ADDRESS=(PROTOCOL=tcps)(HOST=\"h\")(PORT=1))(ADDRESS=(PROTOCOL=ipc)(KEY=k)))(CONNECT_DATA=(SID=x))(SECURITY=(SSL_SERVER_CERT_DN=\"CN=n,O=o\")))\nIFILE = more.ora\n",
		"x=(DESCRIPTION_LIST=(DESCRIPTION=(ADDRESS=(HOST=h)))(DESCRIPTION=(ADDRESS=(HOST=i))))",
		"((((((((((((((((((((", "=", "a=(b=c)",
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		found, _, err := Engine{}.Names([]byte(text))
		var wrong *engine.NamesError
		if err != nil && (!errors.As(err, &wrong) || wrong.Line < 1) {
			t.Errorf("%v is no error of a line", err)
		}
		for _, each := range found {
			written, err := Engine{}.Description(each)
			if err != nil {
				continue
			}
			again, _, err := Engine{}.Names([]byte("x = " + written))
			if err != nil || len(again) != 1 || again[0].Service != each.Service ||
				again[0].Instance != each.Instance && each.Service == "" || len(again[0].Places) != len(each.Places) {
				t.Errorf("%q was read, %q written, and %+v read again: %v", text, written, again, err)
			}
		}
	})
}

// TestTexts reads values of each kind from their bytes. The bytes are examples of the engine's
// documentation and of the drivers' own tests.
func TestTexts(t *testing.T) {
	for _, c := range []struct {
		kind int
		hex  string
		text string // "" for bytes that the kind cannot have
	}{
		{kindNumber, "80", "0"}, {kindNumber, "c102", "1"}, {kindNumber, "c10c", "11"},
		{kindNumber, "c202", "100"}, {kindNumber, "c2022e", "145"}, {kindNumber, "c00b", "0.1"},
		{kindNumber, "bf0b", "0.001"},
		{kindNumber, "c102 33", "1.5"}, {kindNumber, "3e64 66", "-1"}, {kindNumber, "3e58 66", "-13"},
		{kindNumber, "3d64 66", "-100"}, {kindNumber, "3e64 33 66", "-1.5"},
		{kindNumber, "c6 0d 23 39 4f 5b 0d", "123456789012"},
		{kindNumber, "ff65", "Infinity"}, {kindNumber, "00", "-Infinity"}, {kindNumber, "c100", ""},
		{kindNumber, "c1", ""}, {kindNumber, "3e66", ""},
		{kindDate, "787e0c04010101", "2026-12-04 00:00:00"},
		{kindDate, "787e0c04183c3c", "2026-12-04 23:59:59"}, {kindDate, "787e0d04010101", ""},
		{kindDate, "787e0c04", ""},
		{kindTimestamp, "787e0c040d01011dcd6500", "2026-12-04 12:00:00.5"},
		{kindTimestamp, "787e0c040d0101", "2026-12-04 12:00:00"},
		{kindZoned, "787e0c040d010100000000153c", "2026-12-04 12:00:00+00:00"},
		{kindFloat, "bfc00000", "1.5"}, {kindFloat, "403fffff", "-1.5"},
		{kindDouble, "bff8000000000000", "1.5"}, {kindDouble, "4007ffffffffffff", "-1.5"},
		{kindDouble, "fff0000000000000", "Infinity"}, {kindDouble, "80", ""},
		{kindMonths, "800000013f", "+1-3"}, {kindMonths, "7fffffff39", "-1-3"},
		{kindDays, "800000023d3e3f80000000", "+2 01:02:03"},
		{kindDays, "7ffffffe3b3a3980000000", "-2 01:02:03"}, {kindDays, "80000002ff3e3f80000000", ""},
		{kindText, "4875 74", "Hut"}, {kindRaw, "00ff", "\x00\xff"},
	} {
		data, err := hex.DecodeString(strings.ReplaceAll(c.hex, " ", ""))
		must(t, err)
		w := &writer{}
		w.text(data)
		r := &reader{stream: &stream{rest: w.data}, most: mostText}
		cell := column{kind: c.kind, size: 100}.value(r)
		if cell.Text != c.text && c.text != "" || (c.text == "") != (r.err != nil) {
			t.Errorf("%d %s: %q instead of %q, %v", c.kind, c.hex, cell.Text, c.text, r.err)
		}
	}
	if got := wideText([]byte{0, 'H', 0, 0xfc, 0xd8, 0x3c, 0xdf, 0xd4}); got != "Hü🏔" {
		t.Errorf("%q", got)
	}
}

// TestStatements runs statements of each kind, and has the transactions be as they are said to be.
func TestStatements(t *testing.T) {
	s := open(t, practice(t, standin.Config{}), usual)
	run := func(text string) (*table, engine.Summary, error) {
		r := &table{}
		sum, err := s.Run(t.Context(), engine.Statement{Text: text}, r)
		return r, sum, err
	}
	for text, want := range map[string]string{
		"select count(*) from hut;":                                 "4",
		"select '" + strings.Repeat("ü", 1500) + "' as x from dual": strings.Repeat("ü", 1500),
	} {
		if r, _, err := run(text); err != nil || len(r.rows) != 1 || r.rows[0][0].Text != want {
			t.Errorf("%.40s: %.60v, %v", text, r.rows, err)
		}
	}
	height := func() string {
		r, _, err := run("select height from hut where id = 1")
		must(t, err)
		return r.rows[0][0].Text
	}
	if _, sum, err := run("update hut set height = 900 where id = 1"); err != nil || sum.Affected != 1 ||
		sum.Open || sum.Tag != "UPDATE" || height() != "900" {
		t.Errorf("%+v, %v", sum, err)
	}
	failed := errors.New("enough")
	if err := s.Together(t.Context(), false, func() error {
		_, sum, err := run("update hut set height = 901 where id = 1")
		if err != nil || !sum.Open {
			t.Errorf("%+v, %v", sum, err)
		}
		return failed
	}); !errors.Is(err, failed) || height() != "900" {
		t.Errorf("%v, %s", err, height())
	}
	if err := s.Together(t.Context(), false, func() error {
		_, _, err := run("update hut set height = 902 where id = 1")
		return err
	}); err != nil || height() != "902" {
		t.Errorf("%v, %s", err, height())
	}
	err := s.Together(t.Context(), true, func() error {
		_, _, err := run("update hut set height = 903 where id = 1")
		return err
	})
	var p *finding.Problem
	if !errors.As(err, &p) || p.Code != finding.QueryReadOnly || height() != "902" {
		t.Errorf("%v, %s", err, height())
	}
	// A cursor for each statement, and none is left.
	for range 30 {
		if _, _, err := run("select name from hut"); err != nil {
			t.Fatal(err)
		}
	}
	if len(s.done) > 1 {
		t.Errorf("%d cursors are kept", len(s.done))
	}
	_, _, err = run("select name,\n  nowhere from hut")
	if !errors.As(err, &p) || p.Code != finding.QueryNoSuchObject || p.At != 16 {
		t.Errorf("%v at %d", err, p.At)
	}
	if _, _, err := run("begin null; end;"); err == nil {
		t.Error("the practice server runs blocks?")
	}
	if _, _, err := run("select 1 from dual"); err != nil {
		t.Errorf("the session does not go on: %v", err)
	}
}

// TestVersions reads versions in the forms before and from 18c on.
func TestVersions(t *testing.T) {
	for _, c := range []struct {
		n, fields int64
		text      string
	}{{186647296, 6, "11.2.0.3.0"}, {202375680, 7, "12.1.0.2.0"}, {318963712, 11, "19.3.0.0.0"},
		{385941504, 11, "23.1.0.0.0"}} {
		if got := versionText(c.n, c.fields); got != c.text {
			t.Errorf("%d: %s instead of %s", c.n, got, c.text)
		}
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
