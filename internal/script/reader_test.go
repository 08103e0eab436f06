package script

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
)

// piecesOf gives what a reader gives, and its error.
func piecesOf(r *Reader) (list []string, err error) {
	for {
		piece, err := r.Next()
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = nil
			}
			return list, err
		}
		if piece.Include != "" {
			list = append(list, "include "+piece.Include)
			continue
		}
		list = append(list, piece.Text)
	}
}

// TestOtherWords takes lines of another client: what ends a statement, what includes a file, what
// is passed over; and our own line that includes a file.
func TestOtherWords(t *testing.T) {
	words := Words{Include: []string{`\pull`, "fetch-in"}, End: []string{"close-with"}, PassOver: []string{"say"}}
	for _, c := range []struct {
		text string
		want []string
		err  string
	}{
		{"say hello; there\nselect 1;\nsay done", []string{"select 1"}, ""},
		{"close-with //\nselect 1; select 2//\nselect 3 //\nclose-with ;\nselect 4; select 5",
			[]string{"select 1; select 2", "select 3", "select 4", "select 5"}, ""},
		{"CLOSE-WITH $$\r\nselect 1$$\r\nclose-with ;\r\nselect 2;", []string{"select 1", "select 2"}, ""},
		{"\\pull a.sql\n-- gharbor: include 'b c.sql'\nfetch-in \"d.sql\";\nselect 1",
			[]string{"include a.sql", "include 'b c.sql'", "include d.sql", "select 1"}, ""},
		{"select 1\nsay hello;", []string{"select 1\nsay hello"}, ""}, // in a statement it is a part of it
		{"  say hello\nselect 1", []string{"select 1"}, ""},
		{"saying;", nil, "saying begins no statement"},
		{"select 1;\n  \n selec 2;", []string{"select 1"}, "selec begins no statement"},
		{"close-with\nselect 1", nil, "has no text for it"},
		{"\\pull\n", nil, "names none"},
		{"--gharbor: include x.sql\nselect 1 -- gharbor: include y.sql\n", []string{"include x.sql",
			"select 1 -- gharbor: include y.sql"}, ""},
		{"-- gharbor: included\n(select 1)", []string{"-- gharbor: included\n(select 1)"}, ""},
		{"-- c\nsay x\n/* d */ select 1", []string{"/* d */ select 1"}, ""},
	} {
		info, _ := known.Info("mariadb")
		r := NewReader(info.Language, iotest.OneByteReader(strings.NewReader(c.text)))
		r.Words, r.Begins = words, true
		got, err := piecesOf(r)
		if !slices.Equal(got, c.want) || (err == nil) != (c.err == "") ||
			err != nil && !strings.Contains(err.Error(), c.err) {
			t.Errorf("%q: %q, %v", c.text, got, err)
		}
		var line *LineError
		if err != nil && (!errors.As(err, &line) ||
			line.Line != 1+strings.Count(c.text[:max(0,
				strings.LastIndex(c.text, strings.Fields(line.Text)[0]))], "\n")) {
			t.Errorf("%q: %+v", c.text, line)
		}
	}
}

