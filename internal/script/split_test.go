package script

import (
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/engine/known"
)

// TestSplit has a rule a line: what ends a statement, and what does not, in each language.
func TestSplit(t *testing.T) {
	for _, c := range []struct {
		engine, text string
		want         []string
	}{
		{"postgres", "select 1", []string{"select 1"}},
		{"postgres", "select 1;", []string{"select 1"}},
		{"postgres", "select 1; select 2 ;\n", []string{"select 1", "select 2"}},
		{"postgres", ";;; select 1;;", []string{"select 1"}},
		{"postgres", "-- nothing; here\n/* nor ; here */", nil},
		{"postgres", "\ufeffselect 1", []string{"select 1"}},
		{"postgres", "select ';'; select \";\"", []string{"select ';'", `select ";"`}},
		{"postgres", `select 'a\'; select 'b'`, []string{`select 'a\'`, "select 'b'"}},
		{"mysql", `select 'a\'; select 'b'`, []string{`select 'a\'; select 'b'`}},
		{"postgres", "select 'it''s; one'; select 2", []string{"select 'it''s; one'", "select 2"}},
		{"postgres", "select $$a;b$$; select $x$ ; $$ ; $x$", []string{"select $$a;b$$", "select $x$ ; $$ ; $x$"}},
		{"postgres", "/* a /* b ; */ ; */ select 1; select 2", []string{"/* a /* b ; */ ; */ select 1", "select 2"}},
		{"mysql", "/* a /* b ; */ select 1; select 2", []string{"/* a /* b ; */ select 1", "select 2"}},
		{"mysql", "select 1 # one; still\n; select `a;b`", []string{"select 1 # one; still", "select `a;b`"}},
		{"mysql", "select 5--3; select 1 -- one;\n; select 2--", []string{"select 5--3", "select 1 -- one;", "select 2--"}},
		{"postgres", "select 5--3; select 1", []string{"select 5--3; select 1"}},
		{"postgres", "select 1 # 2; select 3", []string{"select 1 # 2", "select 3"}},
		{"mysql", "/*!40101 set names utf8mb4 */; select 1", []string{"/*!40101 set names utf8mb4 */", "select 1"}},
		{"mysql", "select 0; create procedure p() begin select 1; select 2; end; select 3",
			[]string{"select 0", "create procedure p() begin select 1; select 2; end", "select 3"}},
		{"mysql", "create definer=`a`@`b` trigger t before insert on h for each row begin set @a = 1; end",
			[]string{"create definer=`a`@`b` trigger t before insert on h for each row begin set @a = 1; end"}},
		{"postgres", "create or replace function f() returns int language sql begin atomic select 1; select 2; end",
			[]string{"create or replace function f() returns int language sql begin atomic select 1; select 2; end"}},
		{"postgres", "create table t (n int); select 1", []string{"create table t (n int)", "select 1"}},
		{"postgres", "select 'open; select 2", []string{"select 'open; select 2"}},
	} {
		info, _ := known.Info(c.engine)
		var got []string
		for _, each := range Split(info.Language, c.text) {
			got = append(got, each.Text)
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %q: %q", c.engine, c.text, got)
		}
	}
}

// TestWhereStatementsAre counts lines and characters.
func TestWhereStatementsAre(t *testing.T) {
	info, _ := known.Info("postgres")
	list := Split(info.Language, "-- über\nselect 'ü;ü';  select 2\n;\n\n  /* x */ select 3")
	for i, want := range [][2]int{{2, 1}, {2, 16}, {5, 11}} {
		if i >= len(list) || list[i].Line != want[0] || list[i].Column != want[1] {
			t.Errorf("%d: %+v instead of %v", i, list, want)
		}
	}
}

// FuzzSplit holds for any text that nothing of it is lost: statements stand in it in their order,
// and what is between them is space, comments and semicolons.
func FuzzSplit(f *testing.F) {
	for _, seed := range []string{"select 1; select 2", "select ';'", "$$;$$;", "/*;*/;--;\n;", "'",
		"create procedure p() begin ; end", "\ufeff;", "a;/*!b*/;c"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, name := range known.Names() {
			info, _ := known.Info(name)
			rest := text
			for _, each := range Split(info.Language, text) {
				at := strings.Index(rest, each.Text)
				if at < 0 || each.Text == "" || each.Line < 1 || each.Column < 1 {
					t.Fatalf("%s: %q: %+v", name, text, each)
				}
				rest = rest[at+len(each.Text):]
			}
		}
	})
}
