package mysql

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"encoding/pem"
	"errors"
	"io"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/enginetest"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
)

const canary = enginetest.Canary

// known are the login methods that the driver knows, and some that it does not.
var known = []string{
	"caching_sha2_password", "mysql_native_password", "client_ed25519", "sha256_password",
	"mysql_clear_password", "mysql_old_password",
	"dialog", "auth_gssapi_client", "authentication_ldap_sasl_client", "authentication_oci_client", "parsec", "",
}

var rogueKey = sync.OnceValue(func() *rsa.PrivateKey {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		panic(err)
	}
	return key
})

func publicKey() []byte {
	data, err := x509.MarshalPKIXPublicKey(&rogueKey().PublicKey)
	if err != nil {
		panic(err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: data})
}

var nonce = []byte("01234567890123456789")

func greetingOf(method string, encrypted bool) []byte {
	caps := uint32(0x1 | 0x200 | 0x8000 | 0x80000 | 0x200000)
	if encrypted {
		caps |= clientSSL
	}
	p := append([]byte{10}, "8.4.0-rogue\x00\x01\x00\x00\x00"...)
	p = append(append(p, nonce[:8]...), 0)
	p = binary.LittleEndian.AppendUint16(p, uint16(caps))
	p = append(p, 45, 2, 0)
	p = binary.LittleEndian.AppendUint16(p, uint16(caps>>16))
	p = append(append(p, 21), make([]byte, 10)...)
	return append(append(append(append(p, nonce[8:]...), 0), method...), 0)
}

func switchTo(method string) []byte {
	data := nonce
	if method == "client_ed25519" {
		data = append(slices.Clone(nonce), nonce[:12]...)
	}
	return append(append(append([]byte{packetSwitch}, method...), 0), data...)
}