// TestSettingsOfTexts follows settings that change how texts are written, on the way.
func TestSettingsOfTexts(t *testing.T) {
	for _, c := range []struct {
		engine, text string
		want         []string
	}{
		{"postgres", `select 'a\'; set standard_conforming_strings = off; select 'b\'; c'; set standard_conforming_strings to on; select 'd\'; select 1`,
			[]string{`select 'a\'`, "set standard_conforming_strings = off", `select 'b\'; c'`,
				"set standard_conforming_strings to on", `select 'd\'`, "select 1"}},
		{"postgres", `set standard_conforming_strings=off; select "b\"; reset all; select 'c\'`,
			[]string{"set standard_conforming_strings=off", `select "b\"`, "reset all", `select 'c\'`}},
		{"mariadb", `select 'a\'; b'; set sql_mode = 'NO_BACKSLASH_ESCAPES'; select 'c\'; set sql_mode = default; select 'd\'; e'`,
			[]string{`select 'a\'; b'`, "set sql_mode = 'NO_BACKSLASH_ESCAPES'", `select 'c\'`,
				"set sql_mode = default", `select 'd\'; e'`}},
		{"mariadb", `set @@session.sql_mode='ANSI_QUOTES'; select "a\"; set @old = @@sql_mode, sql_mode = ''; select "b\"; c"`,
			[]string{"set @@session.sql_mode='ANSI_QUOTES'", `select "a\"`,
				"set @old = @@sql_mode, sql_mode = ''", `select "b\"; c"`}},
		{"mariadb", "/*!40101 SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='NO_BACKSLASH_ESCAPES' */; select 'c\\'; select 1",
			[]string{"/*!40101 SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='NO_BACKSLASH_ESCAPES' */",
				`select 'c\'`, "select 1"}},
	} {
		info, _ := known.Info(c.engine)
		p := &Program{Language: info.Language, Sources: []Source{{Text: c.text}}}
		var got []string
		if err := p.Walk(true, func(s Step) error { got = append(got, s.Text); return nil }); err != nil ||
			!slices.Equal(got, c.want) {
			t.Errorf("%s: %q, %v", c.engine, got, err)
		}
	}
}

// TestEachRuleCounts takes out one rule after the other of how texts are written, and one word
// after the other of how bodies are followed: each time a script of those that are held against
// the real servers is taken apart otherwise.
func TestEachRuleCounts(t *testing.T) {
	scripts, err := os.ReadFile(filepath.Join("testdata", "splits.txt"))
	if err != nil {
		t.Fatal(err)
	}
	language := map[string]engine.Language{}
	for name, is := range map[string]string{"postgres": "postgres", "mariadb": "mariadb", "unasked": "mysql"} {
		info, _ := known.Info(is)
		language[name] = info.Language
	}
	// The first script that comes out otherwise, for each engine's own way of reading.
	otherwise := func(off func(*engine.Language), r *rules) (named string) {
		for _, part := range strings.Split(string(scripts), "\n=== ")[1:] {
			head, text, _ := strings.Cut(part, "\n")
			of, _, _ := strings.Cut(head, ": ")
			for _, name := range slices.Sorted(maps.Keys(language)) {
				if of != "each" && of != name {
					continue
				}
				l := language[name]
				want := texts(Split(l, text))
				if off(&l); !slices.Equal(texts(split(l, r, text)), want) {
					return name + ": " + head
				}
			}
		}
		return ""
	}
	for about, off := range map[string]func(*engine.Language){
		"quotes": func(l *engine.Language) { l.Quotes = "" }, "names": func(l *engine.Language) {
			l.Names = ""
		}, "backslash": func(l *engine.Language) { l.Backslash = false },
		"texts with an E": func(l *engine.Language) { l.Escapes = false }, "dollar": func(l *engine.Language) {
			l.Dollar = false
		}, "nested": func(l *engine.Language) { l.Nested = false },
		"hash": func(l *engine.Language) { l.Hash = false }, "spaced": func(l *engine.Language) {
			l.Spaced = false
		}, "executable": func(l *engine.Language) { l.Executable = nil },
		"bodies": func(l *engine.Language) { l.Compound = false },
	} {
		if otherwise(off, usual) == "" {
			t.Errorf("no script fails without %s", about)
		}
	}
	without := func(what, word string, out func(*rules)) {
		r := usualRules()
		out(r)
		named := otherwise(func(*engine.Language) {}, r)
		if named == "" {
			t.Errorf("no script fails without %s in %s", word, what)
		}
		t.Logf("%s %s: %s", what, word, named)
	}
	every(without, "made", func(r *rules) map[string]bool { return r.made })
	every(without, "ready", func(r *rules) map[string]string { return r.ready })
	every(without, "alone", func(r *rules) map[string]bool { return r.alone })
	every(without, "names", func(r *rules) map[string]bool { return r.names })
	every(without, "starters", func(r *rules) map[string]bool { return r.starters })
	every(without, "cases", func(r *rules) map[string]bool { return r.cases })
	every(without, "compound", func(r *rules) map[string]func(*bodies, string) string { return r.compound })
	every(without, "atomic", func(r *rules) map[string]func(*bodies, string) string { return r.atomic })
}

