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

// TestAFullDisk has every command that prints write to a full disk: it says so, and is no success.
func TestAFullDisk(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	w.profile("huts/local", s, "--secret", "env:PW")
	w.must(0, "test", "huts/local")
	for _, args := range [][]string{
		{"version"}, {"version", "--json"}, {"help"}, {"help", "test"}, {"list"}, {"list", "--json"},
		{"show", "huts/local"}, {"show", "huts/local", "--json"}, {"test", "huts/local"},
		{"test", "huts/local", "--json"},
		{"test", "huts/local", "--as", "tap"}, {"test", "huts/local", "--as", "junit"},
		{"test", "huts/local", "--repeat", "2"}, {"history", "huts/local"}, {"meaning", "port.refused"},
		{"meaning", "--all"},
		{"run", "huts/local", "select name from hut"},
		{"run", "huts/local", "select name from hut", "--as", "csv"},
		{"run", "huts/local", "select name from hut", "--json"}, {"survey", "huts/local", "databases"},
		{"export", "huts/local", "--as", "uri"}, {"export", "huts/local", "--as", "json"}, {"audit"},
		{"find", "--only", "environment"}, {"find", "--only", "environment", "--json"}, {"completion", "bash"},
		{"doors"}, {"alias", "list"}, {"hops", "list"}, {"await", "huts/local", "--for", "2s"}, {"help", "--man"},
	} {
		full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
		must(t, err)
		cmd := w.command(args...)
		var said strings.Builder
		cmd.Stdout, cmd.Stderr = full, &said
		_ = cmd.Run()
		_ = full.Close()
		if code := cmd.ProcessState.ExitCode(); code == 0 ||
			!strings.Contains(said.String(), "not all of it could be written: no space left on device") {
			t.Errorf("%v: exit %d: %s", args, code, said.String())
		}
	}
}

// TestAClosedPipe ends without a message and without success, ends a statement at the server, and
// leaves no folder behind.
func TestAClosedPipe(t *testing.T) {
	t.Parallel()
	pg := realPostgres(t)
	w := newWorld(t, "PW="+canary, "TMPDIR="+t.TempDir())
	p := w.save("p", "postgres", pg.warden()...)
	for _, args := range [][]string{{"run", p, "select generate_series(1, 100000000), 'word-pipe'",
		"--as", "csv"}, {"demo"}} {
		read, write, err := os.Pipe()
		must(t, err)
		cmd := w.command(args...)
		var said strings.Builder
		cmd.Stdout, cmd.Stderr = write, &said
		must(t, cmd.Start())
		_ = write.Close()
		_, _ = read.Read(make([]byte, 100))
		_ = read.Close()
		done := make(chan bool)
		go func() { _ = cmd.Wait(); close(done) }()
		select {
		case <-done:
		case <-time.After(20 * time.Second):
			_ = cmd.Process.Kill()
			t.Fatalf("%v goes on", args)
		}
		if code := cmd.ProcessState.ExitCode(); code != 141 || said.Len() > 0 && args[0] == "run" {
			t.Errorf("%v: exit %d: %s", args, code, said.String())
		}
	}
	for range 40 {
		if sleeping(t, "postgres", w, p, "word-pipe") == 0 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if n := sleeping(t, "postgres", w, p, "word-pipe"); n > 0 {
		t.Errorf("%d statements go on at the server", n)
	}
	temp := strings.TrimPrefix(w.environ[len(w.environ)-1], "TMPDIR=")
	if left, _ := filepath.Glob(filepath.Join(temp, "gharbor-demo-*")); len(left) > 0 {
		t.Errorf("left behind: %s", fmt.Sprint(left))
	}
}
