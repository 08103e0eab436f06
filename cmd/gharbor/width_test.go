//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"

	"gentle-harbor/internal/standin"
)

// TestNothingIsWiderThanTheTerminal runs what prints at terminals of three widths: no line is
// longer, unless it is one word.
func TestNothingIsWiderThanTheTerminal(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	other := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	long := "Refreshed each Monday from the live data, and not to be used for anything that the wardens must be " +
		"able to rely on"
	at := []string{"--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()),
		"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW", "--note", long}
	for _, name := range []string{"huts/local-server-of-the-wardens", "huts/far/another-server-of-the-society",
		"huts/moved", "short"} {
		w.must(0, append([]string{"add", name}, at...)...)
	}
	w.must(0, "add", "huts/refused", "--engine", "mysql", "--host", "127.0.0.1", "--port", "1",
		"--user", "a-user-with-a-long-name", "--database", "a_database_with_a_long_name",
		"--via", "ops@gate-of-the-society.fellside.example", "--label", "team=wardens", "--secret", "none")
	w.write("gharbor/aliases.yaml", "bookings-of-all-huts:\n  engine: postgres\n  addresses: "+
		"[db1.fellside.example:5432, db2.fellside.example:5432, db3.fellside.example:5432]\n  wants: primary\n")
	w.write("gharbor/profiles/huts/broken.yaml", "engine: postgres\nprot: 1\n")
	w.write("gharbor/credentials", "# gentle-harbor credentials 1\nat "+
		"db-of-all-the-huts-of-the-society.fellside.example:5432\n  warden_app on bunkhouse: x\n")
	must(t, os.Chmod(filepath.Join(w.home, "gharbor/credentials"), 0o600))
	w.must(0, "test", "huts/moved")
	w.must(0, "change", "huts/moved", "--port", fmt.Sprint(other.Port()))
	commands := [][]string{
		{"list"}, {"list", "--flat"}, {"show", "huts/refused"}, {"test", "short"}, {"test", "huts/"},
		{"test", "--all", "--until", "port"}, {"test", "huts/refused"},
		{"history", "huts/moved"}, {"alias", "list"}, {"alias", "show", "bookings-of-all-huts"},
		{"alias", "check"}, {"credentials", "list"}, {"credentials", "why", "short"},
		{"meaning", "port.refused"}, {"meaning"},
		{"run", "short", "select name, height, region, opened, remark from hut order by height"},
		{"survey", "short", "databases"}, {"survey", "short"}, {"survey", "short", "columns"},
		{"survey", "short", "table", "booking"}, {"survey", "short", "rights"},
		{"meaning", "--at", "huts/refused"},
		{"doors"}, {"hops", "list"}, {"find"}, {"audit"}, {"agree"}, {"version"}, {"nonsense"},
		{"list", "--nonsense"}, {"remove", "huts/x"}, {"wallet", "list"},
	}
	commands = append(commands, []string{"help"}, []string{"help", "--all"}, []string{"help", "settings"},
		[]string{"help", "environment"}, []string{"help", "exit"})
	for _, line := range strings.Split(w.must(0, "help", "--all").out, "\n") {
		if match := regexp.MustCompile(`^  ([a-z]+)   `).FindStringSubmatch(line); match != nil {
			commands = append(commands, []string{"help", match[1]})
		}
	}
	if len(commands) < 50 {
		t.Fatalf("%d commands", len(commands))
	}
	for _, at := range []struct {
		columns int
		locale  string
	}{{60, ""}, {80, ""}, {120, "C.UTF-8"}, {80, "de_DE.ISO-8859-15@euro"}} {
		columns, w := at.columns, *w
		if at.locale != "" {
			w.environ = append(w.environ[:len(w.environ):len(w.environ)], "LC_CTYPE="+at.locale, "LANG=C.UTF-8")
		}
		for _, args := range commands {
			p := w.sitAt(columns, args...)
			p.Ends()
			if strings.HasPrefix(at.locale, "de") { // a terminal without UTF-8 gets ASCII
				if i := strings.IndexFunc(p.Screen(), func(r rune) bool { return r >= utf8.RuneSelf }); i >= 0 {
					t.Errorf("%v: a character that is not of ASCII: %.80q", args, p.Screen()[i:])
				}
			}
			cutOff := 0
			for line := range strings.SplitSeq(p.Screen(), "\n") {
				line = regexp.MustCompile("\x1b\\[[0-9;]*[A-Za-z]").ReplaceAllString(strings.TrimRight(line, "\r"), "")
				line = line[strings.LastIndexByte(line, '\r')+1:] // what was painted over
				if n := text.StringWidth(line); n > columns && strings.Contains(strings.TrimSpace(line), " ") {
					t.Errorf("%v: %d columns at a terminal of %d:\n%s", args, n, columns, line)
				}
				if strings.Contains(line, "…") {
					cutOff++
				}
			}
			if args[0] == "help" && cutOff > strings.Count(w.must(0, args...).out, "…") {
				t.Errorf("%v is cut", args)
			}
		}
		// What is copied from a terminal is whole.
		p := w.sitAt(columns, "test", "short", "--json")
		p.Ends()
		if !strings.Contains(strings.ReplaceAll(p.Screen(), "\r", ""), w.must(0, "test", "short", "--json").out[:20]) {
			t.Errorf("%s", p.Screen())
		}
		p = w.sitAt(columns, "export", "huts/refused", "--as", "dotenv")
		p.Ends()
		if out := w.must(0, "export", "huts/refused",
			"--as", "dotenv").out; !strings.Contains(strings.ReplaceAll(p.Screen(), "\r", ""), out) {
			t.Errorf("%s", p.Screen())
		}
	}
	// A table never cuts what names a thing, or says where it is.
	for columns, tables := range map[int][][]string{60: {{"list"}, {"test", "huts/"}, {"alias", "list"},
		{"history", "huts/moved"}}, 80: {{"list"}, {"test", "huts/"}, {"alias", "list"}, {"history", "huts/moved"}}} {
		for _, args := range tables {
			whole := map[string][]string{"list": {"refused", "moved", fmt.Sprint(other.Port()),
				"gate-of-the-society.fellside.example"}, "test": {"huts/refused", "huts/moved"},
				"alias": {"bookings-of-all-huts"}, "history": {fmt.Sprint(other.Port())}}[args[0]]
			p := w.sitAt(columns, args...)
			p.Ends()
			for _, name := range whole {
				if !strings.Contains(p.Screen(), name) {
					t.Errorf("%v at %d columns cuts %s:\n%s", args, columns, name, p.Screen())
				}
			}
		}
	}
	// A pipe gets everything.
	if out := w.must(0, "list").out; strings.Contains(out, "…") ||
		!strings.Contains(out, "gate-of-the-society.fellside.example") {
		t.Errorf("%s", out)
	}
}
