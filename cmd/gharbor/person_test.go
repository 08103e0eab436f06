//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/realtest"
	"gentle-harbor/internal/standin"
)

// person sits at a terminal, in which the program runs.
type person struct{ *realtest.Person }

func (w *world) sit(args ...string) *person { return w.sitAt(120, args...) }

// sitAt is sit at a terminal of a number of columns.
func (w *world) sitAt(columns int, args ...string) *person {
	w.Helper()
	return w.atTerminal(columns, w.command(args...))
}

// atTerminal starts a program at a terminal.
func (w *world) atTerminal(columns int, cmd *exec.Cmd) *person {
	w.Helper()
	return &person{realtest.AtTerminal(w.T, columns, cmd)}
}

func TestAddAtATerminal(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	practice(t, standin.Config{Engine: "postgres", Address: "127.0.9.1:5432"}) // so that there is a server to offer
	w := newWorld(t)
	p := w.sit("add", "huts/local")
	p.Answers("or Enter for another: ", "")
	p.Answers("engine ("+strings.Join(known.Names(), ", ")+"): ", "postgress")
	p.Answers("not an engine known here", "postgresql")
	p.Answers("host [localhost]: ", "127.0.0.1:1")
	p.Answers("database [postgres]: ", "bunkhaus")
	p.Answers("user: ", "")
	p.Answers("There is no default", "warden_app")
	p.Answers("(? lists them): ", "")
	p.Answers("Password of warden_app at 127.0.0.1:1: ", strings.ToLower(canary))
	p.Reads("finding port.refused")
	p.Answers("or leave? [change] ", "what")
	p.Answers("Type change", "")
	p.Answers("Which setting [port]: ", "prt")
	p.Answers("no setting of that name", "")
	p.Answers("port [1]: ", "x")
	p.Answers("is not a port", fmt.Sprint(s.Port()))
	// The password was sent to nobody yet, so it is not asked for again.
	p.Reads("finding login.refused")
	p.Answers("or leave? [change] ", "test")
	p.Answers("Password of warden_app", canary)
	p.Reads("finding database.missing")
	p.Answers("or leave? [change] ", "change")
	p.Answers("Which setting [database]: ", "database")
	p.Answers("database [bunkhaus]: ", "bunkhouse")
	// What was typed for one target is offered for another, and not used there unasked.
	p.Answers("database bunkhouse, without encryption too? (yes, no) [yes] ", "no")
	p.Answers("Password of warden_app", canary)
	p.Reads("You are in")
	p.Reads("Saved huts/local")
	p.Answers("Store this password", "")
	if code, _ := p.Ends(); code != 0 {
		t.Errorf("exit %d", code)
	}
	if strings.Contains(strings.ToLower(p.Screen()), strings.ToLower(canary)) {
		t.Error("the screen shows the password")
	}
	file, err := os.ReadFile(filepath.Join(w.home, "gharbor", "profiles", "huts", "local.yaml"))
	want := fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\ndatabase: bunkhouse\nuser: warden_app\n", s.Port())
	if err != nil || string(file) != want {
		t.Errorf("saved is %q, %v", file, err)
	}
}

// TestAddOffersServers takes the address of a server that greets here, and leaves nothing typed
// behind when the dialogue is interrupted.
func TestAddOffersServers(t *testing.T) {
	s := practice(t, standin.Config{Engine: "mariadb", Login: "mysql_native_password", Address: "127.0.9.2:3306"})
	w := newWorld(t)
	for _, engine := range []string{"MariaDB", "mariadb"} {
		p := w.sit("add", "huts/here", "--engine", engine, "--user", "warden_app", "--note", "it's new")
		p.Reads("Which one (1")
		line := regexp.MustCompile(fmt.Sprintf(`(?m)^  (\d)  127\.0\.9\.2:%d `, s.Port())).FindStringSubmatch(p.Screen())
		if line == nil {
			t.Fatalf("it is not offered:\n%s", p.Screen())
		}
		p.Answers("or Enter for another: ", line[1])
		p.Answers("database", "bunkhouse")
		p.Answers("(? lists them): ", "?")
		p.Reads("choose where to store it")
		p.Answers("(? lists them): ", canary) // the password itself, where its source is asked for
		p.Reads("That is not where a password comes from")
		p.Answers("(? lists them): ", "")
		p.Answers("Password of warden_app", "\x03")
		p.Reads("To go on from here:")
		code, _ := p.Ends()
		if strings.Contains(p.Screen(), canary) {
			t.Error("the screen shows what was typed at the password")
		}
		// The line is folded after a backslash, as a shell takes it.
		has(t, strings.ReplaceAll(strings.ReplaceAll(p.Screen(), "\r", ""), " \\\n      ", " "),
			fmt.Sprintf("gharbor add huts/here --engine mariadb --host 127.0.9.2 --port %d --database bunkhouse "+
				"--user warden_app --note 'it'\\''s new'",
				s.Port()))
		if code != 130 {
			t.Errorf("exit %d", code)
		}
	}
}

