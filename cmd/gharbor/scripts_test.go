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

// splits has a script for each rule by which a text is taken apart. {n} is a number of the script's own, for names.
var splits = []struct{ engine, rule, text string }{
	{"postgres", "semicolons", "select 1; select 2;; select 3 ;"},
	{"", "none at the end", "select 1; select 2"},
	{"", "a text in quotes", "select ';'; select 'a;''b;'; select 2"},
	{"", "comments", "-- a; b\nselect 1 -- c; d\n; /* e; f */ select /* g; */ 2"},
	{"", "a quote in a comment", "select 1 -- it's\n; select 2 /* it's */; select 3"},
	{"", "words like the first of a body", "select 1 as begin_; select 2 as endif; select 3"},
	{"", "a case that is an expression", "select case when 1 = 1 then ';' else 'b' end; select case 1 when 1 then 2 end; select 3"},
	{"postgres", "dollar quotes", "select $$a;b$$; select $x$ ; $$ ; $y$ ; $x$; select 3 as a$b$; select 4 as a$b$"},
	{"postgres", "names in quotes", `select 1 as "a;b"; select 2 as "c"";d"`},
	{"postgres", "a backslash is a character", `select 'a\'; select 'b'`},
	{"postgres", "texts with an E", `select E'a\'; b'; select e'c\\'; select 'like\'; select 1 as e; select E'it''s \' ;'`},
	{"postgres", "comments in comments", "/* a /* b ; */ ; */ select 1; select 2"},
	{"postgres", "texts that go on", "select 'a;'\n'b;'; select 2"},
	{"postgres", "a routine with a quote", "create function pg_temp.f{n}() returns int language plpgsql as $$ begin if true then return 1; end if; end $$; select pg_temp.f{n}()"},
	{"postgres", "begin atomic", "create function pg_temp.g{n}(a int) returns int language sql begin atomic select 1; select case when a > 1 then 2 else 3 end; end; select pg_temp.g{n}(1)"},
	{"postgres", "begin atomic in a procedure", "create procedure pg_temp.h{n}() language sql begin atomic select 1; select 2; end; call pg_temp.h{n}()"},
	{"postgres", "a transaction", "begin; select 1; end; begin transaction; commit"},
	{"postgres", "a rule", "create temporary table r{n} (a int); create rule r{n} as on insert to r{n} do also (select 1; select 2); insert into r{n} values (1)"},
	{"postgres", "a function that is a case", "create function pg_temp.k{n}(a int) returns int language sql return case when a > 1 then 2 end; select pg_temp.k{n}(1)"},
	{"mariadb", "names in back quotes", "select 1 as `a;b`; select 2 as `c\\`; select 3 as `d``;e`"},
	{"mariadb", "a backslash in a text", `select 'a\'; b'; select "c\"; d"; select 'e\\'; select 2`},
	{"mariadb", "comments with a hash", "select 1 # a; b\n; select 2"},
	{"mariadb", "dashes without a space", "select 5--3; select 6--4; select 1 -- a; b"},
	{"mariadb", "comments that run", "/*!40101 select 1 */; /*M!100100 select 2 */; select 3 /*!40101 , 4 */"},
	{"mariadb", "a comment that ends early", "/* a /* b ; */ select 1; select 2"},
	{"mariadb", "a procedure", "create procedure p{n}() begin select 1; select 2; end; select 3; drop procedure p{n}"},
	{"mariadb", "a procedure of one statement", "create procedure p{n}() select 1; select 2; drop procedure p{n}"},
	{"mariadb", "ifs", "create procedure p{n}(a int) begin if a > 1 then select 1; elseif a > 2 then select 2; else if a = 3 then select 3; end if; end if; select if(a, 1, 2); end; drop procedure p{n}"},
	{"mariadb", "an if alone", "create procedure p{n}(a int) if a > 1 then select 1; end if; drop procedure p{n}"},
	{"mariadb", "if not exists", "create procedure if not exists p{n}() begin select 1; end; create procedure if not exists p{n}() select 1; drop procedure if exists p{n}"},
	{"mariadb", "cases", "create procedure p{n}(a int) begin case a when 1 then select 1; else begin end; end case; case when a > 1 then select case a when 1 then 2 end; else select 3; end case; end; drop procedure p{n}"},
	{"mariadb", "an if in a case that is an expression", "create procedure p{n}(a int) begin select case when a then if(a, 1, 2) else if(a, 3, 4) end; select 5; end; drop procedure p{n}"},
	{"mariadb", "loops", "create procedure p{n}(a int) begin w: while a > 0 do set a = a - 1; end while w; l: loop leave l; end loop; repeat set a = a + 1; until a > 3 end repeat; for i in 1..2 do select i; end for; select repeat('x', 2); end; drop procedure p{n}"},
	{"mariadb", "a loop alone", "create procedure p{n}(a int) while a > 0 do set a = a - 1; end while; drop procedure p{n}"},
	{"mariadb", "blocks with labels", "create procedure p{n}() o: begin i: begin leave o; end i; end o; drop procedure p{n}"},
	{"mariadb", "handlers and cursors", "create procedure p{n}() begin declare done int default 0; declare c cursor for select 1; declare continue handler for not found begin set done = 1; end; declare exit handler for sqlexception set done = 2; open c; close c; end; drop procedure p{n}"},
	{"mariadb", "a function", "create function f{n}(a int) returns varchar(20) charset utf8mb4 deterministic return if(a, ';', 'b'); create function g{n}() returns int begin return 1; end; drop function f{n}; drop function g{n}"},
	{"mariadb", "a function with an if", "create function f{n}(a int) returns int deterministic if a then return 1; else return 2; end if; drop function f{n}"},
	{"mariadb", "triggers", "create table t{n} (a int); create trigger x{n} before insert on t{n} for each row set new.a = if(new.a, 1, 2); create trigger y{n} after insert on t{n} for each row begin if new.a then set @a = 1; end if; end; create trigger z{n} before insert on t{n} for each row follows x{n} set new.a = 1; drop table t{n}"},
	{"mariadb", "a trigger with an if", "create table t{n} (a int); create trigger x{n} before insert on t{n} for each row if exists (select 1) then set new.a = 1; end if; drop table t{n}"},
	{"mariadb", "events", "create event e{n} on schedule every 1 day disable do begin select 1; select 2; end; alter event e{n} do begin select 3; end; create event f{n} on schedule every 1 day disable do select 1; drop event e{n}; drop event f{n}"},
	{"mariadb", "a definer", "create or replace definer = current_user procedure p{n}() sql security invoker comment 'a; b' begin select 1; end; drop procedure p{n}"},
	{"mariadb", "begin not atomic", "begin not atomic set @a = 1; set @b = 2; end; select 3"},
	{"mariadb", "statements of a body alone", "if 1 = 1 then set @a = 1; end if; while false do select 1; end while; select 2"},
	{"mariadb", "a transaction", "begin; select 1; commit; begin work; rollback"},
	{"mariadb", "tables with words of bodies", "create temporary table t{n} (`begin` int, end_ int, `if` int); drop table if exists t{n}; select 1"},
	{"mariadb", "a view", "create or replace view v{n} as select case when 1 then 2 end as a; drop view if exists v{n}"},
}