// every takes out each word of a table.
func every[V any](without func(what, word string, out func(*rules)), what string, of func(*rules) map[string]V) {
	for word := range of(usual) {
		without(what, word, func(r *rules) { delete(of(r), word) })
	}
}

func texts(list []Statement) (all []string) {
	for _, s := range list {
		all = append(all, s.Text)
	}
	return all
}

// TestProgram reads files that include others: beside the file that says it, packed ones too,
// never outside of the main one's folder and never without an end; and what changes between two
// readings is refused.
func TestProgram(t *testing.T) {
	folder := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(folder, filepath.FromSlash(name))
		_ = os.MkdirAll(filepath.Dir(path), 0o700)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	main := write("all/main.sql", "select 1;\n-- gharbor: include parts/one.sql\nselect 5;\n")
	write("all/parts/one.sql", "\ufeffselect 2;\n-- gharbor: include two.sql.gz\n-- gharbor: include ../three.sql\n")
	packed, _ := os.Create(filepath.Join(folder, "all/parts/two.sql.gz"))
	z := gzip.NewWriter(packed)
	_, _ = z.Write([]byte("select 3;"))
	_ = z.Close()
	_ = packed.Close()
	write("all/three.sql", "select 4")
	write("outside.sql", "select 'stolen'")
	info, _ := known.Info("postgres")
	walk := func(p *Program, again bool) (got []string, err error) {
		err = p.Walk(again, func(s Step) error {
			got = append(got, fmt.Sprintf("%d %s:%d %s", s.N, s.File, s.Line, s.Text))
			return nil
		})
		return got, err
	}
	p := &Program{Language: info.Language, Sources: []Source{{Name: "all/main.sql", Path: main}, {Text: "select 6"}}}
	want := []string{"1 all/main.sql:1 select 1", "2 all/parts/one.sql:1 select 2",
		"3 all/parts/two.sql.gz:1 select 3", "4 all/three.sql:1 select 4", "5 all/main.sql:3 select 5",
		"6 :1 select 6"}
	for range 2 {
		got, err := walk(p, true)
		if err != nil || !slices.Equal(got, want) ||
			!slices.Equal(p.Included, []string{"all/parts/one.sql", "all/parts/two.sql.gz", "all/three.sql"}) {
			t.Errorf("%q, %q, %v", got, p.Included, err)
		}
	}
	write("all/three.sql", "select 'another one'")
	if _, err := walk(p, true); err == nil || !strings.Contains(err.Error(), "three.sql: it was changed") {
		t.Error(err)
	}
	_ = os.Symlink(filepath.Join(folder, "outside.sql"), filepath.Join(folder, "all/link.sql"))
	_ = os.Symlink(folder, filepath.Join(folder, "all/up"))
	if err := pipe(filepath.Join(folder, "all/pipe")); err != nil {
		t.Fatal(err)
	}
	for line, says := range map[string]string{
		"-- gharbor: include ../outside.sql":     "outside of the main script's folder",
		"-- gharbor: include link.sql":           "outside of the main script's folder",
		"-- gharbor: include up/outside.sql":     "outside of the main script's folder",
		"-- gharbor: include /etc/hostname":      "outside of the main script's folder",
		"-- gharbor: include main.sql":           "that has no end",
		"-- gharbor: include parts/back.sql":     "that has no end",
		"-- gharbor: include nowhere.sql":        "is not there (looked for at",
		"-- gharbor: include parts":              "is not a regular file",
		"-- gharbor: include parts/no-gzip.gz":   "gzip",
		"-- gharbor: include pipe":               "is not a regular file",
		"-- gharbor: include parts/mistake.sql":  "mistake.sql: nonsense begins no statement",
		"select 1;\n\n-- gharbor: include x.sql": "x.sql is included, and is not there",
	} {
		write("all/parts/back.sql", "-- gharbor: include ../main.sql")
		write("all/parts/no-gzip.gz", "select 1")
		write("all/parts/mistake.sql", "nonsense 1")
		write("all/main.sql", line+"\n")
		p := &Program{Language: info.Language, Sources: []Source{{Name: "main.sql", Path: main}}}
		_, err := walk(p, false)
		var at *LineError
		if err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", line, err)
		} else if errors.As(err, &at) && at.Line != strings.Count(line, "\n")+1 {
			t.Errorf("%s: %+v", line, at)
		}
	}
	// A pipe is read once, and has no folder.
	p = &Program{Language: info.Language,
		Sources: []Source{{Name: "-", Pipe: strings.NewReader("select 1;\n-- gharbor: include x.sql\n")}}}
	if got, err := walk(p, false); err != nil || len(got) > 0 {
		t.Errorf("%q %v", got, err)
	}
	if got, err := walk(p, true); len(got) != 1 || err == nil || !strings.Contains(err.Error(), "has no folder") {
		t.Errorf("%q %v", got, err)
	}
}

