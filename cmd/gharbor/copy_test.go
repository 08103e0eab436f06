//go:build unix

package main

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"
)

// TestCopyBothWays copies a table's data into a real server from standard input, and out of it to
// standard output.
func TestCopyBothWays(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	s := realPostgres(t)
	p := w.save("p", "postgres", s.warden()...)
	w.must(0, "run", p, "create table copied (n int primary key, name text)")
	t.Cleanup(func() { w.run("run", p, "drop table copied") })
	copied := func(code int, in io.Reader, args ...string) result {
		t.Helper()
		cmd := w.command(append([]string{"run", p}, args...)...)
		cmd.Stdin = in
		r := w.finish(cmd)
		if r.code != code {
			t.Errorf("%v: exit %d\n%s\n%s", args, r.code, r.out, r.err)
		}
		return r
	}
	var data strings.Builder
	for n := range 200_000 {
		fmt.Fprintf(&data, "%d\tGreystone €\\t%d\n", n, n)
	}
	has(t, copied(0, strings.NewReader(data.String()), "copy copied from stdin").out, "200000 rows changed")
	r := copied(0, nil, "/* out /* again */ */ -- to here\n COPY (select * from copied order by n) TO STDOUT")
	if r.out != data.String() {
		t.Errorf("other data came out: %d bytes for %d", len(r.out), data.Len())
	}
	has(t, r.err, "200000 rows")
	if r := copied(0, nil, "copy (select n, name from copied where n < 1) to stdout (format csv, header)"); r.out != "n,name\n0,Greystone €\t0\n" {
		t.Errorf("%q", r.out)
	}
	if r := copied(0, nil, "copy (select n from copied where n < 0) to stdout"); r.out != "" ||
		!strings.Contains(r.err, "0 rows") {
		t.Errorf("%q %q", r.out, r.err)
	}
	// The server refuses a line in the middle of a long text: its words come, and nothing is stored.
	r = copied(7, strings.NewReader("900000\tgood\nnot a number\tx\n"+data.String()), "copy copied from stdin")
	has(t, r.err, "not a number")
	has(t, copied(0, nil, "select count(*) from copied", "--as", "csv").out, "200000")
	// Standard input is the statement, or a password; what comes first is said.
	has(t, copied(2, strings.NewReader("copy copied from stdin"), "-").err, "only one thing can be read from it")
	has(t, copied(2, strings.NewReader(canary), "copy copied from stdin", "--secret", "ask",
		"--secret-file", "-").err, "only one thing can be read from it")
	has(t, copied(2, strings.NewReader(""), "copy copied from stdin; copy copied from stdin").err,
		"the statement 2 copies data")
	for _, form := range []string{"--json", "--as=csv", "--as=json"} {
		has(t, copied(2, nil, "copy copied to stdout", form).err, "leave out --as and --json")
	}
	copied(7, nil, "copy copied to '/nowhere/at/all'")
	folder, err := os.Open(t.TempDir())
	must(t, err)
	defer folder.Close()
	if r := w.finish(func() *exec.Cmd {
		cmd := w.command("run", p, "copy copied from stdin")
		cmd.Stdin = folder
		return cmd
	}()); r.code == 0 || !strings.Contains(r.err, "could not be read") {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
	// Ctrl-C ends it at the server, while standard input says nothing.
	in, feed, err := os.Pipe()
	must(t, err)
	defer in.Close()
	defer feed.Close()
	cmd := w.command("run", p, "copy copied from stdin -- word-copy")
	cmd.Stdin = in
	var said strings.Builder
	cmd.Stderr = &said
	must(t, cmd.Start())
	for range 100 {
		if sleeping(t, "postgres", w, p, "word-copy") == 1 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	_ = cmd.Process.Signal(os.Interrupt)
	began := time.Now()
	if _ = cmd.Wait(); cmd.ProcessState.ExitCode() != 130 || time.Since(began) > 4*time.Second {
		t.Errorf("exit %d after %s", cmd.ProcessState.ExitCode(), time.Since(began))
	}
	if said.String() != "gharbor: interrupted\n" {
		t.Errorf("%q", said.String())
	}
	for range 100 {
		if sleeping(t, "postgres", w, p, "word-copy") == 0 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if sleeping(t, "postgres", w, p, "word-copy") != 0 {
		t.Error("the statement goes on at the server")
	}
	// A statement of the profile's own has nothing to copy in.
	w.write("gharbor/profiles/opens.yaml", "base: "+p+"\non-open: [copy copied from stdin]\n")
	if r := w.run("run", "opens", "select 1"); r.code == 0 {
		t.Errorf("%s%s", r.out, r.err)
	}
}

// TestLoadLocalIsRefused has a real server ask for a file of the client's: none is sent, and that
// is said.
func TestLoadLocalIsRefused(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	s := realMariaDB(t)
	p := w.save("p", "mariadb", s.warden()...)
	w.must(0, "run", p, "create table loaded (name text)")
	t.Cleanup(func() { w.run("run", p, "drop table loaded") })
	file := w.write("huts.txt", canary)
	r := w.must(7, "run", p, "load data local infile '"+file+"' into table loaded")
	has(t, r.err, "query.asks-for-file", "None is sent that a statement of a script does not name.")
	has(t, w.must(0, "run", p, "select count(*) as n from loaded", "--as", "csv").out, "n\n0\n")
}