// rogue plays a server: it greets, and answers each of the client's packets with the next of a
// script. It gives the bytes of every packet that the client sent, decrypted where they were
// encrypted by TLS.
func rogue(conn net.Conn, config *tls.Config, greeting []byte, script [][]byte) (seen [][]byte) {
	defer conn.Close()
	seq := byte(0)
	write := func(p []byte) bool {
		_, err := conn.Write(append([]byte{byte(len(p)), byte(len(p) >> 8), byte(len(p) >> 16), seq}, p...))
		return err == nil
	}
	if !write(greeting) {
		return nil
	}
	for {
		header := make([]byte, 4)
		// a client that waits is sent the next packet all the same
		_ = conn.SetReadDeadline(time.Now().Add(20 * time.Millisecond))
		if _, err := io.ReadFull(conn, header); errors.Is(err, os.ErrDeadlineExceeded) && len(script) > 0 {
			if !write(script[0]) {
				return seen
			}
			seq++
			script = script[1:]
			continue
		} else if err != nil {
			return seen
		}
		body := make([]byte, length(header))
		if _, err := io.ReadFull(conn, body); err != nil {
			return seen
		}
		seen = append(seen, body)
		seq = header[3] + 1
		if config != nil && len(body) == sslRequestLen {
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
		if !write(script[0]) {
			return seen
		}
		script = script[1:]
	}
}

// leaks reports whether any packet of a client's shows the password: in clear, or encrypted with
// the rogue's key.
func leaks(seen [][]byte) bool {
	for _, p := range seen {
		if bytes.Contains(p, []byte(canary)) {
			return true
		}
		if len(p) < 256 {
			continue
		}
		if plain, err := rsa.DecryptOAEP(sha1.New(), nil, rogueKey(), p[len(p)-256:], nil); err == nil {
			for i := range plain {
				plain[i] ^= nonce[i%len(nonce)]
			}
			if bytes.Contains(plain, []byte(canary)) {
				return true
			}
		}
	}
	return false
}

// meet opens a connection to a rogue and gives what it saw.
func meet(t testing.TB, login engine.Login, line engine.Line, serve *tls.Config, greeting []byte,
	script [][]byte) ([][]byte, error) {
	t.Helper()
	client, server := enginetest.Pair(t)
	done := make(chan [][]byte, 1)
	go func() { done <- rogue(server, serve, greeting, script) }()
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	session, err := engine.Guarded(Engine{}).Open(ctx, enginetest.On(client, line), login, func(string, string) {})
	if session != nil {
		session.Close()
	}
	_ = client.Close()
	return <-done, err
}

// TestNoRogueIsShownThePassword lets a server name each login method in each state in which it
// can name one, over each kind of connection on which it may not see the password, and reads all
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
	more := func(text ...byte) []byte { return append([]byte{packetMore}, text...) }
	key := more(publicKey()...)
	full, quick, ok := more(fullLogin), more(quickLogin), []byte{packetOK, 0, 0, 2, 0, 0, 0}
	scripts := map[string]func(method string) (greeting string, script [][]byte){
		"greeting":               func(m string) (string, [][]byte) { return m, nil },
		"greeting, then the key": func(m string) (string, [][]byte) { return m, [][]byte{key, ok} },
		"greeting, then full":    func(m string) (string, [][]byte) { return m, [][]byte{full, key, ok} },
		"greeting, full twice":   func(m string) (string, [][]byte) { return m, [][]byte{full, full, key} },
		"switch":                 func(m string) (string, [][]byte) { return "mysql_native_password", [][]byte{switchTo(m)} },
		"switch, then the key": func(m string) (string, [][]byte) {
			return "mysql_native_password", [][]byte{switchTo(m), key, ok}
		},
		"switch, then full": func(m string) (string, [][]byte) {
			return "mysql_native_password", [][]byte{switchTo(m), full, key, ok}
		},
		"switch after caching": func(m string) (string, [][]byte) {
			return "caching_sha2_password", [][]byte{switchTo(m), key, full, key}
		},
		"switch after quick": func(m string) (string, [][]byte) {
			return "caching_sha2_password", [][]byte{quick, switchTo(m), key}
		},
		"switch after full": func(m string) (string, [][]byte) {
			return "caching_sha2_password", [][]byte{full, switchTo(m), key}
		},
		"second switch": func(m string) (string, [][]byte) {
			return "mysql_native_password", [][]byte{switchTo("caching_sha2_password"), switchTo(m), key, full}
		},
		"switch from an unknown one": func(m string) (string, [][]byte) { return "dialog", [][]byte{switchTo(m), key} },
		"the key immediately":        func(m string) (string, [][]byte) { return m, [][]byte{key, key, key} },
		"switch without a name":      func(m string) (string, [][]byte) { return m, [][]byte{{packetSwitch}, key} },
		"switch, then key for the other": func(m string) (string, [][]byte) {
			return "sha256_password", [][]byte{switchTo(m), key}
		},
	}
	cases := 0
	for _, kind := range []string{"plain", "encrypted"} {
		for name, script := range scripts {
			for _, method := range known {
				login, line := engine.Login{User: "warden_app"}, enginetest.Given(engine.Line{Unverified: true})
				var server *tls.Config
				if kind == "encrypted" {
					server, line.TLS = serve, &tls.Config{InsecureSkipVerify: true}
				}
				greeting, packets := script(method)
				seen, err := meet(t, login, line, server, greetingOf(greeting, server != nil), packets)
				cases++
				if leaks(seen) {
					t.Errorf("%s, %s, %q: the password was shown", kind, name, method)
				}
				var f *finding.Problem
				if err == nil && name != "greeting, then the key" || err != nil && !errors.As(err, &f) {
					t.Errorf("%s, %s, %q: %v", kind, name, method, err)
				}
				if shows(method) && (name == "greeting" || name == "switch") && f.Code != "login.would-show-password" {
					t.Errorf("%s, %s, %q: %v", kind, name, method, err)
				}
				if (method == "mysql_old_password" || method == "dialog" || method == "parsec") &&
					(name == "greeting" || name == "switch") &&
					(f.Code != "login.method-not-supported" || f.Facts[finding.FactMethod] != method) {
					t.Errorf("%s, %s, %q: %v %v", kind, name, method, err, f.Facts)
				}
			}
		}
	}
	t.Logf("%d rogues met", cases)
}

// TestTheRogueWouldSeeIt shows that the test above could fail: where the password may be shown,
// these rogues see it.
func TestTheRogueWouldSeeIt(t *testing.T) {
	more := append([]byte{packetMore}, publicKey()...)
	for name, c := range map[string]struct {
		greeting string
		script   [][]byte
	}{
		"clear":                {"mysql_native_password", [][]byte{switchTo("mysql_clear_password")}},
		"sha256, greeting":     {"sha256_password", [][]byte{more}},
		"sha256, switch":       {"mysql_native_password", [][]byte{switchTo("sha256_password"), more}},
		"caching, full by key": {"caching_sha2_password", [][]byte{{packetMore, fullLogin}, more}},
	} {
		seen, err := meet(t, engine.Login{User: "warden_app"}, enginetest.Given(engine.Line{MayShow: true}),
			nil, greetingOf(c.greeting, false), c.script)
		if !leaks(seen) {
			t.Errorf("%s: the rogue sees nothing, %v", name, err)
		}
	}
}

