package keyring

import (
	"strings"
	"testing"

	"gentle-harbor/internal/target"
)

// FuzzItem reads what another program may have put into the keyring.
func FuzzItem(f *testing.F) {
	f.Add(`{"format":1,"user":"warden_app","host":"h","port":1,"tls":"off","secret":"x"}`)
	f.Add(`{"format":1,"user":"u","socket":"/s","tls":"verify","secret_bytes":"/w=="}`)
	f.Add(`{"format":2}`)
	f.Fuzz(func(t *testing.T, text string) {
		if dest, _, ok := readItem(text); ok && (dest.User == "" || target.Strength(dest.TLS) < 0) {
			t.Errorf("%q is taken", text)
		}
	})
}

// TestBusesOfThisMachine asks for passwords over a socket of this machine alone.
func TestBusesOfThisMachine(t *testing.T) {
	for address, ok := range map[string]bool{
		"unix:path=/run/user/1000/bus": true, "unix:abstract=/tmp/x,guid=1": true,
		"unix:path=/a;unix:path=/b": true, "": false, "tcp:host=10.0.0.1,port=1": false,
		"unix:path=/a;tcp:host=h,port=1": false,
		"nonce-tcp:host=h":               false, "unixexec:path=/bin/sh": false, "autolaunch:": false, "launchd:env=X": false,
	} {
		if why := Session(address); (why == "") != ok {
			t.Errorf("%q: %s", address, why)
		}
	}
	if _, _, ok := readItem(`{"format":1,"user":"u","tls":"off","secret":"` + strings.Repeat("x", maxItem) + `"}`); ok {
		t.Error("an item without an end is parsed")
	}
}
