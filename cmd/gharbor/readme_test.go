//go:build unix

package main

import (
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
)

// stay is a demo whose servers stay up, and a shell at a terminal that has taken over its settings.
type stay struct {
	*world
	shell *person
	codes string // a file with the exit code of each line that was typed
	typed int
	cloud string // the practice cloud's address
	said  *noted // what the demo printed
}

// list gives the lines that the demo says to try.
func (s *stay) list() (lines []string) {
	_, text, _ := strings.Cut(s.said.String(), "Then try:\n\n")
	text, _, _ = strings.Cut(text, "\n\n")
	for line := range strings.Lines(text) {
		lines = append(lines, strings.TrimSpace(line))
	}
	return lines
}

// stays starts the demo in a folder of its own, and a shell in a second terminal.
func stays(t *testing.T) *stay {
	t.Helper()
	w := newWorld(t, "TMPDIR="+t.TempDir())
	w.environ = slices.DeleteFunc(w.environ, func(pair string) bool { return strings.HasPrefix(pair, "GHARBOR_HOME=") })
	demo := w.command("demo", "--stay", "--settings", "practice.sh")
	var said noted
	demo.Stdout, demo.Stderr = &said, &said
	must(t, demo.Start())
	ended := make(chan error, 1)
	go func() { ended <- demo.Wait() }()
	t.Cleanup(func() {
		_ = demo.Process.Signal(os.Interrupt)
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			_ = demo.Process.Kill()
			t.Error("the demo does not end")
		}
		if _, err := os.Stat(filepath.Join(w.home, "practice.sh")); err == nil {
			t.Error("its settings are left")
		}
	})
	eventually(t, "the demo is up", func() bool { return strings.Contains(said.String(), "The practice cloud is at ") })
	info, err := os.Stat(filepath.Join(w.home, "practice.sh"))
	must(t, err)
	if info.Mode().Perm() != 0o600 {
		t.Errorf("the settings have the mode %v", info.Mode())
	}
	cmd := exec.Command("bash", "--noprofile", "--norc", "-i")
	cmd.Dir, cmd.Env = w.home, append(slices.Clone(w.environ), "PS1=> ", "HISTFILE=")
	s := &stay{world: w, shell: w.atTerminal(160, cmd), codes: filepath.Join(w.home, "codes"),
		cloud: regexp.MustCompile(`http://\S+[0-9]`).FindString(said.String()), said: &said}
	return s
}

