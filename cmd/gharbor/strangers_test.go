//go:build unix

package main

import (
	"fmt"
	"strings"
	"testing"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/standin"
)

// TestEachEngineMeetsEachOther has a profile of each engine lead to a server of each other one:
// the finding names it, and its first command that changes the engine gets as far as the greeting
// there.
func TestEachEngineMeetsEachOther(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	servers := map[string]*standin.Server{}
	for _, info := range known.Infos() {
		s, err := standin.Start(standin.Config{Engine: info.Name, Accounts: map[string]string{"warden_app": canary}})
		must(t, err)
		t.Cleanup(s.Close)
		servers[info.Name] = s
	}
	for _, ours := range known.Infos() {
		for _, theirs := range known.Infos() {
			if ours.Family == theirs.Family {
				continue
			}
			p := w.save("p", ours.Name, "--host", "127.0.0.1",
				"--port", fmt.Sprint(servers[theirs.Name].Port()), "--database", "bunkhouse",
				"--user", "warden_app", "--secret", "none", "--timeout", "400ms")
			r := w.report(p)
			said := fmt.Sprintf("%+v", r.Finding)
			if r.Code() != "greeting.other-engine" || !strings.Contains(said, "--engine "+theirs.Name) {
				t.Errorf("%s meets %s: %s", ours.Name, theirs.Name, said)
			}
		}
	}
}
