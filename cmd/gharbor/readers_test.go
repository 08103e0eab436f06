//go:build unix

package main

import (
	"bytes"
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"gentle-harbor/internal/standin"
)

// reader gives a program that reads what ours writes.
func reader(t *testing.T, name string, args ...string) *exec.Cmd {
	t.Helper()
	return exec.Command(tool(t, name), args...)
}

// TestReportsAreReadByOtherPrograms gives the reports of tests that pass and fail to what reads
// such reports: prove, an XML schema's checker and a JSON schema's.
func TestReportsAreReadByOtherPrograms(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	at := []string{"--engine", "postgres", "--host", "127.0.0.1", "--user", "warden_app",
		"--database", "bunkhouse", "--secret", "env:PW", "--port"}
	for name, port := range map[string]string{"huts/good": fmt.Sprint(s.Port()), "huts/refused": "1"} {
		w.must(0, append(append([]string{"add", name, "--label", "season=winter",
			"--note", "it's # \\ \"new\" <&> €"}, at...), port)...)
	}
	w.write("gharbor/profiles/huts/broken.yaml", "engine: postgres\nprot: \"<&]]>\"\n")
	sets := map[string][]string{"good": {"huts/good", "huts/good"}, "bad": {"huts/"}, "one": {"huts/good"},
		"until": {"huts/good", "--until", "tls"}, "refused": {"huts/refused"}}
	for name, words := range sets {
		good := name != "bad" && name != "refused"
		tap, junit := filepath.Join(w.home, name+".tap"), filepath.Join(w.home, name+".xml")
		for form, to := range map[string]string{"tap": tap, "junit": junit} {
			if r := w.run(append([]string{"test", "--as", form, "--to", to}, words...)...); (r.code == 0) != good {
				t.Fatalf("%s: exit %d: %s", name, r.code, r.err)
			}
		}
		out, err := reader(t, "prove", "--exec", "cat", "--verbose", tap).CombinedOutput()
		if text := string(out); (err == nil) != good || strings.Contains(text, "Parse errors") ||
			!good && !strings.Contains(text, "Failed") {
			t.Errorf("%s: prove: %v\n%s", name, err, text)
		}
		if out, err := reader(t, "xmllint", "--noout", "--schema", "../../docs/junit.xsd",
			junit).CombinedOutput(); err != nil {
			t.Errorf("%s: %v\n%s", name, err, out)
		}
	}
	compiler := jsonschema.NewCompiler()
	for file, commands := range map[string][][]string{
		"test": {{"test", "huts/good"}, {"test", "huts/"}, {"test", "huts/refused"},
			{"test", "huts/good", "--until", "greeting"}, {"await", "huts/good", "--for", "1s"},
			{"test", "huts/good", "--host", "localhost"}, {"test", "huts/good", "--expect", "superuser=true"}},
		"list": {{"list"}, {"list", "nothing"}},
		"run": {{"run", "huts/good", "select name, height from hut"}, {"run", "huts/good", "selec"},
			{"run", "huts/good", "select name from hut where height < 0"}},
		"survey":  {{"survey", "huts/good", "databases"}},
		"aliases": {{"alias", "export"}},
	} {
		schema, err := compiler.Compile(map[bool]string{true: "../../docs/",
			false: "../../docs/schemas/"}[file == "aliases"] + file + ".schema.json")
		must(t, err)
		if file == "aliases" {
			w.write("gharbor/aliases.yaml", "bookings: {engine: postgres, addresses: [db.fellside.example], wants: primary}\n")
		}
		for _, args := range commands {
			if file != "aliases" {
				args = append(args, "--json")
			}
			out := w.run(args...).out
			value, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
			if err == nil {
				err = schema.Validate(value)
			}
			if err != nil {
				t.Errorf("%v: %v\n%s", args, err, out)
			}
			if schema.Validate(map[string]any{}) == nil {
				t.Errorf("%s lets everything pass", file)
			}
		}
	}
}

// TestManualPages checks the manual page of each command and each action.
func TestManualPages(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	pages := [][]string{nil}
	for line := range strings.Lines(w.must(0, "help", "--all").out) {
		match := regexp.MustCompile(`^  ([a-z]+)   `).FindStringSubmatch(line)
		if match == nil {
			continue
		}
		pages = append(pages, []string{match[1]})
		actions := false
		for line := range strings.Lines(w.must(0, "help", match[1]).out) {
			actions = line == "Actions:\n" || actions && line != "\n"
			if action := regexp.MustCompile(`^  ([a-z-]+) `).FindStringSubmatch(line); actions && action != nil {
				pages = append(pages, []string{match[1], action[1]})
			}
		}
	}
	if len(pages) < 50 {
		t.Fatalf("%d pages", len(pages))
	}
	for _, names := range pages {
		page := w.must(0, append(append([]string{"help"}, names...), "--man")...).out
		cmd := reader(t, "mandoc", "-Tlint", "-Wwarning")
		cmd.Stdin = strings.NewReader(page)
		if out, err := cmd.CombinedOutput(); err != nil || len(out) > 0 {
			t.Errorf("%v: %v\n%s", names, err, out)
		}
		show := reader(t, "mandoc", "-Tutf8")
		show.Stdin = strings.NewReader(page)
		out, err := show.Output()
		must(t, err)
		text := regexp.MustCompile("\b.|.\b").ReplaceAllString(string(out), "")
		has(t, strings.Join(strings.Fields(text), " "), "gharbor"+strings.Join(append([]string{""}, names...), "-")+" -")
		if bytes.Contains(out, []byte("\\e")) {
			t.Errorf("%v has escapes", names)
		}
	}
	// whatis finds the page by its NAME.
	dir := t.TempDir()
	must(t, exec.Command("mkdir", "-p", filepath.Join(dir, "man1")).Run())
	put(t, filepath.Join(dir, "man1/gharbor-test.1"), []byte(w.must(0, "help", "test", "--man").out))
	if out, err := reader(t, "makewhatis", dir).CombinedOutput(); err != nil || len(out) > 0 {
		t.Errorf("makewhatis: %v %s", err, out)
	}
	out, err := reader(t, "mwhatis", "-M", dir, "gharbor-test").CombinedOutput()
	if err != nil || !strings.Contains(string(out), "test the whole connection to a database") {
		t.Errorf("whatis: %v %s", err, out)
	}
}
