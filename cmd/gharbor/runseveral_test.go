//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/standin"
)

// severalWorld has three profiles of practice servers in a group, one whose port is closed, and
// one of another engine.
func severalWorld(t *testing.T) *world {
	t.Helper()
	w := newWorld(t, "PW="+canary)
	for i, engine := range []string{"postgres", "postgres", "mysql"} {
		s := practice(t, standin.Config{Engine: engine, Identity: int64(i)})
		w.must(0, "add", fmt.Sprintf("huts/%c", 'a'+i), "--engine", engine, "--host", "127.0.0.1",
			"--port", fmt.Sprint(s.Port()), "--user", "warden_app", "--database", "bunkhouse",
			"--secret", "env:PW", "--tls", "off", "--label", "at=here")
	}
	w.must(0, "add", "huts/gone", "--engine", "postgres", "--host", "127.0.0.1", "--port", "1",
		"--user", "warden_app", "--secret", "env:PW", "--tls", "off")
	return w
}

// TestRunOverSeveral reads with several profiles: their rows are one result in the order of the
// profiles, one that fails is listed, and one whose columns are others is named.
func TestRunOverSeveral(t *testing.T) {
	t.Parallel()
	w := severalWorld(t)
	r := w.must(5, "run", "huts/", "select name, height from hut where height > {{least}} order by height",
		"--let", "least:integer=800", "--as", "tsv")
	want := "profile\tname\theight\nhuts/a\tGreystone\t812\nhuts/a\tOld " +
		"Quarry\t1044\nhuts/b\tGreystone\t812\nhuts/b\tOld Quarry\t1044\nhuts/c\tGreystone\t812\nhuts/c\tOld Quarry\t1044\n"
	if r.out != want {
		t.Errorf("%q", r.out)
	}
	has(t, r.err, "1 of 4 profiles failed", "huts/gone  port.refused: ",
		"To see what to try, such as for huts/gone: gharbor test huts/gone")
	for _, args := range [][]string{{"run", "--labelled", "at=here", "select 1 as one"},
		{"run", "--labelled", "at", "select 1 as one", "--parallel", "1"}} {
		if r := w.must(0, append(args, "--as", "bare")...); r.out != "huts/a\t1\nhuts/b\t1\nhuts/c\t1\n" {
			t.Errorf("%v: %q", args, r.out)
		}
	}
	has(t, w.must(5, "run", "--all", "select 1 as one").out, "profile  one", "huts/c     1")
	// In JSON, with what failed.
	var read struct {
		Results []struct {
			Columns []string
			Rows    [][]any
		}
		Failed []struct {
			Profile, Error string
			Finding        *struct{ Code string }
		}
	}
	must(t, json.Unmarshal([]byte(w.must(1, "run", "huts/", "select count(*) from hut", "--json").out), &read))
	// The two engines name the column otherwise: that of the third is named as failed.
	if len(read.Results) != 1 || fmt.Sprint(read.Results[0].Rows) != "[[huts/a 4] [huts/b 4]]" ||
		len(read.Failed) != 2 || read.Failed[1].Profile != "huts/gone" ||
		read.Failed[1].Finding.Code != "port.refused" {
		t.Errorf("%+v", read)
	}
	has(t, read.Failed[0].Error, "its columns are others than those of huts/a: count(*) instead of count")
	// Long results of all come in their order, in the memory of a few rows; one is not wanted any
	// more.
	long := "with recursive n (i) as (select 1 union all select i + 1 from n where i < 20000) select i from n"
	r = w.must(0, "run", "--labelled", "at", long, "--as", "csv")
	if got := strings.Count(r.out, "\n"); got != 60_001 || !strings.HasSuffix(r.out, "huts/c,20000\n") {
		t.Errorf("%d lines, %.200q", got, r.out[len(r.out)-100:])
	}
	// Refusals.
	has(t, w.must(7, "run", "--labelled", "at", "delete from hut").err, "3 of 3 profiles failed",
		"several profiles are read side by side, and the statement may change something: delete", "--each")
	for _, args := range [][]string{{"run", "huts/"}, {"run", "huts/", "--from", "-"},
		{"run", "huts/", "select 1", "--dry"}, {"run", "huts/", "select 1", "--took"},
		{"run", "huts/a", "delete from hut", "--each"}, {"run", "--all"}} {
		w.stdin = "select 1"
		w.must(2, args...)
	}
	w.stdin = ""
	has(t, w.must(3, "run", "hut/", "select 1").err, "did you mean huts/?")
	has(t, w.must(7, "run", "--labelled", "at", "select 1; select 2").err, "has room for one. To pick one: --result 2")
	if r := w.must(0, "run", "--labelled", "at", "select 1; select 2 as two", "--result", "2",
		"--as", "bare"); r.out != "huts/a\t2\nhuts/b\t2\nhuts/c\t2\n" {
		t.Errorf("%q", r.out)
	}
	w.environ = append(w.environ, "GHARBOR_HOST=127.0.0.1")
	has(t, w.must(2, "run", "huts/", "select 1").err, "GHARBOR_HOST would change every profile")
	w.environ[len(w.environ)-1] = "GHARBOR_PROFILE=huts/a"
	if r := w.must(0, "run", "select 3", "--as", "bare"); r.out != "3\n" {
		t.Errorf("%q", r.out)
	}
}

