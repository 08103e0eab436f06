//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/standin"
)

// TestACloneDoesNothingUnasked lets a cloned project's base and group have a part in a profile
// that is being added: none of its programs and statements runs, and nothing is connected to,
// before someone agreed.
func TestACloneDoesNothingUnasked(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	marker := filepath.Join(w.home, "marker")
	at := fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\nuser: warden_app\ndatabase: bunkhouse\n", s.Port())
	script := w.write("clone/fetch", "#!/bin/sh\ntouch "+marker+"\nprintf %s "+canary+"\n")
	must(t, os.Chmod(script, 0o755))
	w.write("clone/.gentle-harbor/profiles/base.yaml", at+"secret: {command: [../../fetch]}\n")
	w.write("clone/.gentle-harbor/profiles/g/group.yaml", "on-open:\n  - insert into hut values (99, 'Marked', 1, 'x')\n")
	in := func(args ...string) result {
		t.Helper()
		cmd := w.command(args...)
		cmd.Dir = filepath.Join(w.home, "clone")
		return w.finish(cmd)
	}
	for _, args := range [][]string{
		{"add", "x", "--base", "project:base", "--test"},
		{"add", "x2", "--base", "project:base", "--store", "wallet", "--test"},
		{"add", "g/y", "--project", "--engine", "postgres", "--host", "127.0.0.1",
			"--port", fmt.Sprint(s.Port()), "--user", "warden_app", "--database", "bunkhouse",
			"--secret", "env:PW", "--test"},
	} {
		r := in(args...)
		if r.code != 3 || !strings.Contains(r.err, "settings.not-agreed") || !strings.Contains(r.err, "gharbor agree") {
			t.Errorf("%v: exit %d\n%s%s", args, r.code, r.out, r.err)
		}
	}
	if _, err := os.Stat(marker); err == nil {
		t.Error("the project's program ran")
	}
	if opened := s.Opened(); len(opened) > 0 {
		t.Errorf("it was connected %d times", len(opened))
	}
	if r := in("agree", "base", "--yes"); r.code != 0 {
		t.Fatalf("%s%s", r.out, r.err)
	}
	if r := in("add", "x", "--base", "project:base", "--test"); r.code != 0 {
		t.Errorf("agreed, and not in: %s%s", r.out, r.err)
	}
}

// TestSwappedWhileItRuns changes a project's program and authority while a long run goes on: what
// was hashed is what is used, and the next attempt sees the change.
func TestSwappedWhileItRuns(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	for _, args := range [][]string{{"test", "p", "--repeat", "120"},
		{"await", "p", "q", "--for", "20s", "--every", "20ms", "--keep-waiting"}} {
		w := newWorld(t, "PW="+canary)
		w.home = filepath.Join(w.home, "clone")
		marker := filepath.Join(w.home, "marker")
		script := w.write("fetch", "#!/bin/sh\nprintf %s \"$PW\"\n")
		must(t, os.Chmod(script, 0o755))
		for _, name := range []string{"p", "q"} {
			port := s.Port()
			if name == "q" || args[0] == "await" {
				port = 1 // never there, so that it goes on
			}
			w.write(".gentle-harbor/profiles/"+name+".yaml",
				fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\nuser: warden_app\ndatabase: "+
					"bunkhouse\nsecret: {command: [../../fetch]}\n",
					port))
			w.must(0, "agree", name, "--yes")
		}
		cmd := w.command(args...)
		done := make(chan result, 1)
		go func() { done <- w.finish(cmd) }()
		if began := len(s.Opened()); args[0] == "test" {
			eventually(t, "it tests", func() bool { return len(s.Opened()) > began })
		} else {
			time.Sleep(400 * time.Millisecond) // nothing is there that would see it
		}
		w.write("fetch", "#!/bin/sh\ntouch "+marker+"\nprintf %s \"$PW\"\n")
		var r result
		select {
		case r = <-done:
		case <-time.After(6 * time.Second):
			_ = cmd.Process.Signal(os.Interrupt)
			r = <-done
		}
		if _, err := os.Stat(marker); err == nil {
			t.Errorf("%v runs the new program", args)
		}
		if !strings.Contains(r.out+r.err, "settings.not-agreed") {
			t.Errorf("%v does not see the change: exit %d\n%s%s", args, r.code, r.out, r.err)
		}
	}
}

// TestWhatIsShownIsWhatRuns writes a project's command so that a reader of the file sees other
// words than would run: what is agreed to shows the words as they are decoded, and a tag is
// refused before anything is asked.
func TestWhatIsShownIsWhatRuns(t *testing.T) {
	w := newWorld(t)
	in := func(args ...string) result {
		t.Helper()
		cmd := w.command(args...)
		cmd.Dir = filepath.Join(w.home, "clone")
		return w.finish(cmd)
	}
	const at = "engine: postgres\nhost: 127.0.0.1\nuser: warden_app\n"
	for _, c := range []struct{ secret, shown string }{
		{`{command: ["\x65cho", "\u0068ut"]}`, "secret: a program, word 2. hut"},
		{`"command: [\x65cho, \x68ut]"`, "secret: a program, word 2. hut"},
		{"{command: [echo, 'it''s']}", "it's"},
		{`{command: ["echo", "a\
  b"]}`, "secret: a program, word 2. ab"},
	} {
		w.write("clone/.gentle-harbor/profiles/p.yaml", at+"secret: "+c.secret+"\n")
		r := in("agree", "p")
		if r.code == 0 || !strings.Contains(r.out+r.err, c.shown) || strings.Contains(r.out+r.err, `\x`) ||
			strings.Contains(r.out+r.err, `\u`) {
			t.Errorf("%s is shown as: exit %d\n%s%s", c.secret, r.code, r.out, r.err)
		}
	}
	for _, text := range []string{"{command: [!!binary ZWNobw==]}", "!!str env:PW", "{command: [&x echo, *x]}",
		"!local env:PW"} {
		w.write("clone/.gentle-harbor/profiles/p.yaml", at+"secret: "+text+"\n")
		if r := in("agree", "p", "--yes"); r.code != 3 || !strings.Contains(r.err, "p.yaml:4: ") {
			t.Errorf("%s: exit %d\n%s%s", text, r.code, r.out, r.err)
		}
	}
}
