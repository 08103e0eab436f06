package postgres

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/enginetest"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
)

const canary = enginetest.Canary

func message(kind byte, body []byte) []byte {
	return append(binary.BigEndian.AppendUint32([]byte{kind}, uint32(len(body)+4)), body...)
}

// request makes an authentication request.
func request(number uint32, body string) []byte {
	return message('R', append(binary.BigEndian.AppendUint32(nil, number), body...))
}

func mechanisms(names ...string) []byte {
	return request(authSASL, strings.Join(names, "\x00")+"\x00\x00")
}

// requests are the authentication requests that the protocol has, and some that it does not.
var requests = map[string][]byte{
	"nothing": request(0, ""), "kerberos 4": request(1, ""), "kerberos 5": request(2, ""),
	"clear": request(3, ""), "crypt": request(4, "ab"),
	"md5": request(5, "salt"), "scm": request(6, ""), "gss": request(7, ""), "gss, going on": request(8, "x"),
	"sspi":  request(9, ""),
	"scram": mechanisms("SCRAM-SHA-256"), "scram plus": mechanisms("SCRAM-SHA-256-PLUS", "SCRAM-SHA-256"),
	"plus alone": mechanisms("SCRAM-SHA-256-PLUS"),
	"plain":      mechanisms("PLAIN"), "oauth": mechanisms("OAUTHBEARER"), "external": mechanisms("EXTERNAL"),
	"no mechanism": mechanisms(""), "plain and scram": mechanisms("PLAIN", "SCRAM-SHA-256"),
	"going on": request(11, "r=x,s=eA==,i=4096"), "final": request(12, "v=eA=="), "unknown": request(77, ""),
	"empty":     message('R', nil),
	"short md5": request(5, "s"), "key data": message('K', make([]byte, 8)), "ready": message('Z', []byte{'I'}),
	"a row": message('D', []byte{0, 0}), "copy": message('G', []byte{0, 0, 0}),
}

// patience is how long a rogue waits for a client to go on.
const patience = 20 * time.Millisecond

// rogue plays a server: it answers each of the client's messages with the next of a script, and
// gives all bytes that the client sent, decrypted where they were encrypted by TLS. "{nonce}" in
// an answer is the client's.
func rogue(conn net.Conn, config *tls.Config, script [][]byte) (seen []byte) {
	defer conn.Close()
	defer func() { _ = conn.Close() }()
	block := make([]byte, 8192)
	for {
		// A client that waits is sent the next answer all the same.
		_ = conn.SetReadDeadline(time.Now().Add(patience))
		n, err := conn.Read(block)
		seen = append(seen, block[:n]...)
		if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
			return seen
		}
		if config != nil && n == 8 {
			if _, err := conn.Write([]byte("S")); err != nil {
				return seen
			}
			_ = conn.SetReadDeadline(time.Time{})
			encrypted := tls.Server(conn, config)
			if encrypted.Handshake() != nil {
				return seen
			}
			conn, config = encrypted, nil
			continue
		}
		if len(script) == 0 {
			return seen
		}
		answer := script[0]
		if at := bytes.LastIndex(seen, []byte(",r=")); at >= 0 && bytes.Contains(answer, []byte("{nonce}")) {
			answer = request(authSASLContinue, strings.Replace(string(answer[9:]), "{nonce}", string(seen[at+3:]), 1))
		}
		if _, err := conn.Write(answer); err != nil {
			return seen
		}
		script = script[1:]
	}
}

// meet opens a connection to a rogue and gives what it saw.
func meet(t testing.TB, login engine.Login, line engine.Line, serve *tls.Config, script [][]byte) ([]byte, error) {
	t.Helper()
	client, server := enginetest.Pair(t)
	done := make(chan []byte, 1)
	go func() { done <- rogue(server, serve, script) }()
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	session, err := engine.Guarded(Engine{}).Open(ctx, enginetest.On(client, line), login, func(string, string) {})
	if session != nil {
		session.Close()
	}
	_ = client.Close()
	return <-done, err
}

// first is a SCRAM server's first message, with a number of rounds.
func first(rounds int) []byte {
	return request(authSASLContinue, fmt.Sprintf("r={nonce}more,s=c2FsdHNhbHQ=,i=%d", rounds))
}

// TestNoRogueIsShownThePassword lets a server make each authentication request in each state of
// the login, over each kind of connection on which it may not see the password, and reads all
// that was sent to it.
func TestNoRogueIsShownThePassword(t *testing.T) {
	authority, err := standin.NewAuthority("rogue")
	if err != nil {
		t.Fatal(err)
	}
	serve, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), "db.fellside.example")
	if err != nil {
		t.Fatal(err)
	}
	ends := [][]byte{request(0, ""), message('Z', []byte{'I'})}
	states := map[string][][]byte{
		"at first": nil, "after md5": {requests["md5"]}, "after scram": {requests["scram"]},
		"after scram's first": {requests["scram"], first(4096)},
		"after scram's final": {requests["scram"], first(4096), requests["final"]},
		"after the login":     {append(request(0, ""), message('S', []byte("a\x00b\x00"))...)},
	}
	cases := 0
	for _, kind := range []string{"plain", "encrypted"} {
		for state, before := range states {
			for name, asked := range requests {
				login, line := engine.Login{User: "warden_app", Database: "bunkhouse"},
					enginetest.Given(engine.Line{Unverified: true})
				var server *tls.Config
				if kind == "encrypted" {
					server, line.TLS = serve, &tls.Config{InsecureSkipVerify: true}
				}
				seen, err := meet(t, login, line, server, append(append(slices.Clone(before), asked), ends...))
				cases++
				if bytes.Contains(seen, []byte(canary)) {
					t.Errorf("%s, %s, %s: the password was shown", kind, state, name)
				}
				var f *finding.Problem
				if !errors.As(err, &f) {
					if name != "md5" && !(name == "nothing" && state == "after md5") &&
						state != "after the login" && name != "nothing" {
						t.Errorf("%s, %s, %s: %v", kind, state, name, err)
					}
					continue
				}
				if state == "at first" &&
					(name == "gss" || name == "sspi" || name == "plain" || name == "oauth") &&
					f.Code != "login.method-not-supported" {
					t.Errorf("%s, %s, %s: %v", kind, state, name, err)
				}
				if state == "at first" && name == "clear" && f.Code != "login.would-show-password" {
					t.Errorf("%s, %s, %s: %v", kind, state, name, err)
				}
				if strings.HasPrefix(state, "after scram") && name == "nothing" && f.Code != "login.server-unproven" {
					t.Errorf("%s, %s, %s: %v", kind, state, name, err)
				}
			}
		}
	}
	t.Logf("%d rogues met", cases)
}

