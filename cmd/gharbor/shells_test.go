//go:build unix

package main

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"gentle-harbor/internal/standin"
)

// TestCommandsAreForTheShellInUse reads the commands that a failed test, an export and an audit
// propose, in each shell's writing: none of them is left to a caller's own quoting.
func TestCommandsAreForTheShellInUse(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	s := practice(t, standin.Config{Engine: "postgres"})
	w.must(0, "add", "huts/local", "--engine", "postgres", "--host", "127.0.0.1",
		"--port", fmt.Sprint(s.Port()), "--user", "warden_app", "--database", "bunkhouse")
	for shell, c := range map[string]struct{ word, line string }{
		"":           {`'b%PATH%'\''s'`, `export GHARBOR_DATABASE='b%PATH%'\''s'`},
		"fish":       {`'b%PATH%'\''s'`, `export GHARBOR_DATABASE='b%PATH%'\''s'`},
		"powershell": {`'b%PATH%''s'`, `$env:GHARBOR_DATABASE = 'b%PATH%''s'`},
		"cmd":        {`^"b^%PATH^%'s^"`, `set GHARBOR_DATABASE=b%%PATH%%'s`},
	} {
		with := *w
		if shell != "" {
			with.environ = append(with.environ[:len(with.environ):len(with.environ)], "GHARBOR_SHELL="+shell)
		}
		r := with.run("test", "huts/local", "--database", "b%PATH%'s")
		commands := regexp.MustCompile(`--database (.*)`).FindAllStringSubmatch(strings.Join(strings.Fields(r.out), " "), -1)
		if len(commands) == 0 {
			t.Fatalf("%s: no command repeats the flag: %s", shell, r.out)
		}
		for _, each := range commands {
			if !strings.HasPrefix(each[1], c.word) {
				t.Errorf("%s: %s", shell, each[1])
			}
		}
		w.must(0, "change", "huts/local", "--database", "b%PATH%'s")
		if r := with.must(0, "export", "huts/local", "--as", "env"); !strings.Contains(r.out, c.line+"\n") {
			t.Errorf("%s: %s", shell, r.out)
		}
		w.must(0, "change", "huts/local", "--database", "bunkhouse")
	}
	w.environ = append(w.environ, "GHARBOR_SHELL=nothing-known")
	if r := w.must(2, "list"); !strings.Contains(r.err, "it may be bash, cmd") {
		t.Errorf("%s", r.err)
	}
}
