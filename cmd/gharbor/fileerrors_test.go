//go:build unix

package main

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"gentle-harbor/internal/standin"
)

// TestAFileErrorSaysWhatWasDone makes each of a user's own files a folder, and each folder a
// file, and runs the commands that go by it: no message begins with the system's words about a
// file.
func TestAFileErrorSaysWhatWasDone(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	bare := regexp.MustCompile(`(?m)^(gharbor: |note: )?(open|lstat|stat|mkdir|read|readdirent|fdopendir|rename|link|unlinkat|remove|chmod|listen) `)
	said, ran := 0, 0
	for _, broken := range []string{"state", "state/doors", "state/history", "profiles", "aliases.yaml",
		"credentials", "wallet", "known-hosts", "clouds", "profiles/g"} {
		w := newWorld(t, "PW="+canary)
		w.wardens("p", "postgres", s)
		path := filepath.Join(w.home, "gharbor", broken)
		must(t, os.RemoveAll(path))
		if broken == "aliases.yaml" || broken == "credentials" || broken == "known-hosts" {
			must(t, os.MkdirAll(path, 0o700))
		} else {
			must(t, os.MkdirAll(filepath.Dir(path), 0o700))
			must(t, os.WriteFile(path, nil, 0o600))
		}
		for _, line := range []string{
			"hold p --for 1ms", "hold p --background", "with p -- true", "doors", "release p", "test p",
			"await p --for 1s", "history p", "agree p", "hops list", "hops forget h", "run p|select 1",
			"survey p databases",
			"wallet create --passphrase-file pp", "wallet list",
			"wallet add p --secret env:PW --passphrase-file pp", "audit", "alias list",
			"alias add a --address h:1 --engine postgres", "alias check", "cloud status",
			"cloud add f http://127.0.0.1:1",
			"list", "show p", "change p --note x", "copy p q", "rename p r", "remove p --yes",
			"add g/q --engine postgres --host h --user u", "credentials list", "credentials why p",
			"meaning --at p", "export p --as uri", "import postgres://u@h/d --name i",
		} {
			first, statement, _ := strings.Cut(line, "|")
			args := strings.Fields(first)
			if statement != "" {
				args = append(args, statement)
			}
			w.write("pp", canary)
			must(t, os.Chmod(filepath.Join(w.home, "pp"), 0o600))
			r := w.run(args...)
			ran++
			if at := bare.FindString(r.err + r.out); at != "" {
				t.Errorf("%s with a wrong %s: %s%s", line, broken, r.err, r.out)
			}
			if strings.Contains(r.err, path) {
				said++
			}
			if line == "hold p --background" && r.code == 0 {
				w.run("release", "p")
			}
		}
	}
	t.Logf("%d of %d runs named what is broken", said, ran)
	if said < ran/8 {
		t.Errorf("%d of %d runs named what is broken", said, ran)
	}
	must(t, filepath.WalkDir("../../internal", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "world/errors.go") {
			return err
		}
		data, err := os.ReadFile(path)
		if strings.Contains(string(data), `rong("%v"`) {
			t.Errorf("%s words an error without what was being done: take world.Doing", path)
		}
		return err
	}))
}