// TestTheRogueWouldSeeIt shows that the test above could fail.
func TestTheRogueWouldSeeIt(t *testing.T) {
	seen, err := meet(t, engine.Login{User: "u"}, enginetest.Given(engine.Line{MayShow: true}), nil,
		[][]byte{requests["clear"]})
	if !bytes.Contains(seen, []byte(canary)) {
		t.Errorf("the rogue sees nothing, %v", err)
	}
}

func TestMethodsAndRounds(t *testing.T) {
	ready := append(request(0, ""), message('Z', []byte{'I'})...)
	for _, c := range []struct {
		name    string
		login   engine.Login
		line    engine.Line
		script  [][]byte
		code    string
		sent    string
		quicker time.Duration
	}{
		{"trust", engine.Login{}, engine.Line{}, [][]byte{ready}, "", "", 0},
		{"trust, not listed", engine.Login{Methods: []string{"md5"}}, engine.Line{}, [][]byte{ready},
			"login.method-not-supported", "", 0},
		{"trust, listed", engine.Login{Methods: []string{"md5", engine.NothingAsked}}, engine.Line{},
			[][]byte{ready}, "", "", 0},
		{"md5, listed", engine.Login{Methods: []string{"md5"}}, engine.Line{}, [][]byte{requests["md5"], ready},
			"", "MD5", 0},
		{"scram, not listed", engine.Login{Methods: []string{"md5"}}, engine.Line{},
			[][]byte{requests["scram"], ready}, "login.method-not-supported", "", 0},
		{"clear, not listed", engine.Login{Methods: []string{"md5"}}, engine.Line{MayShow: true},
			[][]byte{requests["clear"], ready}, "login.method-not-supported", "", 0},
		{"few rounds, elsewhere", engine.Login{}, engine.Line{Unverified: true},
			[][]byte{requests["scram"], first(4095)}, "login.too-few-rounds", "SCRAM-SHA-256", 0},
		{"few rounds, here", engine.Login{}, engine.Line{},
			[][]byte{requests["scram"], first(1), request(12, "v=eA==")}, "login.server-unproven", "SCRAM-SHA-256", 0},
		{"many rounds", engine.Login{Leg: time.Second}, engine.Line{},
			[][]byte{requests["scram"], first(10_000_000)}, "login.too-many-rounds", "SCRAM-SHA-256", time.Second},
		{"a wrong proof", engine.Login{}, engine.Line{},
			[][]byte{requests["scram"], first(4096), request(12, "v=eA=="), ready}, "login.server-unproven",
			"SCRAM-SHA-256", 0},
		{"no proof", engine.Login{}, engine.Line{}, [][]byte{requests["scram"], first(4096), ready},
			"login.server-unproven", "SCRAM-SHA-256", 0},
		{"no exchange", engine.Login{}, engine.Line{}, [][]byte{requests["scram"], ready},
			"login.server-unproven", "SCRAM-SHA-256", 0},
	} {
		sent := ""
		c.line = enginetest.Given(c.line)
		c.line.Secret = func(method string) secret.Secret { sent = method; return secret.New(canary) }
		c.login.User = "warden_app"
		began := time.Now()
		_, err := meet(t, c.login, c.line, nil, c.script)
		var f *finding.Problem
		errors.As(err, &f)
		if c.code == "" && err != nil || c.code != "" && (f == nil || string(f.Code) != c.code) || sent != c.sent {
			t.Errorf("%s: %v, sent for %q", c.name, err, sent)
		}
		if took := time.Since(began); c.quicker > 0 && took > c.quicker {
			t.Errorf("%s: it took %s", c.name, took)
		}
	}
}

// FuzzLogin drives a login, and what follows it, with a server's bytes.
func FuzzLogin(f *testing.F) {
	ready := append(request(0, ""), message('Z', []byte{'I'})...)
	for _, asked := range requests {
		f.Add(asked)
		f.Add(append(slices.Clone(asked), ready...))
	}
	row := append(message('T', append([]byte{0, 1, 'x', 0}, make([]byte, 18)...)),
		message('D', []byte{0, 1, 0, 0, 0, 1, 'x'})...)
	done := append(message('C', []byte("SELECT 1\x00")), message('Z', []byte{'I'})...)
	f.Add(slices.Concat(ready, row, done, row, done))
	f.Add(slices.Concat(ready, message('E', []byte("SERROR\x00C42P01\x00Mno\x00\x00")), done))
	f.Add([]byte("N"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if sent := enginetest.Drive(t, Engine{}, data); bytes.Contains(sent, []byte(canary)) {
			t.Error("the password was shown")
		}
	})
}