// TestData reads the lines that follow a statement, and goes on behind them.
func TestData(t *testing.T) {
	info, _ := known.Info("postgres")
	for text, want := range map[string]string{
		"copy t from stdin;\n1\ta;b\n2\t{{x}}\n\\.\nselect 1":    "1\ta;b\n2\t{{x}}\n",
		"copy t from stdin; \r\n1\r\n\\.\r\nselect 1":            "1\r\n",
		"copy t from stdin;\n\\.\nselect 1":                      "",
		"copy t from stdin;":                                     "",
		"copy t from stdin;\n1\n2":                               "1\n2",
		"copy t from stdin;\n" + strings.Repeat("long ", 50_000): strings.Repeat("long ", 50_000),
	} {
		for _, take := range []bool{true, false} {
			p := &Program{Language: info.Language, Sources: []Source{{Name: "f", Text: ""}}}
			p.Sources[0] = Source{Name: "f", Pipe: iotest.HalfReader(strings.NewReader(text))}
			var got, list []string
			err := p.Walk(true, func(s Step) error {
				list = append(list, s.Text)
				if s.Data != nil && take {
					data, err := io.ReadAll(s.Data)
					got = append(got, string(data))
					return err
				}
				return nil
			})
			if take && (len(got) != 1 || got[0] != want) || err != nil || strings.HasSuffix(text, "select 1") && len(list) != 2 {
				t.Errorf("%.40q: %.40q %q %v", text, got, list, err)
			}
		}
	}
}

// TestLongStatements reads a statement of many megabytes in the time of a short one of them, and
// refuses one that is too large.
func TestLongStatements(t *testing.T) {
	info, _ := known.Info("postgres")
	long := "select '" + strings.Repeat("a;''", 1<<20) + "'"
	r := NewReader(info.Language, strings.NewReader(long+";select 2"))
	if got, err := piecesOf(r); err != nil || len(got) != 2 || got[0] != long {
		t.Errorf("%d, %v", len(got), err)
	}
	r = NewReader(info.Language, io.MultiReader(strings.NewReader("select '"), endless{}))
	if _, err := r.Next(); !errors.Is(err, ErrTooLarge) {
		t.Error(err)
	}
}

type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'a'
	}
	return len(p), nil
}

