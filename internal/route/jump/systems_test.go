//go:build unix

package jump

import (
	"os"
	"path/filepath"
	"testing"
)

// TestAgentPlace has each way to name an agent on each system.
func TestAgentPlace(t *testing.T) {
	for _, c := range []struct {
		system, variable, said, configured string
		at                                 string
		named                              bool
	}{
		{"linux", "", "", "", "", false},
		{"linux", "/run/a", "", "", "/run/a", false},
		{"linux", "/run/a", "/run/b", "/run/c", "/run/b", true},
		{"linux", "/run/a", "", "/run/c", "/run/c", true},
		{"linux", "/run/a", "", "SSH_AUTH_SOCK", "/run/a", true},
		{"linux", "", "", "SSH_AUTH_SOCK", "", true},
		{"linux", "/run/a", "", "$OTHER", "/run/other", true},
		{"linux", "/run/a", "", "~/s", "/home/w/s", true},
		{"linux", "/run/a", "none", "", "none", true},
		{"windows", "", "", "", systemAgent, false},
		{"windows", "", "", "SSH_AUTH_SOCK", systemAgent, true},
		{"windows", `\\.\pipe\mine`, "", "", `\\.\pipe\mine`, false},
		{"windows", "", "", `~\s`, `/home/w\s`, true},
		{"windows", "", "none", "", "none", true},
	} {
		w := World{System: c.system, Home: "/home/w", Env: func(name string) (string, bool) {
			value := map[string]string{"SSH_AUTH_SOCK": c.variable, "OTHER": "/run/other"}[name]
			return value, value != ""
		}}
		if at, named := w.agentPlace(c.said, c.configured, nil); at != c.at || named != c.named {
			t.Errorf("%+v: %s %t", c, at, named)
		}
	}
}

// TestNoCommandWithoutAShell has a ProxyCommand on a system that has no POSIX shell: nothing is
// started, and the finding says so.
func TestNoCommandWithoutAShell(t *testing.T) {
	b := newBench(t, nil)
	b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public)
	ran := filepath.Join(t.TempDir(), "ran")
	write(t, filepath.Join(b.home, ".ssh/config"), "ProxyCommand touch "+ran+"\n")
	h := b.hop()
	h.Config.World.System = "windows"
	if code, _, p := b.through(h, nil, ""); code != "tunnel.no-shell" {
		t.Errorf("%q %v", code, p)
	}
	if _, err := os.Stat(ran); err == nil {
		t.Error("it ran")
	}
}