// TestSplitsAsServersDo holds the table against the real servers: each is given the whole text in one request, and has as many results as the text has statements
// here; then each statement by itself.
func TestSplitsAsServersDo(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"postgres", "mariadb"} {
		s := realServer(t, name)
		info, _ := known.Info(name)
		all, one := wholeTexts(t, name, s)
		for i, c := range splits {
			if c.engine != "" && c.engine != name {
				continue
			}
			text := strings.ReplaceAll(c.text, "{n}", fmt.Sprint(i))
			list := script.Split(info.Language, text)
			if got, err := all(text); err != nil || got != len(list) {
				var texts []string
				for _, each := range list {
					texts = append(texts, each.Text)
				}
				t.Errorf("%s, %s: the server has %d results (%v), and here are %d statements:\n%q", name, c.rule, got, err, len(list), texts)
			}
			for _, each := range list {
				if err := one(each.Text); err != nil {
					t.Errorf("%s, %s: %q: %v", name, c.rule, each.Text, err)
				}
			}
		}
	}
}

// wholeTexts gives functions of a bare driver: one runs a text of statements in one request and counts its results, the other runs one statement.
func wholeTexts(t *testing.T, name string, s *server) (all func(text string) (int, error), one func(text string) error) {
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

// TestScripts loads a made sample database into both engines: a main file, a word that changes the end of statements, ten files that are included, a
// statement that fails in the middle. The words are made up.
func TestScripts(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"postgres", "mariadb"} {
		w := newWorld(t, "PW="+canary)
		s := realServer(t, name)
		base := []string{"run", w.save("owner", name, map[string][]string{"postgres": {"--socket", s.socket, "--user", "overseer", "--secret", "none"}, "mariadb": {"--socket", s.socket, "--user", "root", "--secret", "empty"}}[name]...)}
		w.must(0, append(base, "create database sample"+name)...)
		p := w.save("sample", name, append(w.args("owner"), "--database", "sample"+name)...)
		main := "say Loading the huts;\npull parts/00.sql\n-- gharbor: include parts/01.sql\n"
		for i := 2; i < 10; i++ {
			main += fmt.Sprintf("pull 'parts/%02d.sql';\n", i)
		}
		if name == "mariadb" {
			main += "close-with //\ncreate procedure tally() begin select count(*) from hut; end//\nclose-with ;\ncall tally();\n"
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
		list := w.must(0, "run", p, "--from", file, "--let", "most:integer=1000", "--words", words, "--dry", "--port", "1", "--host", "127.0.0.1", "--secret", "env:NOWHERE").out
		has(t, list, "parts/00.sql, line 1", "parts/09.sql, line 31", "values most")
		if has(t, list, map[string]string{"postgres": "reads the lines below it", "mariadb": "commits, or may"}[name]); strings.Contains(list, "say") {
			t.Errorf("%s", list)
		}
		// A broken include: nothing was run.
		if err := os.Rename(filepath.Join(w.home, "sample/parts/09.sql"), filepath.Join(w.home, "sample/parts/nine.sql")); err != nil {
			t.Fatal(err)
		}
		has(t, run(3, "--words", words).err, "main.sql, line 11, column 1: the file parts/09.sql is included, and is not there")
		must(t, os.Rename(filepath.Join(w.home, "sample/parts/nine.sql"), filepath.Join(w.home, "sample/parts/09.sql")))
		w.must(7, "run", p, "select * from hut")
		// A statement that fails in the middle, in a file that is included: what was done is said.
		broken := w.write("sample/parts/05.sql", "insert into hut values (500, 'x', 1);\n\ninsert into hut\n  values (501, 'x', 'high');\ninsert into hut values (502, 'x', 3);\n")
		r = run(7, "--include-word", "pull", "--end-word", "close-with", "--pass-over", "say")
		has(t, r.err, "parts/05.sql, line ", "those after it were not run", "123 of ")
		if name == "postgres" {
			has(t, r.err, "parts/05.sql, line 4, column 21", "        values (501, 'x', 'high')\n")
		}
		has(t, w.must(0, "run", p, "select count(*) from hut", "--as", "bare").out, "121")
		w.must(0, "run", p, "drop table hut")
		if name == "postgres" { // the other one commits tables by itself
			has(t, run(7, "--words", words, "--all-or-nothing").err, "All statements were one transaction: nothing of them stays.")
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
				return w.write("sample/load.sql", "select 1;\n  load data local infile '"+file+"' into table hut;\nselect count(*) from hut where n >= 2000;\n")
			}
			if out := w.must(0, "run", p, "--from", load("parts/rows.tsv"), "--as", "bare", "--result", "2").out; out != "2\n" {
				t.Errorf("%q", out)
			}
			has(t, w.must(3, "run", p, "--from", load("../elsewhere.tsv")).err, "load.sql, line 2, column 3: the statement names the file ../elsewhere.tsv of this machine, which is outside of the main script's folder")
			has(t, w.must(3, "run", p, "--from", load("nowhere.tsv")).err, "is not there")
			has(t, w.must(3, "run", p, "--from", load("parts")).err, "is not a regular file")
			has(t, w.must(7, "run", p, "load data local infile '"+filepath.Join(w.home, "elsewhere.tsv")+"' into table hut").err, "query.asks-for-file")
		}
		// From a pipe: it runs as it comes, an include has no folder, and what was done is said.
		w.stdin = "update hut set height = 1 where n = 500;\n-- gharbor: include parts/01.sql\n"
		r = w.must(3, "run", p, "--from", "-")
		has(t, r.err, "statements from a pipe run as they come", "standard input, line 2, column 1: a file is included", "--from FILE", "Those before it were done.")
		w.stdin = ""
		if t.Failed() {
			t.Log(name)
		}
	}
}

// args gives the flags with which a profile was saved.
func (w *world) args(name string) []string { return []string{"--base", name} }