// TestParseWords is as strict as profiles are.
func TestParseWords(t *testing.T) {
	near := func(word string, _ []string) string { return map[string]string{"includes": "include"}[word] }
	words, err := ParseWords([]byte("# for the sample\ninclude: [\\pull]\nend: [close-with]\npass-over:\n- say\n- hear\n"),
		near)
	if err != nil || fmt.Sprint(words) != `{[\pull] [close-with] [say hear]}` {
		t.Errorf("%v %v", words, err)
	}
	for text, says := range map[string]string{
		"includes: [a]":              "line 1: there is no list \"includes\"; did you mean include?",
		"include: [a]\ninclude: [b]": "line 2", "include: a": "is a list of words",
		"include: [a b]": "cannot be the first word", "- a": "has the lists",
		"include: [[a]]": "is a list of words", "include: [a]\n---\nend: [b]": "a second document",
		"include: [a": "no YAML", "": "no YAML", "include: [;]": "cannot be", "end: &x [a]": "is a list",
		"x: 1": "there are include, end, pass-over",
	} {
		if words, err := ParseWords([]byte(text), near); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v %v", text, words, err)
		}
	}
}

// FuzzReader holds for any text: it is taken apart in the same way however it is read, and no
// byte that matters is lost.
func FuzzReader(f *testing.F) {
	for _, seed := range []string{"select 1; select 2",
		"create procedure p() begin if a then b; end if; end; c", "$a$ ; $a$; E'\\'; '",
		"/*! a; */; -- gharbor: include x\n", "say x\nclose-with //\na; b//", "copy t from stdin;\n1\n\\.\n",
		"\ufeff;;;", "'", "$", "/*", "--"} {
		f.Add(seed, uint8(3))
	}
	f.Fuzz(func(t *testing.T, text string, size uint8) {
		for _, name := range known.Names() {
			info, _ := known.Info(name)
			words := Words{End: []string{"close-with"}, PassOver: []string{"say"}}
			whole, parts := NewReader(info.Language, strings.NewReader(text)),
				NewReader(info.Language, iotest.OneByteReader(strings.NewReader(text)))
			whole.Words, parts.Words = words, words
			parts.step = int(size%16) + 1
			one, err := piecesOf(whole)
			two, again := piecesOf(parts)
			if !slices.Equal(one, two) || fmt.Sprint(err) != fmt.Sprint(again) {
				t.Fatalf("%s: %q: %q (%v), in parts %q (%v)", name, text, one, err, two, again)
			}
			rest := text
			for _, each := range one {
				if strings.HasPrefix(each, "include ") {
					continue
				}
				at := strings.Index(rest, each)
				if at < 0 || each == "" {
					t.Fatalf("%s: %q: %q", name, text, one)
				}
				rest = rest[at+len(each):]
			}
		}
	})
}

// FuzzParseWords reads any file of words.
func FuzzParseWords(f *testing.F) {
	f.Add([]byte("include: [a]\nend: [b]\npass-over: [c]\n"))
	f.Add([]byte("&a [*a]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		words, err := ParseWords(data[:min(len(data), 2000)], func(string, []string) string { return "" })
		for _, word := range append(append(words.Include, words.End...), words.PassOver...) {
			if err == nil && CheckWord(word) != nil {
				t.Errorf("%q", word)
			}
		}
	})
}

// grammar makes statements of the MySQL kin, with bodies in each other, by numbers that are given.
type grammar struct{ numbers []byte }

func (g *grammar) pick(n int) int {
	if len(g.numbers) == 0 {
		return 0
	}
	at := int(g.numbers[0]) % n
	g.numbers = g.numbers[1:]
	return at
}

// value is an expression in which words of bodies are something else.
func (g *grammar) value() string {
	return []string{"1", "if(a, ';', 'b')", "case when a then 'end' else ';' end",
		"case a when 1 then if(b, 2, 3) end", "`end;`", "'it''s; \\';'", "repeat('x;', 2)", "\"begin;\"",
		"/* ; end */ 2", "(select 1)", "5--3"}[g.pick(11)]
}

// list is statements of a body.
func (g *grammar) list(deep int) string {
	var b strings.Builder
	for range g.pick(3) + 1 {
		b.WriteString(g.statement(deep) + "; ")
	}
	return b.String()
}