// TestRunInEach runs what changes something in each of several profiles, and asks for each.
func TestRunInEach(t *testing.T) {
	t.Parallel()
	w := severalWorld(t)
	w.must(0, "remove", "huts/gone", "--yes")
	count := func() string {
		return w.must(0, "run", "huts/", "select count(*) as n from snow_depth", "--as", "bare").out
	}
	was := count()
	has(t, w.must(2, "run", "huts/", "delete from snow_depth", "--each").err, "--yes")
	q := w.sit("run", "huts/", "delete from snow_depth", "--each")
	for _, answer := range []string{"yes", "no", "yes"} {
		q.Answers("Run it? (yes, no) [no]", answer)
	}
	code, _ := q.Ends()
	screen := q.Screen()
	if code != 7 || !strings.Contains(screen,
		"In huts/a the statement may change something (delete without where), as warden_app") ||
		!strings.Contains(screen, "huts/a: 4 rows changed") || !strings.Contains(screen, "huts/b  nothing was done") {
		t.Errorf("exit %d\n%s", code, screen)
	}
	if got := count(); got != "huts/a\t0\nhuts/b\t4\nhuts/c\t0\n" || was != "huts/a\t4\nhuts/b\t4\nhuts/c\t4\n" {
		t.Errorf("%q, then %q", was, got)
	}
	w.must(0, "change", "huts/c", "--guard", "read-only")
	r := w.must(7, "run", "huts/", "insert into snow_depth values (1, '2026-11-29', 3); select 5 as five",
		"--each", "--yes", "--all-or-nothing", "--as", "bare")
	if r.out != "huts/a\t5\nhuts/b\t5\n" {
		t.Errorf("%q\n%s", r.out, r.err)
	}
	has(t, r.err, "--all-or-nothing holds for each profile by itself", "1 of 3 profiles failed", "huts/c",
		"the guard is read-only")
	if got := count(); got != "huts/a\t1\nhuts/b\t5\nhuts/c\t0\n" {
		t.Errorf("%q", got)
	}
}

// TestSeveralAreInterrupted ends all of several profiles at Ctrl-C, those that are silent too.
func TestSeveralAreInterrupted(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	var servers []*standin.Server
	for i := range 3 {
		s := practice(t, standin.Config{Engine: "postgres", Faults: standin.Faults{StallQuery: true}})
		servers = append(servers, s)
		w.must(0, "add", fmt.Sprintf("huts/%d", i), "--engine", "postgres", "--host", "127.0.0.1",
			"--port", fmt.Sprint(s.Port()), "--user", "warden_app", "--secret", "env:PW", "--tls", "off",
			"--timeout", "60s")
	}
	cmd := w.command("run", "huts/", "select 1")
	must(t, cmd.Start())
	for _, s := range servers {
		eventually(t, "each server has a client", func() bool { return s.Connections() > 0 })
	}
	time.Sleep(100 * time.Millisecond)
	must(t, cmd.Process.Signal(os.Interrupt))
	_ = cmd.Wait()
	if cmd.ProcessState.ExitCode() != 130 {
		t.Errorf("exit %d", cmd.ProcessState.ExitCode())
	}
	for _, s := range servers {
		eventually(t, "no login is left", func() bool { return s.Connections() == 0 })
	}
}
