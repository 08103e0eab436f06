//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
)

// TestSeveralStatements runs several statements in one session of each real engine: from
// arguments, files and standard input, in every form, with a failure in the middle.
func TestSeveralStatements(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	for _, engine := range []string{"postgres", "mariadb"} {
		at := realPostgres(t).at("127.0.0.1")
		if engine == "mariadb" {
			at = realMariaDB(t).at("127.0.0.1")
		}
		p := w.save("several-"+engine, engine,
			append(at, "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")...)
		file := w.write("rows.sql", "-- a table of this session alone; it goes with it\ncreate temporary table "+
			"tally (n int, name varchar(20));\ninsert into tally values (1, 'it''s; one'), (2, null);\n\nselect "+
			"n, name from tally order by n;\n")
		out := w.must(0, "run", p, "--from", file).out
		has(t, out, "n  name", "it's; one", "(null)")
		// One session: what one statement makes, the next one sees, over all arguments and files.
		if out := w.must(0, "run", p, "create temporary table one (n int)", "insert into one values (7)",
			"insert into one values (8)", "select sum(n) from one", "--as", "bare").out; out != "15\n" {
			t.Errorf("%s: %q", engine, out)
		}
		w.stdin = "select 1 as a;\nselect 2 as b;\n"
		var all struct {
			Results []struct {
				Columns  []string
				Rows     [][]any
				Affected *int
			}
			Finding *struct{ Code string }
		}
		must(t, json.Unmarshal([]byte(w.must(0, "run", p, "--from", "-", "--json").out), &all))
		if fmt.Sprint(all.Results[0].Columns, all.Results[1].Columns, all.Results[1].Rows) != "[a] [b] [[2]]" ||
			len(all.Results) != 2 {
			t.Errorf("%s: %+v", engine, all)
		}
		has(t, w.must(2, "run", p, "-", "--from", "-").err, "only one thing can be read from standard input")
		w.stdin = ""
		// What failed is the second of three: the first was done, the third was not.
		r := w.must(7, "run", p, "select 1 as a", "selec 2", "select 3 as c", "--json")
		has(t, r.err, "The statement 2 of 3 failed", "query.syntax")
		all.Finding = nil
		must(t, json.Unmarshal([]byte(r.out), &all))
		if len(all.Results) != 1 || all.Finding == nil || all.Finding.Code != "query.syntax" ||
			strings.Contains(r.out, `"c"`) {
			t.Errorf("%s: %s", engine, r.out)
		}
		// Forms for one result take statements without rows before it, and refuse a second one
		// with rows.
		for form, want := range map[string]string{
			"csv": "n,name\n1,\"a,\"\"b\"\n2,\"\"\n3,\n", "tsv": "n\tname\n1\ta,\"b\n2\t\n3\t\\N\n",
			"bare":  "1\ta,\"b\n2\t\n3\t\n",
			"jsonl": `{"n":1,"name":"a,\"b"}` + "\n" + `{"n":2,"name":""}` + "\n" + `{"n":3,"name":null}` + "\n",
		} {
			text := "create temporary table r (n int, name varchar(9)); insert into r values (1, 'a,\"b'), (2, " +
				"''), (3, null); select n, name from r order by n"
			if out := w.must(0, "run", p, "--from", w.write("r.sql", text), "--as", form).out; out != want {
				t.Errorf("%s %s: %q instead of %q", engine, form, out, want)
			}
			r := w.must(7, "run", p, "--from", w.write("r.sql", text+"; select 'never' as never"), "--as", form)
			has(t, r.err, "the statement 4 of 4 gives a second result with rows", "it may have run too",
				"--as json", "--result 2")
			if r.out != want {
				t.Errorf("%s %s: %q", engine, form, r.out)
			}
		}
		r = w.must(0, "run", p, "select 1 as n union all select 2 union all select 3", "--as", "csv",
			"--no-header", "--limit", "2")
		has(t, r.err, "--limit leaves out 1 row")
		if r.out != "1\n2\n" {
			t.Errorf("%s: %q", engine, r.out)
		}
		// An argument may have several statements; what comes from elsewhere is a value, and
		// never becomes one.
		has(t, w.must(7, "run", p, "select name from nowhere where name = {{who}}",
			"--let", "who='; create table stolen (n int); --").err, "query.no-such-object")
		has(t, w.must(7, "run", p, "select * from stolen").err, "query.no-such-object")
		// The environment names the profile for a file, too.
		named := *w
		named.T, named.environ = t, append(slices.Clone(w.environ), "GHARBOR_PROFILE="+p)
		if out := named.must(0, "run", "--from", w.write("one.sql", "select 5;"), "--as", "bare").out +
			named.must(0, "run", "select 6", "--as", "bare").out; out != "5\n6\n" {
			t.Errorf("%s: %q", engine, out)
		}
		// What ends a run in the middle leaves one whole object.
		sleep := map[string]string{"postgres": "select pg_sleep(30), 'word-whole'",
			"mariadb": "select sleep(30), 'word-whole'"}[engine]
		cmd, printed := w.command("run", p, "select 1 as a", sleep, "--json"), &buffer{}
		said := &buffer{}
		cmd.Stdout, cmd.Stderr = printed, said
		must(t, cmd.Start())
		eventually(t, "the statement sleeps", func() bool { return sleeping(t, engine, w, p, "word-whole") == 1 })
		must(t, cmd.Process.Signal(os.Interrupt))
		_ = cmd.Wait()
		if err := json.Unmarshal([]byte(printed.String()), &all); err != nil ||
			cmd.ProcessState.ExitCode() != 130 || len(all.Results) < 1 ||
			len(all.Results) > 1 && len(all.Results[1].Rows) > 0 {
			t.Errorf("%s: exit %d, %v: %s", engine, cmd.ProcessState.ExitCode(), err, printed)
		}
		has(t, said.String(), "The run was interrupted at the statement 2 of 2: 1 were done before it.")
		if engine == "postgres" {
			r := w.must(2, "run", p, "select 1 as a", "copy (select 1) to stdout", "--json")
			if err := json.Unmarshal([]byte(r.out), &all); err != nil || len(all.Results) != 1 {
				t.Errorf("%v: %s", err, r.out)
			}
		}
		has(t, w.must(2, "run", p, "--from", w.write("empty.sql", "-- nothing\n")).err, "the statement is empty")
		w.must(3, "run", p, "--from", "nowhere.sql")
	}
}