func TestNoPasswordIsAskedAbout(t *testing.T) {
	s := practice(t, standin.Config{Engine: "mysql", Login: "mysql_native_password"})
	w := newWorld(t)
	to := fmt.Sprintf("mysql://warden_app@127.0.0.1:%d", s.Port())
	p := w.sit("test", to)
	p.Answers("Password of", "")
	p.Answers("Is there no password", "again")
	p.Answers("Password of", canary)
	p.Reads("You are in")
	p = w.sit("test", to)
	p.Answers("Password of", "")
	p.Answers("Is there no password", "none")
	p.Reads("no password was sent")
	// How long a person takes is no leg's time.
	p = w.sit("test", to)
	p.Reads("Password of")
	time.Sleep(1500 * time.Millisecond)
	p.Types(canary + "\n")
	p.Reads("You are in, after ")
	p.Answers("Store this password", "")
	p.Ends()
	if match := regexp.MustCompile(`after ([0-9.]+) ms`).FindStringSubmatch(p.Screen()); match == nil ||
		len(match[1]) > len("999.9") {
		t.Errorf("%v", match)
	}
	p = w.sit("test", fmt.Sprintf("mysql://127.0.0.1:%d", s.Port()))
	p.Answers("User at 127.0.0.1", "warden_app")
	p.Answers("Password of warden_app", canary)
	p.Reads("You are in")
}

func TestInterrupt(t *testing.T) {
	w := newWorld(t, "PW="+canary)
	to := func(faults standin.Faults) string {
		s := practice(t, standin.Config{Engine: "postgres", Faults: faults})
		return fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", s.Port())
	}
	for _, c := range []struct {
		name  string
		args  []string
		wait  string
		types string
	}{
		{"a question", []string{"add", "p", "--host", "h"}, "engine", ""},
		{"a secret", []string{"test", to(standin.Faults{})}, "Password of", ""},
		{"whether there is a password", []string{"test", to(standin.Faults{})}, "Password of", "\n"},
		{"silence", []string{"test", to(standin.Faults{Stall: true}), "--secret", "env:PW"}, "", ""},
		{"a silent login", []string{"test", to(standin.Faults{StallLogin: true}), "--secret", "env:PW"}, "", ""},
		{"a silent query", []string{"run", to(standin.Faults{StallQuery: true}), "select 1", "--secret", "env:PW"}, "", ""},
		{"after a failure", []string{"add", "p", "mysql://a@127.0.0.1:1/x", "--secret", "none"}, "or leave?", ""},
		{"the demo's servers", []string{"demo", "--stay"}, "Ctrl-C here ends them", ""},
		{"an answer before removing", []string{"remove", "q"}, "Remove q?", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := &world{T: t, home: w.home, environ: w.environ}
			w.must(0, "add", "q", "mysql://a@h", "--replace")
			p := w.sit(c.args...)
			if c.wait != "" {
				p.Reads(c.wait)
			} else {
				time.Sleep(250 * time.Millisecond)
			}
			if c.types != "" {
				p.Types(c.types)
				p.Reads("Is there no password")
			}
			p.Types("\x03")
			if code, took := p.Ends(); code != 130 || took > 8*time.Second {
				t.Errorf("exit %d after %s; on the screen:\n%s", code, took, p.Screen())
			}
		})
	}
}

// TestProgramsHaveTheTerminal has an editor and the program of a door look for a terminal: they
// are given this program's own.
func TestProgramsHaveTheTerminal(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	w.wardens("p", "postgres", s)
	look := w.write("look", "#!/bin/sh\nfor n in 0 1 2; do test -t $n && printf 'has-%s ' $n; done\n")
	must(t, os.Chmod(look, 0o700))
	for _, args := range [][]string{{"with", "p", "--", look}, {"edit", "p"}} {
		p := w.atTerminal(100, func() *exec.Cmd {
			cmd := w.command(args...)
			cmd.Env = append(cmd.Env, "EDITOR="+look)
			return cmd
		}())
		p.Reads("has-0 has-1 has-2")
		p.Ends()
	}
}
