//go:build unix

package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"gentle-harbor/internal/standin"
)

// TestNoFilesAreOffered looks at the first packet of a login to a MySQL server: it does not say that the server may ask for files.
func TestNoFilesAreOffered(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "mysql"})
	var mu sync.Mutex
	var first []byte
	relay := plainServer(t, func(conn net.Conn) {
		server, err := net.Dial("tcp", s.Address())
		if err != nil {
			return
		}
		defer server.Close()
		go func() { _, _ = io.Copy(conn, server) }()
		head := make([]byte, 36)
		if _, err := io.ReadFull(conn, head); err != nil {
			return
		}
		mu.Lock()
		first = head
		mu.Unlock()
		_, _ = server.Write(head)
		_, _ = io.Copy(server, conn)
	})
	w := newWorld(t, "PW="+canary)
	w.must(0, "add", "p", "--engine", "mysql", "--host", "127.0.0.1", "--port", fmt.Sprint(relay), "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
	w.must(0, "test", "p")
	mu.Lock()
	defer mu.Unlock()
	if len(first) < 36 || first[4]&0x80 != 0 {
		t.Errorf("%x", first)
	}
}

// TestAContainersPasswordStaysInIt has a container on the host's network, and one whose server asks to be shown the password: only what is
// shown to be the container's gets it.
func TestAContainersPasswordStaysInIt(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres", Faults: standin.Faults{AskClear: true}})
	w := newWorld(t)
	e := practiceEngine(t, w)
	w.must(0, "add", "c", "--engine", "postgres", "--container", fmt.Sprintf("hutdb:%d", s.Port()), "--user", "warden_app", "--database", "bunkhouse", "--secret", "container")
	e.Put(hutdb(s, func(c *standin.Contained) { c.Published, c.HostNetwork = nil, true }))
	if f := w.fails("login.would-show-password", "c"); f == nil || slices.Contains(s.Shown(), canary) {
		t.Errorf("%+v, the server was shown %q", f, s.Shown())
	}
	// Published, by a forwarder of this account.
	e.Put(hutdb(s, func(c *standin.Contained) { c.Published = map[int][]string{s.Port(): {s.Address()}} }))
	w.must(0, "test", "c")
}

// TestAnOpenTemporaryFolder has a folder for temporary things that every account can write to, and no sticky bit: a project's agreed program
// runs from somewhere else, and what another account made of the folder of doors beforehand is not used.
func TestAnOpenTemporaryFolder(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	temp := filepath.Join(t.TempDir(), "tmp")
	must(t, os.Mkdir(temp, 0o700))
	must(t, os.Chmod(temp, 0o777))
	w := newWorld(t, "PW="+canary, "TMPDIR="+temp)
	where := filepath.Join(w.home, "where")
	script := w.write("clone/fetch", "#!/bin/sh\necho \"$0 $(pwd)\" >"+where+"\nls "+temp+" >>"+where+"\nprintf %s \"$PW\"\n")
	must(t, os.Chmod(script, 0o755))
	w.write("clone/.gentle-harbor/profiles/p.yaml", fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\nuser: warden_app\ndatabase: bunkhouse\nsecret: {command: [../../fetch]}\n", s.Port()))
	in := func(args ...string) result {
		cmd := w.command(args...)
		cmd.Dir = w.home + "/clone"
		return w.finish(cmd)
	}
	if r := in("agree", "p", "--yes"); r.code != 0 {
		t.Fatalf("%s%s", r.out, r.err)
	}
	if r := in("test", "p"); r.code != 0 {
		t.Errorf("%s%s", r.out, r.err)
	}
	text, err := os.ReadFile(where)
	if err != nil || strings.Contains(string(text), temp) || strings.Contains(string(text), "gharbor-") && !strings.Contains(string(text), "temporary") {
		t.Errorf("it ran at %q, %v", text, err)
	}
	if left, err := os.ReadDir(filepath.Join(w.home, "gharbor", "state", "temporary")); err != nil || len(left) > 0 {
		t.Errorf("%v is left, %v", left, err)
	}
	// The state's folder is another's link: nothing is made behind it.
	elsewhere := filepath.Join(temp, "elsewhere")
	must(t, os.MkdirAll(elsewhere, 0o777))
	must(t, os.Chmod(elsewhere, 0o777))
	must(t, os.RemoveAll(filepath.Join(w.home, "gharbor", "state")))
	must(t, os.Symlink(elsewhere, filepath.Join(w.home, "gharbor", "state")))
	w.must(0, "add", "q", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()), "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
	if r := w.run("hold", "q", "--background"); r.code == 0 {
		t.Errorf("%s", r.out)
	}
	if made, _ := os.ReadDir(elsewhere); len(made) > 0 {
		t.Errorf("%v was made behind another's link", made)
	}
}

// TestFindKnowsAChangedContainer looks at a container instead of one that a profile was tested with: it is shown as changed, and not as
// known.
func TestFindKnowsAChangedContainer(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t)
	e := practiceEngine(t, w)
	e.Put(hutdb(s))
	w.must(0, "add", "huts/c", "--engine", "postgres", "--container", "hutdb", "--user", "warden_app", "--database", "bunkhouse", "--secret", "container")
	w.must(0, "test", "huts/c")
	find := func() string { return w.must(0, "find", "--only", "containers").out }
	has(t, find(), "known", "the profile huts/c leads there already")
	e.Put(hutdb(s, func(c *standin.Contained) { c.Image = "stranger.example/postgres:16" }))
	has(t, find(), "changed", "it is another container: it has another image now than at the last good test")
	has(t, w.must(0, "find", "--only", "containers", "--json").out, `"changed": [`)
	e.Put(hutdb(s, func(c *standin.Contained) { c.Image = "postgres:17" }))
	has(t, find(), "known")
}
