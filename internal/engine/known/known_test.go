package known

import (
	"testing"
)

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
		if got := Identify(c.data); got.Kind != c.kind {
			t.Errorf("%s: %q", c.name, got.Kind)
		}
	}
}
