package mongodb

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"io"
	"net"
	"os"
	"runtime"
	"testing"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/enginetest"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
)

const canary = enginetest.Canary

var usual = engine.Login{User: "warden_app", Database: "bunkhouse"}

func practice(t testing.TB, config standin.Config) *standin.Server {
	t.Helper()
	config.Engine, config.Unlisted, config.Accounts = "mongodb", true, map[string]string{"warden_app": canary}
	s, err := standin.Start(config)
	must(t, err)
	t.Cleanup(s.Close)
	return s
}

// mangled is a connection to a practice server of which one byte of what the server says is
// another one, or the last. It keeps what was said and sent.
type mangled struct {
	net.Conn
	at         int // from 0; -1 for nowhere
	change     func(byte) byte
	cut        bool
	said, sent []byte
}

func (m *mangled) Read(p []byte) (int, error) {
	if m.cut && len(m.said) >= m.at {
		return 0, io.EOF
	}
	if m.cut {
		p = p[:min(len(p), m.at-len(m.said))]
	}
	n, err := m.Conn.Read(p)
	if i := m.at - len(m.said); !m.cut && i >= 0 && i < n {
		p[i] = m.change(p[i])
	}
	m.said = append(m.said, p[:n]...)
	return n, err
}

func (m *mangled) Write(p []byte) (int, error) {
	m.sent = append(m.sent, p...)
	return m.Conn.Write(p)
}

func dial(t testing.TB, s *standin.Server) net.Conn {
	t.Helper()
	conn, err := s.Dial()
	must(t, err)
	return conn
}

// whole logs in over a connection, and asks all that a test asks.
func whole(t testing.TB, conn net.Conn, line engine.Line, login engine.Login) (method string, err error) {
	t.Helper()
	opened, err := engine.Guarded(Engine{}).Open(t.Context(), enginetest.On(conn, enginetest.Given(line)),
		login, func(string, string) {})
	if err != nil {
		return "", err
	}
	defer opened.Close()
	if err := opened.Ask(t.Context()); err != nil {
		return "", err
	}
	facts, err := opened.Facts(t.Context())
	if err != nil {
		return "", err
	}
	if lister, can := engine.As[engine.Lister](opened); can {
		if _, err := lister.Databases(t.Context()); err != nil {
			return "", err
		}
		if _, err = lister.Visible(t.Context(), []string{"hut", "nothing"}); err != nil {
			return "", err
		}
	}
	if runner, can := engine.As[engine.Runner](opened); can {
		_, err = runner.Run(t.Context(),
			engine.Statement{Text: `{"find": "hut", "batchSize": 2}`, Largest: 1 << 20}, nowhere{})
	}
	return facts.Login, err
}

func TestAbilities(t *testing.T) {
	s := practice(t, standin.Config{})
	opened, err := Engine{}.Open(t.Context(), enginetest.On(dial(t, s), enginetest.Given(engine.Line{})), usual,
		func(string, string) {})
	must(t, err)
	defer opened.Close()
	enginetest.Abilities(t, Engine{}, opened)
	seen, err := opened.(engine.Lister).Visible(t.Context(), []string{"hut", "nothing"})
	if err != nil || !seen["hut"] || seen["nothing"] {
		t.Errorf("%v: %v", seen, err)
	}
}

// TestScram has the example of RFC 7677, section 3.
func TestScram(t *testing.T) {
	salt, _ := base64.StdEncoding.DecodeString("W22ZaJ0SNY7soEsUEjb6gQ==")
	whole := "n=user,r=rOprNGfwEbeRWgbNEkqO,r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096,c=biws,r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0"
	proof, server, err := scram(newHash(scram256), "pencil", salt, 4096, whole)
	if got := base64.StdEncoding.EncodeToString(proof); err != nil ||
		got != "dHzbZapWIk4jUhN+Ute9ytag9zjfMHgsqmmiz7AndVQ=" {
		t.Errorf("%s: %v", got, err)
	}
	if got := base64.StdEncoding.EncodeToString(server); got != "6rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl95G4=" {
		t.Error(got)
	}
}

// TestThePasswordIsNeverSent logs in by each method, and looks for the password in what was sent.
func TestThePasswordIsNeverSent(t *testing.T) {
	for _, config := range []standin.Config{{}, {Login: scram1}, {Faults: standin.Faults{Unproven: "no proof"}},
		{Faults: standin.Faults{Unproven: "wrong proof"}}, {Faults: standin.Faults{AskClear: true}},
		{Faults: standin.Faults{Rounds: 100}}} {
		conn := &mangled{Conn: dial(t, practice(t, config)), at: -1}
		method, err := whole(t, conn, engine.Line{Unverified: true}, usual)
		p := problem(err)
		switch {
		case config.Faults.Unproven == "" && !config.Faults.AskClear && config.Faults.Rounds == 0 && err != nil,
			config.Faults.Unproven != "" && (p == nil || p.Code != finding.LoginServerUnproven),
			config.Faults.AskClear && (p == nil || p.Code != finding.LoginWouldShowPassword),
			config.Faults.Rounds != 0 && (p == nil || p.Code != finding.LoginTooFewRounds):
			t.Errorf("%+v: %q, %v", config, method, err)
		}
		for _, form := range []string{canary, hex.EncodeToString([]byte(canary)),
			base64.StdEncoding.EncodeToString([]byte(canary))} {
			if bytes.Contains(conn.sent, []byte(form)) {
				t.Errorf("%+v: the password was sent", config)
			}
		}
	}
}

