//go:build unix

package files

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestTempFolder makes folders for a moment where the system's folder for such things is closed,
// is sticky, is open, and is behind another's link; none is ever made where others could change
// what is in it.
func TestTempFolder(t *testing.T) {
	own := filepath.Join(t.TempDir(), "state", "temporary")
	for name, c := range map[string]struct {
		mode os.FileMode
		own  bool
	}{"closed": {0o700, false}, "sticky": {0o777 | os.ModeSticky, false}, "open": {0o777, true},
		"open to a group": {0o770, true}} {
		temp := filepath.Join(t.TempDir(), "tmp")
		must(t, os.Mkdir(temp, 0o700))
		must(t, os.Chmod(temp, c.mode))
		if c.mode == 0o770 && os.Geteuid() == 0 && os.Chown(temp, 0, 54321) != nil {
			t.Skip("skipped for want of another group")
		}
		t.Setenv("TMPDIR", temp)
		folder, err := TempFolder(own, "x-")
		info, e := os.Stat(folder)
		if err != nil || e != nil || info.Mode().Perm() != 0o700 || strings.HasPrefix(folder, own) != c.own ||
			strings.HasPrefix(folder, temp) == c.own {
			t.Errorf("%s: %s, %v, %v", name, folder, err, e)
		}
		if _, err := TempFolder("", "x-"); (err != nil) != c.own {
			t.Errorf("%s, and nowhere else: %v", name, err)
		}
	}
}
