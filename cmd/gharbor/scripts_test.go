//go:build unix

package main

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-sql-driver/mysql"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/script"
)

// TestSplitsAsServersDo holds the scripts that stand for the rules of splitting against the real
// servers: each is given the whole text in one request, and has as many results as the text has
// statements here; then each statement by itself.
func TestSplitsAsServersDo(t *testing.T) {
	t.Parallel()
	scripts, err := os.ReadFile(filepath.Join("..", "..", "internal", "script", "testdata", "splits.txt"))
	must(t, err)
	for _, name := range []string{"postgres", "mariadb"} {
		s := realServer(t, name)
		info, _ := known.Info(name)
		all, one := wholeTexts(t, name, s)
		for i, part := range strings.Split(string(scripts), "\n=== ")[1:] {
			head, text, _ := strings.Cut(strings.TrimSuffix(part, "\n"), "\n")
			of, rule, _ := strings.Cut(head, ": ")
			if of != "each" && of != name {
				continue
			}
			text = strings.ReplaceAll(text, "{n}", fmt.Sprint(i))
			list := script.Split(info.Language, text)
			if got, err := all(text); err != nil || got != len(list) {
				var texts []string
				for _, each := range list {
					texts = append(texts, each.Text)
				}
				t.Errorf("%s, %s: the server has %d results (%v), and here are %d statements:\n%q", name, rule,
					got, err, len(list), texts)
			}
			for _, each := range list {
				if err := one(each.Text); err != nil {
					t.Errorf("%s, %s: %q: %v", name, rule, each.Text, err)
				}
			}
		}
	}
}

// wholeTexts gives functions of a bare driver: one runs a text of statements in one request and
// counts its results, the other runs one statement.
func wholeTexts(t *testing.T, name string, s *server) (all func(text string) (int, error),
	one func(text string) error) {
	t.Helper()
	ctx := t.Context()
	if name == "postgres" {
		pg := barePostgres(t, s, "bunkhouse")
		return func(text string) (int, error) {
				results, err := pg.Exec(ctx, text).ReadAll()
				_, _ = pg.Exec(ctx, "discard all").ReadAll()
				return len(results), err
			}, func(text string) error {
				return pg.ExecParams(ctx, text, nil, nil, nil, nil).Read().Err
			}
	}
	owner := func(several bool) *sql.DB {
		return bareMariaDB(t, s, func(c *mysql.Config) {
			c.User, c.Passwd, c.Net, c.Addr, c.MultiStatements = "root", "", "unix", s.socket, several
		})
	}
	db, each := owner(true), owner(false)
	return func(text string) (n int, err error) {
			conn, err := db.Conn(ctx)
			if err != nil {
				return 0, err
			}
			defer conn.Close()
			err = conn.Raw(func(c any) error {
				result, err := c.(interface {
					ExecContext(context.Context, string, []driver.NamedValue) (driver.Result, error)
				}).ExecContext(ctx, text, nil)
				if err == nil {
					n = len(result.(mysql.Result).AllRowsAffected())
				}
				return err
			})
			return n, err
		}, func(text string) error {
			_, err := each.ExecContext(ctx, text)
			return err
		}
}

