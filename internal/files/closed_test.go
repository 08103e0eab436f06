//go:build unix

package files

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
)

// stranger is the number of an account that is nobody's here.
const stranger = 12345

// TestClosed changes each thing on the way to a file in turn, in each way that others could use,
// and reads the file by each way that leads to it: directly, by a link to a folder above it, by a
// link that climbs through another, and by a link to itself.
func TestClosed(t *testing.T) {
	root := os.Geteuid() == 0
	type change struct {
		name   string
		do     func(path string) error
		needs  string // "folder" or "file": what it can be done to; "" for both, and "link" for a link
		root   bool   // only root can make it
		opens  bool
		shared bool // AlsoTrust(stranger) admits it
	}
	mode := func(m os.FileMode) func(string) error { return func(path string) error { return os.Chmod(path, m) } }
	both := func(a, b func(string) error) func(string) error {
		return func(path string) error { return errors.Join(a(path), b(path)) }
	}
	give := func(path string) error { return os.Lchown(path, stranger, stranger) }
	group := func(path string) error { return os.Lchown(path, -1, stranger) }
	changes := []change{
		{name: "as it is"},
		{name: "closed to all", do: mode(0o700), needs: "folder"},
		{name: "others write", do: mode(0o777), needs: "folder", opens: true},
		{name: "others write the file", do: mode(0o606), needs: "file", opens: true},
		{name: "umask 002, a private group", do: mode(0o775), needs: "folder"},
		{name: "umask 002, a file", do: mode(0o664), needs: "file"},
		{name: "a shared group writes", do: both(group, mode(0o775)), needs: "folder", root: true, opens: true},
		{name: "a shared group writes the file", do: both(group, mode(0o664)), needs: "file", root: true, opens: true},
		{name: "a shared group reads", do: both(group, mode(0o750)), needs: "folder", root: true},
		{name: "sticky", do: mode(0o777 | os.ModeSticky), needs: "folder"},
		{name: "sticky on a file", do: mode(0o666 | os.ModeSticky), needs: "file", opens: true},
		{name: "another's", do: give, root: true, opens: true, shared: true},
		{name: "another's sticky", do: both(give, mode(0o777|os.ModeSticky)), needs: "folder", root: true,
			opens: true, shared: true},
		{name: "another's link", do: give, needs: "link", root: true, opens: true, shared: true},
	}
	// The folder and the files: a/b/c/file, other/up -> ../a/b (through the link other2 ->
	// other), file2 -> a/b/c/file.
	ways := map[string]struct {
		path  string
		on    []string // what is on this way, below the folder of the test
		links []string
	}{
		"directly":      {"a/b/c/file", []string{"a", "a/b", "a/b/c", "a/b/c/file"}, nil},
		"a linked home": {"home/c/file", []string{"a", "a/b", "a/b/c", "a/b/c/file"}, []string{"home"}},
		"through two": {"other2/up/c/file", []string{"other", "a", "a/b", "a/b/c", "a/b/c/file"},
			[]string{"other2", "other/up"}},
		"a dotfile": {"other/file2", []string{"other", "a", "a/b", "a/b/c", "a/b/c/file"}, []string{"other/file2"}},
	}
	tried := 0
	for way, w := range ways {
		for _, part := range append(append([]string{}, w.on...), w.links...) {
			for _, c := range changes {
				kind := "folder"
				if strings.HasSuffix(part, "file") {
					kind = "file"
				}
				link := false
				for _, each := range w.links {
					link = link || each == part
				}
				if link != (c.needs == "link") || !link && c.needs != "" && c.needs != kind || c.root && !root {
					continue
				}
				tried++
				folder := t.TempDir()
				at := func(name string) string { return filepath.Join(folder, name) }
				if err := errors.Join(os.MkdirAll(at("a/b/c"), 0o755), os.Mkdir(at("other"), 0o755),
					os.WriteFile(at("a/b/c/file"), []byte("x"), 0o600),
					os.Symlink("a/b", at("home")), os.Symlink("other", at("other2")),
					os.Symlink("../a/./b", at("other/up")),
					os.Symlink(at("a/b/c/file"), at("other/file2"))); err != nil {
					t.Fatal(err)
				}
				if c.do != nil {
					must(t, c.do(at(part)))
				}
				label := fmt.Sprintf("%s, %s %s", way, part, c.name)
				_, err := ReadOwn(at(w.path), 10)
				var open *OpenError
				if (err != nil) != c.opens ||
					err != nil && (!errors.As(err, &open) || open.Path != at(part) ||
						!strings.Contains(open.Error(), open.Fix)) {
					t.Errorf("%s: %v", label, err)
				}
				if got := Closed(at(w.path)); (got != nil) != (err != nil) {
					t.Errorf("%s: Closed says %v, and ReadOwn %v", label, got, err)
				}
				// A new file beside it is written to the folder of the way alone.
				if err := Write(filepath.Join(filepath.Dir(at(w.path)), "new"), nil,
					0o600); (err != nil) != (c.opens && kind != "file" && (way != "a dotfile" || part == "other")) {
					t.Errorf("%s: a new file: %v", label, err)
				}
				if !c.root {
					continue
				}
				must(t, AlsoTrust(fmt.Sprint(stranger)))
				if err := Closed(at(w.path)); (err == nil) != (!c.opens || c.shared) {
					t.Errorf("%s: with the account trusted: %v", label, err)
				}
				must(t, AlsoTrust(""))
			}
		}
	}
	if tried < 60 && root || tried < 30 {
		t.Errorf("only %d cases", tried)
	}
}

// TestClosedEnds meets links that lead to themselves, and a path that is not there.
func TestClosedEnds(t *testing.T) {
	folder := t.TempDir()
	loop := filepath.Join(folder, "loop")
	must(t, os.Symlink("loop", loop))
	if err := Closed(filepath.Join(loop, "x")); err == nil || !strings.Contains(err.Error(), "loop") {
		t.Errorf("%v", err)
	}
	for _, path := range []string{filepath.Join(folder, "no", "such"), "/", "", "."} {
		if err := Closed(path); err != nil {
			t.Errorf("%q: %v", path, err)
		}
	}
	for account, good := range map[string]bool{"0": true, "root": true, "no-such-account": false, "-1": false,
		"99999999999": false, "": true} {
		if err := AlsoTrust(account); (err == nil) != good {
			t.Errorf("%q: %v", account, err)
		}
	}
	if runtime.GOOS == "linux" && ReadOnly(folder) {
		t.Error("a folder for tests is said to be mounted for reading alone")
	}
}