// types has the shell run a line, and gives its exit code and what it printed.
func (s *stay) types(line string) (code, printed string) {
	s.Helper()
	before := len(s.shell.Screen())
	s.typed++
	s.shell.Types(line + "\n")
	s.shell.Types("echo $? >>" + s.codes + "\n")
	var codes []string
	for range 4000 {
		data, _ := os.ReadFile(s.codes)
		if codes = strings.Fields(string(data)); len(codes) >= s.typed {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	for range 500 { // what it printed is read when the prompt after the second line is
		if strings.HasSuffix(s.shell.Screen(), "> ") && strings.Count(s.shell.Screen()[before:], "> ") > 1 {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	printed = s.shell.Screen()[before:]
	if len(codes) != s.typed {
		s.Fatalf("%s: it does not end, or took the next line for an answer:\n%s", line, printed)
	}
	return codes[s.typed-1], printed
}

// presses does what a person does at the cloud's page: confirms a code, or switches the service on.
func (s *stay) presses(page, answer string) {
	s.Helper()
	shown, err := http.Get(s.cloud + page)
	if err != nil {
		s.Error(err)
		return
	}
	defer shown.Body.Close()
	text, err := io.ReadAll(shown.Body)
	form := regexp.MustCompile(`name="form" value="([^"]*)"`).FindSubmatch(text)
	if err != nil || form == nil {
		s.Errorf("%s has no button: %s, %v", page, text, err)
		return
	}
	at, _ := url.Parse(page)
	values := at.Query()
	values.Set("answer", answer)
	values.Set("form", string(form[1]))
	done, err := http.PostForm(s.cloud+at.Path, values)
	if err != nil {
		s.Error(err)
		return
	}
	_ = done.Body.Close()
}

// confirms presses the button once a code is on the screen.
func (s *stay) confirms() {
	go func() {
		for range 1000 {
			if code := regexp.MustCompile(`\b[B-Z]{4}-[B-Z]{4}\b`).FindString(s.shell.Screen()); code != "" {
				s.presses("/device?code="+code, "yes")
				return
			}
			time.Sleep(10 * time.Millisecond)
		}
	}()
}

// meets does what people do before a line, and reports how the line is to end.
func (s *stay) meets(line string) (code string) {
	switch {
	case strings.Contains(line, "sign-in"):
		s.confirms()
	case strings.HasPrefix(line, "gharbor add huts/guest"):
		s.presses("/services", "on")
	}
	for _, each := range []string{"gharbor test huts/summer --port 1", "gharbor test archive/ledger --port 1",
		"gharbor cloud servers valley", "gharbor test huts/live"} {
		if line == each {
			return "5"
		}
	}
	if line == "gharbor test huts/guest" && !strings.Contains(s.shell.Screen(), "cloud admit huts/guest --for") {
		return "5"
	}
	return "0"
}

// notPasted are the blocks of the README that the test does not run, each with its reason.
var notPasted = map[string]string{
	"go run ./cmd/gharbor demo":                  "the demo has tests of its own, and this builds it once more",
	"./scripts/test":                             "it runs this test",
	"gharbor demo --stay --settings practice.sh": "it is what the test has started, in the other terminal",
	"CGO_ENABLED=0 go install -trimpath": "it would put a program into the folder of whoever runs the " +
		"tests; TestStatic builds it so",
}

// TestReadmeIsPasted pastes every block of the README into a shell, in order, beside the demo
// that it says to start: each line ends as the README says.
func TestReadmeIsPasted(t *testing.T) {
	t.Parallel()
	readme, err := os.ReadFile(filepath.Join("..", "..", "README.md"))
	must(t, err)
	if len(notPasted) > 5 {
		t.Error("more than five blocks are left out")
	}
	s := stays(t)
	lines, left := 0, map[string]bool{}
	for _, line := range strings.Split(string(readme), "\n") {
		line, is := strings.CutPrefix(line, "    ")
		if !is || strings.TrimSpace(line) == "" {
			continue
		}
		if start := leftOut(line); start != "" {
			left[start] = true
			continue
		}
		if strings.Contains(line, " #") {
			t.Errorf("%s: a shell may take a comment for arguments (zsh at a terminal)", line)
		}
		want := s.meets(line)
		if code, printed := s.types(line); code != want {
			t.Errorf("%s: exit %s instead of %s\n%s", line, code, want, printed)
		} else if strings.Contains(printed, "ropes-and-lanterns") || strings.Contains(printed, "reading-by-the-stove") {
			t.Errorf("%s: it shows a password", line)
		}
		lines++
	}
	if len(left) != len(notPasted) || lines < 30 {
		t.Errorf("%d lines were pasted, and %d of %d left out", lines, len(left), len(notPasted))
	}
	t.Logf("%d lines", lines)
}

func leftOut(line string) string {
	for start := range notPasted {
		if strings.HasPrefix(line, start) {
			return start
		}
	}
	return ""
}

// TestTheListOfTheDemo types what demo --stay prints, in its order.
func TestTheListOfTheDemo(t *testing.T) {
	t.Parallel()
	s := stays(t)
	if code, printed := s.types(". ./practice.sh"); code != "0" {
		t.Fatal(printed)
	}
	lines := s.list()
	if len(lines) < 6 {
		t.Fatalf("it lists %q", lines)
	}
	for _, line := range lines {
		want := s.meets(line)
		code, printed := s.types(line)
		if code != want {
			t.Errorf("%s: exit %s instead of %s\n%s", line, code, want, printed)
		}
		if line == "gharbor find" {
			has(t, printed, "the profile huts/local leads there already",
				"the profile archive/ledger leads there already", "huts-db-1")
		}
	}
	// Nothing is instead of another's file.
	w := s.world
	r := w.must(3, "demo", "--stay", "--settings", "practice.sh")
	has(t, r.err, "practice.sh is there already", "name another one")
	must(t, os.Symlink("nowhere", filepath.Join(w.home, "link.sh")))
	w.must(3, "demo", "--stay", "--settings", "link.sh")
}
