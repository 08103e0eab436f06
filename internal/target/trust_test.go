package target

import (
	"testing"
)

// TestEachPartDiffering takes targets that differ from what is stored in each part in turn: what
// is stored is for none of them.
func TestEachPartDiffering(t *testing.T) {
	kept := Target{User: "u", Endpoint: Endpoint{Host: "h", Port: 1, Database: "d"}, Hops: []string{"gate"},
		TLS: "verify", Authority: "/ca.pem", ServerName: "db"}
	same := kept
	if lines := kept.Differs(same); len(lines) > 0 {
		t.Errorf("the same: %v", lines)
	}
	for name, change := range map[string]func(*Target){
		"service": func(w *Target) { w.Service = SSH }, "user": func(w *Target) {
			w.User = "v"
		}, "host": func(w *Target) { w.Host = "g" }, "port": func(w *Target) {
			w.Port = 2
		}, "socket": func(w *Target) { w.Host, w.Socket = "", "/s" },
		"database": func(w *Target) { w.Database = "e" }, "no hop": func(w *Target) {
			w.Hops = nil
		}, "another hop": func(w *Target) { w.Hops = []string{"gate", "more"} },
		"encrypt": func(w *Target) { w.TLS = "encrypt" }, "off": func(w *Target) {
			w.TLS = "off"
		}, "another authority": func(w *Target) { w.Authority = "/other.pem" },
		"the system's authority": func(w *Target) {
			w.Authority = ""
		}, "a project's authority": func(w *Target) {
			w.Authority = "sha256:aa"
		}, "another name": func(w *Target) {
			w.ServerName = "x"
		}, "the host's name": func(w *Target) { w.ServerName = "" },
	} {
		other := kept
		change(&other)
		if len(kept.Differs(other)) == 0 {
			t.Errorf("another %s is served", name)
		}
	}
	plain := Target{User: "u", Endpoint: Endpoint{Host: "h"}, TLS: "verify"}
	for name, c := range map[string]struct {
		dest   Target
		served bool
	}{
		"the system's": {Target{User: "u", Endpoint: Endpoint{Host: "h", Port: 1}, TLS: "verify"}, true},
		"your own authority": {Target{User: "u", Endpoint: Endpoint{Host: "h", Port: 1},
			TLS: "verify", Authority: "/ca.pem"}, true},
		"your own name": {Target{User: "u", Endpoint: Endpoint{Host: "h", Port: 1},
			TLS: "verify", ServerName: "x"}, true},
		"a project's authority": {Target{User: "u", Endpoint: Endpoint{Host: "h", Port: 1},
			TLS: "verify", Authority: "sha256:aa", Strange: true}, false},
		"a project's unknown authority": {Target{User: "u", Endpoint: Endpoint{Host: "h", Port: 1},
			TLS: "verify", Strange: true}, false},
		"a project's name": {Target{User: "u", Endpoint: Endpoint{Host: "h", Port: 1},
			TLS: "verify", ServerName: "x", Strange: true}, false},
	} {
		if lines := plain.Differs(c.dest); (len(lines) == 0) != c.served {
			t.Errorf("an entry without an authority, %s: %v", name, lines)
		}
	}
	open := Target{User: "u", Endpoint: Endpoint{Host: "h"}, TLS: "encrypt"}
	if lines := open.Differs(Target{User: "u", Endpoint: Endpoint{Host: "h"}, TLS: "verify", Strange: true,
		Authority: "sha256:aa"}); len(lines) > 0 {
		t.Errorf("what may travel unverified: %v", lines)
	}
}