// TestScripts loads a made sample database into both engines: a main file, a word that changes
// the end of statements, ten files that are included, a statement that fails in the middle. The
// words are made up.
func TestScripts(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"postgres", "mariadb"} {
		w := newWorld(t, "PW="+canary)
		s := realServer(t, name)
		base := []string{"run", w.save("owner", name,
			map[string][]string{"postgres": {"--socket", s.socket, "--user", "overseer", "--secret", "none"},
				"mariadb": {"--socket", s.socket, "--user", "root", "--secret", "empty"}}[name]...)}
		w.must(0, append(base, "create database sample"+name)...)
		p := w.save("sample", name, append(w.args("owner"), "--database", "sample"+name)...)
		main := "say Loading the huts;\npull parts/00.sql\n-- gharbor: include parts/01.sql\n"
		for i := 2; i < 10; i++ {
			main += fmt.Sprintf("pull 'parts/%02d.sql';\n", i)
		}
		if name == "mariadb" {
			main += "close-with //\ncreate procedure tally() begin select count(*) from hut; end//\nclose-with " +
				";\ncall tally();\n"
		} else {
			main += "copy hut from stdin (format csv);\n1000,\"a;b\",{{n}}\n\\.\n"
			main = strings.Replace(main, "{{n}}", "5", 1)
		}
		main += "select count(*), sum(height) from hut where height < {{most}};\n"
		w.write("sample/parts/00.sql", "create table hut (n int primary key, name varchar(40), height int);\n")
		for i := 1; i < 10; i++ {
			text := "-- a part\n"
			for n := range 30 {
				text += fmt.Sprintf("insert into hut values (%d, 'it''s; %d', %d);\n", i*100+n, n, n)
			}
			w.write(fmt.Sprintf("sample/parts/%02d.sql", i), text)
		}
		file := w.write("sample/main.sql", main)
		words := w.write("words.yaml", "include: [pull]\nend: [close-with]\npass-over: [say]\n")
		run := func(code int, more ...string) result {
			t.Helper()
			return w.must(code, append([]string{"run", p, "--from", file, "--let", "most:integer=1000"}, more...)...)
		}
		// Without the words nothing is run, and the flags are proposed.
		r := run(3)
		has(t, r.err, "main.sql, line 1, column 1: say begins no statement here", "--pass-over say")
		// What would run, without a server.
		list := w.must(0, "run", p, "--from", file, "--let", "most:integer=1000", "--words", words,
			"--dry", "--port", "1", "--host", "127.0.0.1", "--secret", "env:NOWHERE").out
		has(t, list, "parts/00.sql, line 1", "parts/09.sql, line 31", "values most")
		if has(t, list, map[string]string{"postgres": "reads the lines below it",
			"mariadb": "commits, or may"}[name]); strings.Contains(list, "say") {
			t.Errorf("%s", list)
		}
		// A broken include: nothing was run.
		if err := os.Rename(filepath.Join(w.home, "sample/parts/09.sql"),
			filepath.Join(w.home, "sample/parts/nine.sql")); err != nil {
			t.Fatal(err)
		}
		has(t, run(3, "--words", words).err,
			"main.sql, line 11, column 1: the file parts/09.sql is included, and is not there")
		must(t, os.Rename(filepath.Join(w.home, "sample/parts/nine.sql"), filepath.Join(w.home, "sample/parts/09.sql")))
		w.must(7, "run", p, "select * from hut")
		// A statement that fails in the middle, in a file that is included: what was done is said.
		broken := w.write("sample/parts/05.sql",
			"insert into hut values (500, 'x', 1);\n\ninsert into hut\n  values (501, 'x', 'high');\ninsert "+
				"into hut values (502, 'x', 3);\n")
		r = run(7, "--include-word", "pull", "--end-word", "close-with", "--pass-over", "say")
		has(t, r.err, "parts/05.sql, line ", "those after it were not run", "123 of ")
		if name == "postgres" {
			has(t, r.err, "parts/05.sql, line 4, column 21", "        values (501, 'x', 'high')\n")
		}
		has(t, w.must(0, "run", p, "select count(*) from hut", "--as", "bare").out, "121")
		w.must(0, "run", p, "drop table hut")
		if name == "postgres" { // the other one commits tables by itself
			has(t, run(7, "--words", words, "--all-or-nothing").err,
				"All statements were one transaction: nothing of them stays.")
			w.must(7, "run", p, "select * from hut")
		} else {
			has(t, run(2, "--words", words, "--all-or-nothing").err, "parts/00.sql, line 1, column 1 begins with create")
		}
		r = run(7, "--words", words, "--keep-going")
		has(t, r.err, "1 of ", " statements failed:\n    statement 123: ", "parts/05.sql, line ")
		w.must(0, "run", p, "drop table hut"+map[string]string{"mariadb": "; drop procedure tally"}[name])
		must(t, os.WriteFile(broken, []byte("insert into hut values (500, 'x', 1);\n"), 0o600))
		r = run(0, "--words", words, "--as", "bare", "--result", map[string]string{"postgres": "1", "mariadb": "2"}[name])
		if want := map[string]string{"postgres": "242\t3486\n", "mariadb": "241\t3481\n"}[name]; r.out != want {
			t.Errorf("%s: %q instead of %q", name, r.out, want)
		}
		if name == "mariadb" { // a file of this machine: the one that the statement names, in the script's folder
			w.write("sample/parts/rows.tsv", "2000\tit's; a row\t1\n2001\t\\N\t2\n")
			w.write("elsewhere.tsv", canary)
			load := func(file string) string {
				return w.write("sample/load.sql",
					"select 1;\n  load data local infile '"+file+"' into table hut;\nselect count(*) from hut where n >= 2000;\n")
			}
			if out := w.must(0, "run", p, "--from", load("parts/rows.tsv"), "--as", "bare", "--result", "2").out; out != "2\n" {
				t.Errorf("%q", out)
			}
			has(t, w.must(3, "run", p, "--from", load("../elsewhere.tsv")).err,
				"load.sql, line 2, column 3: the statement names the file ../elsewhere.tsv of this machine, "+
					"which is outside of the main script's folder")
			has(t, w.must(3, "run", p, "--from", load("nowhere.tsv")).err, "is not there")
			has(t, w.must(3, "run", p, "--from", load("parts")).err, "is not a regular file")
			has(t, w.must(7, "run", p,
				"load data local infile '"+filepath.Join(w.home, "elsewhere.tsv")+"' into table hut").err,
				"query.asks-for-file")
		}
		// From a pipe: it runs as it comes, an include has no folder, and what was done is said.
		w.stdin = "update hut set height = 1 where n = 500;\n-- gharbor: include parts/01.sql\n"
		r = w.must(3, "run", p, "--from", "-")
		has(t, r.err, "statements from a pipe run as they come",
			"standard input, line 2, column 1: a file is included", "--from FILE", "Those before it were done.")
		w.stdin = ""
		if t.Failed() {
			t.Log(name)
		}
	}
}

// args gives the flags with which a profile was saved.
func (w *world) args(name string) []string { return []string{"--base", name} }

// TestScriptsShowHowFarTheyAre has a script that takes its time at a terminal: a line says how
// far it is, and goes when it is done. Without a terminal there is none.
func TestScriptsShowHowFarTheyAre(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	s := realServer(t, "postgres")
	name := w.save("p", "postgres", s.warden()...)
	file := w.write("slow.sql", strings.Repeat("select pg_sleep(0.3);\n", 6)+"select 'all of it';\n")
	p := w.sit("run", name, "--from", file)
	p.Reads("… ")
	p.Reads(" statements, 0.0MB of 0.0MB, 0.0MB a second")
	p.Reads("all of it")
	if code, _ := p.Ends(); code != 0 {
		t.Errorf("exit %d\n%s", code, p.Screen())
	}
	if r := w.must(0, "run", name, "--from", file); strings.Contains(r.out+r.err, "a second") {
		t.Errorf("%s%s", r.out, r.err)
	}
}
