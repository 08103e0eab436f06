package engine_test

import (
	"context"
	"errors"
	"net"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/mysql"
	"gentle-harbor/internal/engine/postgres"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
)

const canary = "canary-5b2f-secret"

func TestIdentify(t *testing.T) {
	mysqlGreeting := func(version string) []byte {
		body := append([]byte{10}, version...)
		body = append(body, make([]byte, 60)...)
		return append([]byte{byte(len(body)), 0, 0, 0}, body...)
	}
	for _, c := range []struct {
		name string
		data []byte
		kind string
	}{
		{"mysql", mysqlGreeting("8.4.0"), "mysql"},
		{"mariadb", mysqlGreeting("5.5.5-10.11.19-MariaDB-0"), "mariadb"},
		{"mysql's refusal", append([]byte{24, 0, 0, 0, 0xff, 0x10, 0x04}, "Too many connections"...), "mysql"},
		{"ssh", []byte("SSH-2.0-x\r\n"), "ssh"},
		{"web", []byte("HTTP/1.1 400 Bad Request\r\n"), "http"},
		{"yes to encryption", []byte("S"), "postgres"},
		{"no to encryption", []byte("N"), "postgres"},
		{"postgres' error", []byte("E\x00\x00\x00\x30SFATAL\x00C53300\x00Msorry\x00\x00"), "postgres"},
		{"nothing", nil, ""},
		{"short", []byte{10, 0, 0, 0}, ""},
		{"text", []byte("hello there"), ""},
	} {
		if got := engine.Identify(c.data); got.Kind != c.kind {
			t.Errorf("%s: %q", c.name, got.Kind)
		}
	}
}

// said collects what a client writes to a server that answers with the given bytes, first at once and the
// rest a piece for each thing the client says.
func said(conn net.Conn, first []byte, rest ...[]byte) <-chan string {
	done := make(chan string, 1)
	go func() {
		defer conn.Close()
		_ = conn.SetDeadline(time.Now().Add(15 * time.Millisecond))
		_, _ = conn.Write(first)
		var heard strings.Builder
		words := make([]byte, 4096)
		for {
			n, err := conn.Read(words)
			heard.Write(words[:n])
			if len(rest) > 0 {
				_, _ = conn.Write(rest[0])
				rest = rest[1:]
			} else if n > 0 {
				break
			}
			if err != nil {
				break
			}
		}
		done <- heard.String()
	}()
	return done
}

// fuzzEngine has an engine meet a server that says what the fuzzer likes, over an unencrypted connection to a
// host that is not this machine, and checks that no password and no unknown failure comes of it.
func fuzzEngine(f *testing.F, e engine.Engine) {
	f.Fuzz(func(t *testing.T, first, second, third []byte) {
		client, server := net.Pipe()
		heard := said(server, first, second, third)
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
		defer cancel()
		login := engine.Login{User: "warden_app", Database: "bunkhouse", Password: secret.New(canary)}
		session, err := e.Open(ctx, client, login, func(leg, saw string) {
			if finding.Leg(leg) != leg {
				t.Errorf("a leg %q", leg)
			}
		})
		if err == nil {
			_ = session.Ask(ctx)
			_, _ = session.Facts(ctx)
			_, _ = session.Databases(ctx)
			session.Close()
		}
		_ = client.Close()
		if strings.Contains(<-heard, canary) {
			t.Fatal("the password was shown")
		}
		var failure *finding.Problem
		if err != nil && !errors.As(err, &failure) {
			t.Fatalf("%T is no failure: %v", err, err)
		}
		if err != nil {
			if _, known := finding.Lookup(failure.Code); !known {
				t.Fatalf("the catalogue has no %s", failure.Code)
			}
		}
	})
}

var postgresSeeds = [][3]string{
	{"", "R\x00\x00\x00\x08\x00\x00\x00\x03", ""},
	{"", "R\x00\x00\x00\x08\x00\x00\x00\x00Z\x00\x00\x00\x05I", "T\x00\x00\x00\x06\x00\x01"},
	{"", "R\x00\x00\x00\x0c\x00\x00\x00\x05abcd", "E\x00\x00\x00\x0bC28P01\x00\x00"},
	{"", "R\x00\x00\x00\x17\x00\x00\x00\x0aSCRAM-SHA-256\x00\x00", "R\x00\x00\x00\x0c\x00\x00\x00\x0br=ab"},
	{"", "R\x7f\xff\xff\xff", ""},
	{"HTTP/1.1 200 OK\r\n\r\n", "", ""},
	{"", "E\x00\x00\x00\x06\x00\x00", ""},
}

func FuzzPostgres(f *testing.F) {
	for _, s := range postgresSeeds {
		f.Add([]byte(s[0]), []byte(s[1]), []byte(s[2]))
	}
	fuzzEngine(f, engine.Guarded(postgres.Engine{}))
}

func FuzzMySQL(f *testing.F) {
	greeting := "\x4a\x00\x00\x00\x0a8.4.0\x00\x01\x00\x00\x00abcdefgh\x00\xff\xf7\x2d\x02\x00\xff\x81\x15\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00ijklmnopqrst\x00caching_sha2_password\x00"
	for _, s := range [][3]string{
		{greeting, "\x02\x00\x00\x02\x01\x04", "\x07\x00\x00\x04\x01PEMPEM"},
		{greeting, "\x16\x00\x00\x02\xfemysql_clear_password\x00", ""},
		{greeting, "\x07\x00\x00\x02\x00\x00\x00\x02\x00\x00\x00", "\x01\x00\x00\x01\x01"},
		{greeting, "\x01\x00\x00\x02\xfe", ""},
		{"\x17\x00\x00\x00\xff\x10\x04Too many connections", "", ""},
		{"\x10\x00\x00\x00\x0a1\x00", "", ""},
		{"\xff\xff\xff\x00\x0a", "", ""},
		{"SSH-2.0-x\r\n", "", ""},
	} {
		f.Add([]byte(s[0]), []byte(s[1]), []byte(s[2]))
	}
	fuzzEngine(f, engine.Guarded(mysql.Engine{}))
}
