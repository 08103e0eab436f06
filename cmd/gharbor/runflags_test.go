//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestRunFlags has each flag of run do what it says, on both real engines.
func TestRunFlags(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"postgres", "mariadb"} {
		w := newWorld(t, "PW="+canary)
		s := realPostgres(t)
		sleep := "select pg_sleep(%d)"
		if name == "mariadb" {
			s, sleep = realMariaDB(t), "select sleep(%d)"
		}
		p := w.save("flags-"+name, name, s.warden()...)
		w.must(0, "run", p, "create table flagged (n int primary key)")
		count := func(want string) {
			t.Helper()
			if got := w.must(0, "run", p, "select count(*) from flagged", "--as", "bare").out; got != want+"\n" {
				t.Errorf("%s: %s rows instead of %s", name, got, want)
			}
		}
		// One transaction: all, or nothing.
		r := w.must(7, "run", p, "insert into flagged values (1); insert into flagged values (2); insert into "+
			"flagged values (1); insert into flagged values (3)",
			"--all-or-nothing")
		has(t, r.err, "The statement 3 of 4 failed",
			"All statements were one transaction: nothing of them stays.", "query.constraint")
		count("0")
		w.must(0, "run", p, "insert into flagged values (1); insert into flagged values (2)", "--all-or-nothing")
		count("2")
		has(t, w.must(7, "run", p, "insert into flagged values (5); select 1 as a; select 2 as b",
			"--all-or-nothing", "--as", "csv").err, "a second result with rows")
		count("2")
		// Going on: what failed is named, and is in its place in JSON.
		r = w.must(7, "run", p, "insert into flagged values (1); insert into flagged values (3); selec; select 4 as four",
			"--keep-going")
		has(t, r.err, "The statement 1 of 4 failed", "The statement 3 of 4 failed",
			"2 of 4 statements failed:\n    statement 1: query.constraint\n    statement 3: column ",
			"finding query.constraint", "finding query.syntax")
		has(t, r.out, "1 row changed", "four")
		if n := strings.Count(r.err, "finding query."); n != 2 {
			t.Errorf("%s: %d findings are printed\n%s", name, n, r.err)
		}
		count("3")
		var read struct {
			Results []struct {
				Rows     [][]any
				Affected *int
				Finding  *struct{ Code string }
				At       *struct{ Statement, Of, Line, Column int }
				First    float64 `json:"first_row_ms"`
				Last     float64 `json:"last_row_ms"`
			}
			Finding *struct{ Code string }
			At      *struct{ Statement int }
		}
		must(t, json.Unmarshal([]byte(w.must(7, "run", p,
			"insert into flagged values (1); selec; select 4 as four", "--keep-going", "--json").out), &read))
		if len(read.Results) != 3 || read.Results[0].Finding == nil ||
			read.Results[1].Finding.Code != "query.syntax" || read.Results[1].At.Statement != 2 ||
			read.Results[1].At.Column < 33 || len(read.Results[2].Rows) != 1 ||
			read.Finding.Code != "query.constraint" || read.At.Statement != 1 {
			t.Errorf("%s: %+v", name, read)
		}
		// The n-th result with rows alone, in a form for one.
		if out := w.must(0, "run", p,
			"select 1 as a; delete from flagged where n = 99; select 2 as b; select 3 as c", "--as", "csv",
			"--result", "2").out; out != "b\n2\n" {
			t.Errorf("%s: %q", name, out)
		}
		has(t, w.must(7, "run", p, "select 1 as a", "--result", "2").err, "there is no result 2: 1 result had rows")
		// All results of a procedure.
		if name == "mariadb" {
			w.must(0, "run", p, "create procedure two() begin select 1 as a union select 2; select 'x' as b; "+
				"update flagged set n = n; end")
			out := w.must(0, "run", p, "call two()").out
			has(t, out, "a\n─\n1\n2\n", "b\n─\nx\n")
			must(t, json.Unmarshal([]byte(w.must(0, "run", p, "call two()", "--json").out), &read))
			if len(read.Results) != 2 || len(read.Results[0].Rows) != 2 || len(read.Results[1].Rows) != 1 {
				t.Errorf("%+v", read)
			}
			if out := w.must(0, "run", p, "call two()", "--as", "bare", "--result", "2").out; out != "x\n" {
				t.Errorf("%q", out)
			}
			has(t, w.must(7, "run", p, "call two()", "--as", "tsv").err, "a second result with rows")
		}
		// How long it took: to the first row, and to the last.
		r = w.must(0, "run", p, fmt.Sprintf(sleep, 0)+"; select n from flagged", "--took")
		if strings.Count(r.err, "took ") != 2 || !strings.Contains(r.err, "to the first row") ||
			strings.Contains(r.out, "took") {
			t.Errorf("%s: %s", name, r.err)
		}
		must(t, json.Unmarshal([]byte(w.must(0, "run", p, "select n from flagged", "--took", "--json").out), &read))
		if read.Results[0].Last < read.Results[0].First || read.Results[0].First <= 0 {
			t.Errorf("%s: %+v", name, read.Results[0])
		}
		// A limit of time: the statement is ended at the server, and with --keep-going the
		// session goes on.
		long := fmt.Sprintf(sleep, 30)
		began := time.Now()
		has(t, w.must(7, "run", p, long+", 'word-for-a-time'", "--for", "200ms").err, "finding query.over-time",
			"allows, which is 200ms")
		must(t, json.Unmarshal([]byte(w.must(7, "run", p, long+", 'word-for-a-time'; select 5",
			"--for", "200ms", "--keep-going", "--json").out), &read))
		if last := read.Results[len(read.Results)-1]; fmt.Sprint(last.Rows) != "[[5]]" ||
			read.Finding.Code != "query.over-time" {
			t.Errorf("%s: after the time was over: %+v", name, read)
		}
		if took := time.Since(began); took > 15*time.Second {
			t.Errorf("%s: it took %s", name, took)
		}
		if n := sleeping(t, name, w, p, "word-for-a-time"); n > 0 {
			t.Errorf("%s: %d statements go on at the server", name, n)
		}
		// A new file: whole, its owner's alone, and not over another one; after a failure there
		// is none.
		file := filepath.Join(w.home, "rows.csv")
		r = w.must(0, "run", p, "select n from flagged order by n", "--as", "csv", "--to", file)
		data, _ := os.ReadFile(file)
		if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 ||
			string(data) != "n\n1\n2\n3\n" || r.out != "" {
			t.Errorf("%s: %q %v", name, data, err)
		}
		has(t, w.must(3, "run", p, "select 1", "--to", file).err, "is there already, and is not overwritten")
		for _, statement := range []string{"select n from flagged; selec", "select n from flagged; select 2"} {
			w.must(7, "run", p, statement, "--as", "csv", "--to", filepath.Join(w.home, "none.csv"))
		}
		if left, _ := filepath.Glob(filepath.Join(w.home, "*none*")); len(left) > 0 {
			t.Errorf("%s: left behind: %v", name, left)
		}
		if left, _ := filepath.Glob(filepath.Join(w.home, ".new-*")); len(left) > 0 {
			t.Errorf("%s: left behind: %v", name, left)
		}
		has(t, w.must(3, "run", p, "select 1", "--to", filepath.Join(w.home, "no", "such", "folder")).err,
			"could not be written, and is not there: no such file")
		// A byte-order mark is dropped; an empty row and a null differ where there is one column.
		if out := w.must(0, "run", p, "\ufeffselect null union all select ''", "--as", "csv",
			"--no-header").out; out != "\n\"\"\n" {
			t.Errorf("%s: %q", name, out)
		}
		// On-open runs once, in the person's session, and in none that only ends a statement.
		w.must(0, "run", p, "delete from flagged")
		w.must(7, "run", p, long, "--for", "200ms", "--on-open", "insert into flagged select count(*) from flagged")
		count("1")
	}
}
