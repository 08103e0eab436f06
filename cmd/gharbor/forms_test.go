//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/joho/godotenv"
)

// hard gives passwords that forms of text get wrong.
func hard() []string {
	list := []string{
		"plain", "two words", " leading", "trailing ", "#hash", "a#b", "a #b", "$HOME", "${HOME}", "a$b",
		"$(id)", "`id`", "a`b", `back\slash`, `\n`, `\\n`, `ends\`, `\$x`, `\"`,
		`it's`, `''`, `'quoted'`, `"quoted"`, `"`, `'`, `'"`, `'"$`, "'`", `it's $5 "now"`, "a=b", "=", "a:b",
		"export", "!history", "~", "~/x", "*", "?", "[a-z]", "{a,b}", "a;b", "a&b", "a|b", "a>b", "(x)",
		"line\nbreak", "tab\there", "ümläut €", "%41", "100%",
	}
	return list
}

// TestDotenvIsReadAlike writes passwords into .env files: a shell that sources them and the
// dotenv library read the same.
func TestDotenvIsReadAlike(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	left := 0
	for i, password := range hard() {
		w.write("pw", password)
		must(t, os.Chmod(filepath.Join(w.home, "pw"), 0o600))
		name := fmt.Sprintf("p%d", i)
		w.must(0, "add", name, "--engine", "postgres", "--user", "it's $me", "--database", "a b",
			"--secret", "file:"+filepath.Join(w.home, "pw"))
		file := filepath.Join(w.home, name+".env")
		r := w.must(0, "export", name, "--as", "dotenv", "--with-secret", "--to", file)
		read, err := godotenv.Read(file)
		must(t, err)
		if strings.Contains(r.err, "DATABASE_PASSWORD") {
			left++
			t.Logf("%q has no form that both read", password)
			delete(read, "DATABASE_PASSWORD")
		} else if read["DATABASE_PASSWORD"] != password {
			t.Errorf("the library reads %q as %q", password, read["DATABASE_PASSWORD"])
		}
		if !strings.HasPrefix(read["DATABASE_URL"], "postgres://it%27s%20%24me:") || read["DATABASE_USER"] != "it's $me" {
			t.Errorf("%q", read)
		}
		for variable, want := range read {
			for _, program := range []string{"sh", "bash"} {
				out, err := exec.Command(program, "-c", `set -eu; . "$1"; printf %s "$`+variable+`"`, program,
					file).CombinedOutput()
				if err != nil || string(out) != want {
					t.Errorf("%s reads %s of %q as %q: %v", program, variable, password, out, err)
				}
			}
		}
	}
	if n := len(hard()); n < 50 || left > 3 {
		t.Errorf("%d of %d passwords have no form", left, n)
	}
}
