//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/realtest"
	"gentle-harbor/internal/standin"
)

// TestPagesOfTests writes pages of tests and of a history, with a server that says what a browser
// would take for markup: they are whole, a real browser shows them at two widths and runs
// nothing, and no password is in them or in the history.
func TestPagesOfTests(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	good := practice(t, standin.Config{Engine: "postgres"})
	rogue := practice(t, standin.Config{Engine: "postgres",
		Faults: standin.Faults{ErrorText: `no </title><script>document.title='run'</script><img src=x onerror="document.title='run'"> ` +
			"\u202eturned\x1b[2J", Echo: true}})
	for name, s := range map[string]*standin.Server{"huts/local": good, "huts/rogue": rogue} {
		w.must(0, "add", name, "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()),
			"--database", "bunkhouse", "--user", "warden_app", "--secret", "env:PW")
	}
	w.must(0, "add", "huts/shut", "--base", "huts/local", "--port", fmt.Sprint(closedPort(t)))
	w.must(0, "test", "huts/rogue", "--port", fmt.Sprint(good.Port()))
	w.must(1, "test", "--all", "--as", "html", "--to", "report.html")
	piped := w.must(0, "history", "huts/rogue", "--as", "html")
	w.write("history.html", piped.out)
	has(t, piped.out, "The last test", "login.refused")
	if again := w.must(0, "history", "huts/rogue", "--as", "html", "--to", "again.html"); again.out != "" {
		t.Errorf("with --to it prints %q", again.out)
	}
	files := []string{"report.html", "history.html", "again.html"}
	state, err := filepath.Glob(filepath.Join(w.home, "gharbor/state/history/*.jsonl"))
	must(t, err)
	if len(state) != 3 {
		t.Errorf("%d histories", len(state))
	}
	for _, file := range files {
		state = append(state, filepath.Join(w.home, file))
	}
	for _, file := range state {
		data, err := os.ReadFile(file)
		must(t, err)
		if strings.Contains(string(data), canary) {
			t.Errorf("%s has the password", filepath.Base(file))
		}
	}
	b := realtest.NewBrowser(t)
	for _, file := range files {
		b.Goes("file://" + filepath.Join(w.home, file))
		for _, columns := range []int{1280, 400} {
			if page, window := b.Wide(columns); page > window {
				t.Errorf("%s at %d is %d wide", file, window, page)
			}
			b.Picture(fmt.Sprint(file, "-", columns))
		}
		b.Shows("gharbor test huts/", "document.title='run'")
		if title := b.Title(); !strings.HasSuffix(title, " - gharbor") {
			t.Errorf("%s: the title is %q", file, title)
		}
	}
	// What makes no sense.
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"await", "huts/local", "--as", "html"}, "--as"},
		{[]string{"test", "huts/local", "--repeat", "2", "--as", "html"}, "--repeat reports as text or json"},
		{[]string{"test", "huts/local", "--repeat", "2", "--to", "x"}, "takes no --to"},
		{[]string{"history", "huts/local", "--as", "tap"}, "text, json or html"},
	} {
		has(t, w.must(2, c.args...).err, c.says)
	}
	for _, args := range [][]string{{"test", "huts/local", "--as", "html"}, {"history", "huts/local", "--as", "html"}} {
		p := w.sit(args...)
		p.Reads("--to report.html")
		if code, _ := p.Ends(); code != 2 {
			t.Errorf("%v at a terminal: exit %d", args, code)
		}
	}
}

// TestAHistoryKeepsItsFindings has a failed test's meaning in the history; a line of before has
// what the code means in general, and one that others wrote is clean.
func TestAHistoryKeepsItsFindings(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	w.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(closedPort(t)),
		"--database", "d", "--user", "u", "--secret", "env:PW")
	w.must(5, "test", "p")
	past := func() (list []checkup.Past) {
		var all struct{ Tests []checkup.Past }
		must(t, json.Unmarshal([]byte(w.must(0, "history", "p", "--json").out), &all))
		return all.Tests
	}
	list := past()
	if len(list) != 1 || list[0].Finding == nil ||
		!strings.Contains(list[0].Finding.Cause, "Nothing listens on 127.0.0.1") ||
		len(list[0].Finding.Seen) == 0 || len(list[0].Finding.Try) == 0 {
		t.Fatalf("%+v", list)
	}
	has(t, w.must(0, "history", "p").out, "The last test failed: Nothing listens on 127.0.0.1")
	old := `{"when":"2026-11-01T10:00:00Z","ok":false,"code":"port.refused","ms":1,"legs":{},"settings":{}}`
	evil := `{"when":"2026-11-02T10:00:00Z","ok":false,"code":"port.refused","ms":1,"legs":{},"settings":{},"finding":{"code":"x","leg":"y","cause":"\u001b[2Jcause","seen":["\u202eseen"],"try":["\u001b]0;x: gharbor test p","Look: gharbor show p"]}}`
	w.history("p", old+"\n")
	has(t, w.must(0, "history", "p").out, "The last test failed: ", "answered")
	w.history("p", old+"\n"+evil+"\n")
	list = past()
	if f := list[len(list)-1].Finding; f == nil || f.Code != "port.refused" ||
		strings.ContainsRune(f.Cause, 0x1b) || strings.ContainsRune(f.Seen[0], 0x202e) || len(f.Try) != 1 ||
		f.Try[0].String() != "Look: gharbor show p" {
		t.Errorf("%+v", f)
	}
	if out := w.must(0, "history", "p").out; strings.ContainsRune(out, 0x1b) {
		t.Errorf("%q", out)
	}
}
