//go:build unix

package world

import (
	"path/filepath"
	"testing"
)

// TestPlacesOfEachSystem has what each system says of an account, and where its files are then.
func TestPlacesOfEachSystem(t *testing.T) {
	for _, c := range []struct {
		system                      string
		environ                     []string
		home, state, config, sshOwn string
	}{
		{"linux", []string{"HOME=/home/w"}, "/home/w/.config/gentle-harbor",
			"/home/w/.local/state/gentle-harbor", "/etc/ssh/ssh_config", "/home/w/.ssh/config"},
		{"linux", []string{"HOME=/home/w", "XDG_CONFIG_HOME=/c", "XDG_STATE_HOME=/s", "home=/other"},
			"/c/gentle-harbor", "/s/gentle-harbor", "/etc/ssh/ssh_config", "/home/w/.ssh/config"},
		{"darwin", []string{"HOME=/Users/w", "XDG_CONFIG_HOME=/c"},
			"/Users/w/Library/Application Support/gentle-harbor",
			"/Users/w/Library/Application Support/gentle-harbor/state", "/etc/ssh/ssh_config", "/Users/w/.ssh/config"},
		{"windows", []string{"HOME=/other", "UserProfile=/Users/w"}, "/Users/w/AppData/Roaming/gentle-harbor",
			"/Users/w/.local/state/gentle-harbor", `C:\ProgramData/ssh/ssh_config`, "/Users/w/.ssh/config"},
		{"windows", []string{"USERPROFILE=/Users/w", "AppData=/a", "LocalAppData=/l", "ProgramData=/p"},
			"/a/gentle-harbor", "/l/gentle-harbor/state", "/p/ssh/ssh_config", "/Users/w/.ssh/config"},
		{"windows", []string{"USERPROFILE=/Users/w", "GHARBOR_HOME=/g"}, "/g", "/g/state",
			`C:\ProgramData/ssh/ssh_config`, "/Users/w/.ssh/config"},
	} {
		w := &World{System: c.system, Environ: c.environ}
		home, err := w.Home()
		state, err2 := w.State()
		config := w.SSHConfig()
		if err != nil || err2 != nil || home != filepath.FromSlash(c.home) ||
			state != filepath.FromSlash(c.state) || filepath.ToSlash(config.System) != c.config ||
			config.User != filepath.FromSlash(c.sshOwn) {
			t.Errorf("%s %q: %s, %s, %s, %s (%v %v)", c.system, c.environ, home, state, config.System, config.User, err, err2)
		}
	}
	for _, w := range []*World{{System: "windows", Environ: []string{"userprofile=here"}},
		{System: "linux", Environ: []string{"HOME=here"}}} {
		if home, err := w.UserHome(); err == nil {
			t.Errorf("%s: %s", w.System, home)
		}
	}
}
