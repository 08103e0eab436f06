//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"net"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/standin"
)

// TestUntil walks real and practice servers up to each leg: no secret is asked for where nobody
// logs in, and none of the server's refusals after that leg counts.
func TestUntil(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil, "PW="+canary, "WRONG=x")
	logins := 0
	for name, s := range map[string]*server{"postgres": realPostgres(t), "mariadb": realMariaDB(t)} {
		// No secret, and a user and a database that are not there.
		bare := name + "-bare"
		h.write("gharbor/profiles/"+bare+".yaml",
			fmt.Sprintf("engine: %s\nhost: 127.0.0.1\nport: %d\ndatabase: nowhere\ntls: {mode: encrypt}\n",
				name, s.port))
		for _, leg := range checkup.LegNames {
			if !checkup.LogsIn(leg) && leg != "secret" {
				for _, flags := range [][]string{nil, {"--via", h.via}} {
					var r struct{ Profiles []*checkup.Report }
					must(t, json.Unmarshal([]byte(h.must(0,
						append([]string{"test", bare, "--until", leg, "--json", "--timeout", "25s",
							"--timeout-total", "35s"}, flags...)...).out), &r))
					legs := r.Profiles[0].Legs
					if !r.Profiles[0].OK || r.Profiles[0].Until != leg || r.Profiles[0].Server != nil || len(legs) == 0 {
						t.Errorf("%s, %s: %+v", name, leg, r.Profiles[0])
					}
					for _, l := range legs {
						if l.OK == nil || !*l.OK {
							t.Errorf("%s, %s: %+v", name, leg, l)
						}
					}
					// which an address alone does not have
					if last := legs[len(legs)-1].Name; last != leg && leg != "cloud" && leg != "container" &&
						leg != "tunnel" && leg != "alias" && leg != "name" {
						t.Errorf("%s: until %s it goes to %s", name, leg, last)
					}
				}
			}
		}
		// A hop that cannot be reached is no success of what comes after it, nor a failure of
		// what comes before.
		for i, leg := range checkup.LegNames {
			if !checkup.LogsIn(leg) && leg != "secret" {
				code := 0
				if i >= slices.Index(checkup.LegNames, "tunnel") {
					code = 5
				}
				h.must(code, "test", bare, "--until", leg, "--via", "127.0.0.1:1")
			}
		}
		wrong := h.save(name+"-wrong", name,
			append(s.at("127.0.0.1"), "--user", "warden_app", "--database", "nowhere", "--secret", "env:WRONG")...)
		h.must(6, "test", wrong, "--until", "login")
		for _, leg := range []string{"login", "database", "query", "expect"} {
			code := 0
			if leg != "login" {
				code = 7
			}
			r := h.must(code, "test", wrong, "--secret", "env:PW", "--until", leg)
			if logins++; code == 0 {
				has(t, r.out, "It goes as far as login", "What comes after that was not tried")
			}
		}
		h.must(0, "test", wrong, "--secret", "env:PW", "--database", "bunkhouse", "--until", "query")
		h.must(5, "test", bare, "--until", "greeting", "--port", "1")
		if logins == 0 {
			t.Error("nothing was tried")
		}
		// What went a part of the way is no test that later ones are compared with.
		if r := h.run("history", wrong); strings.Contains(r.out, "ok") {
			t.Errorf("%s", r.out)
		}
	}
	has(t, h.must(4, "test", h.save("unset", "postgres", "--host", "127.0.0.1", "--user", "u",
		"--secret", "env:NOT_THERE")).err+h.run("test", "unset").out, "gharbor test unset --until tls")
	if out := h.run("test", "unset").out; strings.Contains(out, "gharbor change unset") {
		t.Errorf("--until is to be kept:\n%s", out)
	}
	has(t, h.must(2, "test", "unset", "--until", "colour").err, "greeting")
	h.must(2, "test", "unset", "--until", "name", "--repeat", "3")
	// A server of another kind is met, and one that says nothing.
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer silent.Close()
	s := h.save("silent", "postgres", "--host", "127.0.0.1",
		"--port", fmt.Sprint(silent.Addr().(*net.TCPAddr).Port), "--user", "u", "--timeout", "1s")
	h.must(0, "test", s, "--until", "port")
	h.must(5, "test", s, "--until", "greeting")
	other := practice(t, standin.Config{Engine: "mysql"})
	h.must(5, "test", s, "--until", "greeting", "--port", fmt.Sprint(other.Port()))
}