// TestNarrowedMethods accepts the listed login methods alone, and sends nothing for others.
func TestNarrowedMethods(t *testing.T) {
	ok := []byte{packetOK, 0, 0, 2, 0, 0, 0}
	for _, c := range []struct {
		name     string
		accepts  string
		greeting string
		script   [][]byte
		code     string
		sent     string
	}{
		{"the listed one", "mysql_native_password", "mysql_native_password", [][]byte{ok}, "", "mysql_native_password"},
		{"another, in the greeting", "client_ed25519", "mysql_native_password", [][]byte{ok},
			"login.method-not-supported", ""},
		{"another, by switching", "mysql_native_password", "mysql_native_password",
			[][]byte{switchTo("caching_sha2_password"), ok}, "login.method-not-supported", "mysql_native_password"},
		{"the listed one, by switching", "client_ed25519", "mysql_native_password",
			[][]byte{switchTo("client_ed25519"), ok}, "", "client_ed25519"},
		{"the curve from the greeting", "client_ed25519", "client_ed25519", [][]byte{ok}, "login.method-not-supported", ""},
		{"nothing asked", "caching_sha2_password", "caching_sha2_password", [][]byte{ok},
			"login.method-not-supported", "caching_sha2_password"},
		{"nothing asked, and listed", "nothing-asked caching_sha2_password", "caching_sha2_password",
			[][]byte{ok}, "", "caching_sha2_password"},
	} {
		sent := ""
		line := enginetest.Given(engine.Line{})
		line.Secret = func(method string) secret.Secret { sent = method; return secret.New(canary) }
		_, err := meet(t, engine.Login{User: "warden_app", Methods: strings.Fields(c.accepts)}, line, nil,
			greetingOf(c.greeting, false), c.script)
		var f *finding.Problem
		errors.As(err, &f)
		if c.code == "" && err != nil || c.code != "" && (f == nil || string(f.Code) != c.code) || sent != c.sent {
			t.Errorf("%s: %v, sent for %q", c.name, err, sent)
		}
	}
}

// TestEveryBitOfASignature has a signature of each login arrive as it was made: no packet after
// the first is for us to change.
func TestEveryBitOfASignature(t *testing.T) {
	// a key of MariaDB's method is made from a password of any length, and of RFC 8032's from 32
	// bytes
	const seed = "Canary-of-thirty-two-characters."
	key := ed25519.NewKeyFromSeed([]byte(seed)).Public().(ed25519.PublicKey)
	for i := range 64 {
		challenge := bytes.Repeat([]byte{byte(i)}, 32) // the first ends in zeros
		line := enginetest.Given(engine.Line{})
		line.Secret = func(string) secret.Secret { return secret.New(seed) }
		seen, err := meet(t, engine.Login{User: "warden_app"}, line, nil, greetingOf("mysql_native_password", false),
			[][]byte{append([]byte("\xfeclient_ed25519\x00"), challenge...), {packetOK, 0, 0, 2, 0, 0, 0}})
		if len(seen) < 2 || !ed25519.Verify(key, challenge, seen[1]) {
			t.Fatalf("challenge %d: the signature is not right, of %d packets: %v", i, len(seen), err)
		}
		if seen[0][0]&clientLocalFiles != 0 {
			t.Fatal("files are offered")
		}
	}
}

// FuzzLogin drives a login, and what follows it, with a server's bytes.
func FuzzLogin(f *testing.F) {
	packet := func(seq byte, p []byte) []byte {
		return append([]byte{byte(len(p)), byte(len(p) >> 8), byte(len(p) >> 16), seq}, p...)
	}
	ok := []byte{packetOK, 0, 0, 2, 0, 0, 0}
	for _, method := range known {
		greeting := packet(0, greetingOf(method, false))
		f.Add(greeting)
		f.Add(append(slices.Clone(greeting), packet(2, ok)...))
		f.Add(append(append(slices.Clone(greeting), packet(2, switchTo(method))...), packet(4, ok)...))
		f.Add(append(append(slices.Clone(greeting), packet(2, []byte{packetMore, fullLogin})...),
			packet(4, append([]byte{packetMore}, publicKey()...))...))
	}
	row := append(append(packet(2, ok), packet(1, []byte{1})...),
		packet(2, []byte("\x03def\x00\x00\x00\x01x\x01x\x0c\x2d\x00\x00\x04\x00\x00\xfd\x00\x00\x00\x00\x00"))...)
	f.Add(append(append(packet(0, greetingOf("mysql_native_password", false)), row...),
		packet(3, []byte{0xfe, 0, 0, 2, 0})...))
	f.Add(packet(0, append([]byte{packetErr}, "\x15\x04Too many connections"...)))
	f.Fuzz(func(t *testing.T, data []byte) {
		if sent := enginetest.Drive(t, Engine{}, data); leaks([][]byte{sent}) {
			t.Error("the password was shown")
		}
	})
}