// TestRogues has a server say wrong things in each place of a login and of a session: cut off,
// and with each byte another one.
func TestRogues(t *testing.T) {
	s := practice(t, standin.Config{})
	good := &mangled{Conn: dial(t, s), at: -1}
	if _, err := whole(t, good, engine.Line{}, usual); err != nil {
		t.Fatal(err)
	}
	changes := map[string]func(byte) byte{
		"zero": func(byte) byte { return 0 }, "high": func(byte) byte { return 0x80 }, "all": func(byte) byte {
			return 0xff
		}, "most": func(byte) byte { return 0x7f },
		"more": func(b byte) byte { return b + 1 }, "case": func(b byte) byte { return b ^ 0x20 }, "cut": nil,
	}
	met, step := 0, 0
	for at := range good.said {
		for name, change := range changes {
			if step++; step%31 != 0 && os.Getenv("ROGUES") != "all" { // each costs the work of a login
				continue
			}
			met++
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			began := time.Now()
			ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond) // a length that is too long is waited for
			conn := &mangled{Conn: dial(t, s), at: at, change: change, cut: change == nil}
			opened, err := engine.Guarded(Engine{}).Open(ctx,
				enginetest.On(conn, enginetest.Given(engine.Line{Unverified: true})), usual, func(string, string) {})
			if err == nil {
				_ = opened.Ask(ctx)
				_, _ = opened.Facts(ctx)
				_, _ = opened.(engine.Lister).Databases(ctx)
				opened.Close()
			}
			cancel()
			_ = conn.Conn.Close()
			runtime.ReadMemStats(&after)
			var p *finding.Problem
			if err != nil && !errors.As(err, &p) || time.Since(began) > 2*time.Second ||
				after.TotalAlloc-before.TotalAlloc > 64<<20 || bytes.Contains(conn.sent, []byte(canary)) {
				t.Fatalf("byte %d, %s: %v, %s, %d bytes", at, name, err, time.Since(began), after.TotalAlloc-before.TotalAlloc)
			}
		}
	}
	t.Logf("%d rogues met", met)
}

// TestAnswersAreBounded has answers that no server gives: a length of 3 GB, documents without an
// end in depth, lengths that contradict each other.
func TestAnswersAreBounded(t *testing.T) {
	deep, _ := bson.Marshal(bson.D{{Key: "ok", Value: 1.0}})
	for range 5000 {
		deep, _ = bson.Marshal(bson.D{{Key: "a", Value: bson.Raw(deep)}})
	}
	good, _ := bson.Marshal(bson.D{{Key: "ok", Value: 1.0}})
	short := bytes.Clone(good)
	short[0]--
	huge := message(9, 1, good)
	copy(huge, []byte{0, 0, 0, 0xb3})
	flagged := message(9, 1, good)
	flagged[headerSize] = 0x80
	summed := message(9, 1, append(bytes.Clone(good), 1, 2, 3, 4))
	summed[headerSize] = flagChecksum
	other := message(9, 2, good)
	for name, data := range map[string][]byte{"deep": message(9, 1, deep), "short": message(9, 1, short),
		"huge": huge, "flags": flagged, "checksum": summed, "an answer to something else": other,
		"a section of another kind": append(message(9, 1, good)[:headerSize+4], append([]byte{1}, good...)...)} {
		w := &wire{conn: &enginetest.Scripted{Data: data}}
		answer, err := w.ask(t.Context(), bson.D{{Key: "ping", Value: 1}})
		if p := problem(err); p == nil || p.Code != finding.GreetingMalformed {
			t.Errorf("%s: %v, %v", name, answer, err)
		}
	}
	w := &wire{conn: &enginetest.Scripted{Data: message(9, 1, good)}}
	if _, err := w.ask(t.Context(), bson.D{{Key: "ping", Value: 1}}); err != nil {
		t.Error(err)
	}
}

// FuzzAnswer has a session read answers of any bytes.
func FuzzAnswer(f *testing.F) {
	for _, doc := range []bson.D{{{Key: "ok", Value: 1.0}},
		{{Key: "ok", Value: 0}, {Key: "code", Value: 13}, {Key: "errmsg", Value: "no"}},
		{{Key: "ok", Value: true}, {Key: "isWritablePrimary", Value: true}, {Key: "maxWireVersion", Value: 21},
			{Key: "saslSupportedMechs", Value: bson.A{"SCRAM-SHA-256"}}}} {
		body, _ := bson.Marshal(doc)
		f.Add(message(9, 1, body))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		conn := &enginetest.Scripted{Data: data}
		s := &session{wire: &wire{conn: conn}, login: usual, method: engine.Unasked}
		err := s.greet(t.Context())
		if err == nil {
			err = s.logIn(t.Context(),
				engine.Line{Given: true, Unverified: true, Secret: func(string) secret.Secret {
					return secret.New(canary)
				}})
		}
		if err != nil && problem(err) == nil {
			t.Errorf("%v is no finding", err)
		}
		_, _ = s.settle(t.Context())
		_, _ = s.Facts(t.Context())
		if _, err := s.Run(t.Context(), engine.Statement{Text: `{"find": "hut"}`}, nowhere{}); err != nil &&
			problem(err) == nil {
			t.Errorf("%v is no finding", err)
		}
		if bytes.Contains(conn.Sent, []byte(canary)) {
			t.Error("the password was sent")
		}
	})
}