func (g *grammar) statement(deep int) string {
	n := g.pick(17)
	if deep > 4 {
		n %= 4
	}
	switch n {
	case 0:
		return "select " + g.value()
	case 1:
		return "set x = " + g.value()
	case 2:
		return "drop table if exists t"
	case 3:
		return "insert into t values (" + g.value() + ", " + g.value() + ")"
	case 4:
		return "begin " + g.list(deep+1) + "end"
	case 5:
		return "l: begin " + g.list(deep+1) + "end l"
	case 6:
		return "if " + g.value() + " then " + g.list(deep+1) + "elseif " + g.value() + " then " +
			g.list(deep+1) + "else " + g.list(deep+1) + "end if"
	case 7:
		return "if exists (select 1) then " + g.list(deep+1) + "end if"
	case 8:
		return "case " + g.value() + " when 1 then " + g.list(deep+1) + "else " + g.list(deep+1) + "end case"
	case 9:
		return "case when " + g.value() + " then " + g.list(deep+1) + "end case"
	case 10:
		return "w: while " + g.value() + " do " + g.list(deep+1) + "end while w"
	case 11:
		return "repeat " + g.list(deep+1) + "until " + g.value() + " end repeat"
	case 12:
		return "k: loop " + g.list(deep+1) + "end loop"
	case 13:
		return "do " + g.value()
	case 14:
		return "begin declare exit handler for not found, sqlstate ';' " + g.statement(deep+1) + "; " + g.list(deep+1) + "end"
	case 15:
		return "begin declare begin, end int; declare continue handler for sqlexception " +
			g.statement(deep+1) + "; select end, x.case from x; " + g.list(deep+1) + "end"
	}
	return "for i in 1..3 do " + g.list(deep+1) + "end for"
}

// made is a statement of a script.
func (g *grammar) made() string {
	switch g.pick(12) {
	case 0:
		return "create procedure p(a int) " + g.statement(0)
	case 1:
		return "create or replace definer=`x;y`@`%` procedure if not exists p() comment ';' begin declare " +
			"continue handler for not found begin set x = 1; end; " +
			g.list(0) + "end"
	case 2:
		return "create function f(a int) returns varchar(9) charset utf8mb4 deterministic begin " + g.list(0) +
			"return " + g.value() + "; end"
	case 3:
		return "create function f(a int) returns int return " + g.value()
	case 4:
		return "create trigger t before insert on h for each row " + g.statement(0)
	case 5:
		return "create event e on schedule every 1 day do " + g.statement(0)
	case 6:
		return "begin not atomic " + g.list(0) + "end"
	case 7:
		return "create function f(a int) return set('if') is x int := " + g.value() + "; y int; begin " +
			g.list(0) + "return " + g.value() + "; end"
	case 8:
		return "create package body if not exists k as x int; function f return int is begin " + g.list(0) +
			"end; procedure p as x int; y int; begin " + g.list(0) + "end; begin " + g.list(0) + "end"
	case 9:
		return "create package k as function f return int; procedure p(a set('if', 'b')); end"
	case 10:
		return "create view function (a) as select " + g.value()
	}
	return "select " + g.value()
}

// FuzzBodies makes scripts of nested bodies: each of their statements comes out whole, with what
// is between them.
func FuzzBodies(f *testing.F) {
	f.Add([]byte{0, 4, 6, 1, 2, 3, 8, 9, 1, 1})
	f.Add([]byte{4, 7, 1, 5, 0, 13, 12, 11, 10, 9, 8, 7, 6, 5, 4, 3})
	f.Add([]byte{1, 2, 6, 6, 6, 8, 9, 1, 2, 3, 4, 5, 7, 3, 2, 10, 11})
	f.Fuzz(func(t *testing.T, numbers []byte) {
		g := &grammar{numbers[:min(len(numbers), 400)]}
		var want []string
		for range g.pick(4) + 1 {
			want = append(want, g.made())
		}
		info, _ := known.Info("mariadb")
		if got := texts(Split(info.Language, strings.Join(want, ";\n"))); !slices.Equal(got, want) {
			t.Errorf("%q\ninstead of\n%q", got, want)
		}
	})
}
