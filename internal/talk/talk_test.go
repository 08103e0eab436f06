package talk

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
)

func language(t testing.TB, name string) engine.Language {
	t.Helper()
	info, is := known.Info(name)
	if !is {
		t.Fatal(name)
	}
	return info.Language
}

// TestRead has what is whole, what is not and why, and the words after the lead word.
func TestRead(t *testing.T) {
	for _, c := range []struct {
		engine, text string
		statements   int
		awaited      string
		words        []string
	}{
		{"postgres", "select 1;", 1, "", nil},
		{"postgres", "select 1; select 2 ;  ", 2, "", nil},
		{"postgres", "select 1", 0, "; ends the statement", nil},
		{"postgres", "select 1; select 2", 0, "the statement goes on; its end and ; are to come", nil},
		{"postgres", "select 'a;\nb", 0, "quote open since line 1", nil},
		{"postgres", "select 1,\n\"a;", 0, "quote open since line 2", nil},
		{"postgres", "select $x$ a;\n$$", 0, "quote open since line 1", nil},
		{"postgres", "select 1 /* a;\n", 0, "comment open since line 1", nil},
		{"postgres", "select 1 -- a;", 0, "; ends the statement", nil},
		{"postgres", "select 1; -- a", 1, "", nil},
		{"postgres", "create function f() returns int language sql begin atomic select 1;", 0,
			"the statement goes on; its end and ; are to come", nil},
		{"mariadb", "create procedure p() begin select 1; end", 0, "the statement goes on; its end and ; are to come", nil},
		{"mariadb", "create procedure p() begin select 1; end;", 1, "", nil},
		{"mariadb", "select 'a\\';", 0, "quote open since line 1", nil},
		{"mariadb", "select 1; # a;", 1, "", nil},
		{"postgres", "", 0, "", nil},
		{"postgres", "  -- nothing", 0, "", nil},
		{"postgres", "gharbor", 0, "", []string{}},
		{"postgres", "  gharbor survey  tables --like 'a b' ;", 0, "", []string{"survey", "tables", "--like", "a b"}},
		{"postgres", "gharbor leave;", 0, "", []string{"leave"}},
		{"postgres", "gharborx", 0, "; ends the statement", nil},
	} {
		in, err := Read(language(t, c.engine), c.text)
		if err != nil || len(in.Statements) != c.statements || in.Awaited != c.awaited ||
			(in.Words == nil) != (c.words == nil) || !slices.Equal(in.Words, c.words) {
			t.Errorf("%s %q: %d statements, %q, %q, %v", c.engine, c.text, len(in.Statements), in.Awaited, in.Words, err)
		}
	}
	if _, err := Read(language(t, "postgres"), "gharbor as 'csv"); err == nil ||
		!strings.Contains(err.Error(), "not closed") {
		t.Errorf("%v", err)
	}
}

// FuzzRead takes any text apart: it is whole, or something is awaited, and each statement is a
// part of the text.
func FuzzRead(f *testing.F) {
	for _, text := range []string{"select 1;", "select 'a", "gharbor as csv",
		"create procedure p() begin select 1; end;", "/* a", "$$;"} {
		f.Add(text)
	}
	languages := []engine.Language{language(f, "postgres"), language(f, "mariadb")}
	f.Fuzz(func(t *testing.T, text string) {
		for _, l := range languages {
			in, err := Read(l, text)
			if err != nil {
				continue
			}
			if in.Awaited != "" && len(in.Statements) > 0 {
				t.Errorf("%q is whole, and waits for %s", text, in.Awaited)
			}
			for _, s := range in.Statements {
				if !strings.Contains(text, s.Text) && !strings.HasPrefix(text, "\ufeff") {
					t.Errorf("%q is no part of %q", s.Text, text)
				}
			}
		}
	})
}

// TestPrompt has each state in words.
func TestPrompt(t *testing.T) {
	say := func(p Place, wanted ...string) string {
		return Line(p.Prompt(wanted), func(p Part) string { return p.Text })
	}
	full := Place{Profile: "huts/live", Database: "bunkhouse", User: "steward", Superuser: true,
		Guard: "confirm", Live: true, Transaction: engine.InTransaction}
	for _, c := range []struct {
		place  Place
		wanted []string
		want   string
	}{
		{Place{Profile: "huts/local", Database: "bunkhouse", User: "warden_app", Guard: "none"}, nil,
			"huts/local bunkhouse as warden_app"},
		{full, nil, "huts/live bunkhouse as steward, superuser, guarded, live, in a transaction"},
		{full, []string{"profile"}, "huts/live, superuser, guarded, live, in a transaction"},
		{Place{Profile: "p", Transaction: engine.FailedTransaction}, nil, "p, failed transaction: rollback first"},
		{Place{Profile: "p", Database: "d", Lost: true}, nil, "p, not connected"},
		{Place{Superuser: true}, []string{"profile"}, "superuser"},
	} {
		if got := say(c.place, c.wanted...); got != c.want {
			t.Errorf("%+v: %q", c.place, got)
		}
	}
}

// TestMemory remembers nothing that may hold a password, in all ways of writing, and reads back
// what it wrote.
func TestMemory(t *testing.T) {
	for text, want := range map[string]bool{
		"select 1;": true, "select\n1;": true, " select 1;": false, "\tselect 1;": false, "": false,
		"  ": false, "alter user x password 'y'": false, "ALTER USER x IDENTIFIED BY 'y'": false,
		"create server s options (PassWord 'x')": false, "select pgp_sym_encrypt('a', 'b')": false,
		strings.Repeat("x", 100_000): false,
	} {
		if Remembers(text) != want {
			t.Errorf("%.40q: %t", text, !want)
		}
	}
	var data []byte
	for i := range MostRemembered + 9 {
		data = append(data, Encode(fmt.Sprintf("select %d,\n'ö\"';", i))...)
	}
	data = Added(data, fmt.Sprintf("select %d,\n'ö\"';", MostRemembered+9))
	list := Decode(data)
	if len(list) != MostRemembered || list[0] != "select 10,\n'ö\"';" ||
		list[len(list)-1] != fmt.Sprintf("select %d,\n'ö\"';", MostRemembered+9) {
		t.Errorf("%d: %q", len(list), list[0])
	}
	data = nil
	for range 60 {
		data = Added(data, strings.Repeat("long ", 10_000))
	}
	if len(data) > MostMemory {
		t.Errorf("%d bytes", len(data))
	}
	if got := Decode([]byte("\"a\"\nnot this\n\"password\"\n{}\n\"b\"")); !slices.Equal(got, []string{"a", "b"}) {
		t.Errorf("%q", got)
	}
}

// TestSettings reads a file of settings, and says with file and line what is wrong in one.
func TestSettings(t *testing.T) {
	s, err := ParseSettings([]byte("# mine\ntook: true\npage: never\nedit: vi\nnull: \"-\"\nstart:\n  - set "+
		"search_path to huts\nprompt: [profile, user]\n"),
		"t.yaml")
	if err != nil || !s.Took || s.Page != "never" || s.Edit != "vi" || s.Null != "-" || len(s.Start) != 1 ||
		len(s.Prompt) != 2 || len(s.List()) != 6 {
		t.Errorf("%+v %v", s, err)
	}
	for _, text := range []string{"", "# nothing\n", "---\n"} {
		if s, err := ParseSettings([]byte(text), "t.yaml"); err != nil || s.Edit != "emacs" || s.Page != "when-needed" {
			t.Errorf("%q: %+v %v", text, s, err)
		}
	}
	for text, want := range map[string]string{
		"took: yes": "t.yaml:1: took is true or false", "a: 1": "there is no setting a; there are took",
		"\nedti: vi": "t.yaml:2: there is no setting edti; did you mean edit?",
		"edit: nano": "edit is emacs or vi", "start: x": "start is a list",
		"start: [[a]]": "each of start is a text", "prompt: [where]": "prompt has no where",
		"took: true\ntook: true": "t.yaml:2: took is said twice", "- a": "settings are one",
		"a: [": "not YAML", "took: true\n---\ntook: true": "second document",
		"null: \u202ex": "cannot be seen", "null: [a]": "null is a text", "took: \xff": "not UTF-8",
	} {
		if _, err := ParseSettings([]byte(text), "t.yaml"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func FuzzSettings(f *testing.F) {
	f.Add([]byte("took: true\nprompt: [user]\n"))
	f.Add([]byte("a: &x [*x]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if _, err := ParseSettings(data[:min(len(data), MostSettings)], "t.yaml"); err != nil &&
			!strings.HasPrefix(err.Error(), "t.yaml:") {
			t.Errorf("%v", err)
		}
	})
}

// TestOffers offers names as the engine writes them, words that begin statements where one can
// begin, and nothing that steers a terminal.
func TestOffers(t *testing.T) {
	pg, maria := language(t, "postgres"), language(t, "mariadb")
	fill := func(l engine.Language) *Names {
		n := NewNames(l)
		n.Add("table", "public", "booking")
		n.Add("table", "huts", "Bunk House")
		n.Add("column", "booking", "Boots")
		n.Add("table", "", "bo\x1b]0;x")
		n.Add("database", "", "bo\"x")
		n.Add("table", "public", "booking")
		n.Done()
		return n
	}
	for _, c := range []struct {
		l    engine.Language
		text string
		want string
		from int
	}{
		{pg, "select * from bo", `"bo""x" booking booking."Boots" "Boots"`, 14},
		{pg, "select * from BOOK", `booking booking."Boots"`, 14}, {pg, "select x.bu", "", 7},
		{pg, "select * from huts.b", `huts."Bunk House"`, 14},
		{maria, "select * from huts.b", "huts.`Bunk House`", 14},
		{maria, "select boo", "booking booking.Boots Boots", 7}, {pg, "sel", "select", 0},
		{pg, "select 1; upd", "update", 10}, {pg, "select ", "", 7}, {pg, "", "", 0},
		{pg, "select 'ü", "", 8}, {pg, `select "bun`, `"Bunk House"`, 7},
		{maria, "select `bun", "`Bunk House`", 7}, {pg, "select booking.bo", `booking."Boots"`, 7},
	} {
		offers, from := fill(c.l).Offers(c.l, c.text)
		var words []string
		for _, each := range offers {
			words = append(words, each.Word)
		}
		if strings.Join(words, " ") != c.want || from != c.from {
			t.Errorf("%q: %q from %d", c.text, strings.Join(words, " "), from)
		}
	}
	var none *Names
	if offers, _ := none.Offers(pg, "select b"); len(offers) > 0 {
		t.Errorf("%v", offers)
	}
}

func BenchmarkOffers(b *testing.B) {
	l := language(b, "postgres")
	n := NewNames(l)
	for i := range 10_000 {
		n.Add("table", "public", fmt.Sprintf("hut_%05d", i))
	}
	n.Done()
	for b.Loop() {
		if offers, _ := n.Offers(l, "select * from hut_0"); len(offers) != MostOffered {
			b.Fatal(len(offers))
		}
	}
}

// TestCounting counts for one table with a where alone.
func TestCounting(t *testing.T) {
	pg, maria := language(t, "postgres"), language(t, "mariadb")
	for _, c := range []struct {
		l          engine.Language
		text, want string
	}{
		{pg, "delete from booking where night < '2026-01-01'", "select count(*) from booking where night < '2026-01-01'"},
		{pg, "DELETE FROM huts.\"Booking\" AS b WHERE b.id in (select id from x limit 3)",
			"select count(*) from huts.\"Booking\" AS b WHERE b.id in (select id from x limit 3)"},
		{pg, "update hut set height = (select max(height) from hut), name = 'where' where id = 1 -- one",
			"select count(*) from hut where id = 1 -- one"},
		{maria, "update `hut` h set h.height = 1 where h.name = 'from'",
			"select count(*) from `hut` h where h.name = 'from'"},
		{pg, "delete from booking", ""}, {pg, "delete from booking using hut where hut.id = 1", ""},
		{pg, "update a set x = b.x from b where a.id = b.id", ""},
		{pg, "delete from booking where id = 1 returning id", ""},
		{maria, "delete from booking where id = 1 limit 1", ""},
		{maria, "delete b from booking b join hut where 1", ""},
		{maria, "update a, b set a.x = 1 where a.id = b.id", ""}, {maria, "update ignore a set x = 1 where y", ""},
		{pg, "with x as (select 1) delete from a where b", ""}, {pg, "delete from a where current of c", ""},
		{pg, "delete from only a where b", ""}, {maria, "delete from a where b /*! limit 1 */", ""},
		{pg, "select 1", ""}, {pg, "update", ""}, {pg, "delete from a where", ""},
		{pg, "insert into a select 1 where x", ""}, {maria, "delete from a partition (p) where b", ""},
		{maria, "update a left join b set a.x = 1 where c", ""},
	} {
		got, ok := Counting(c.l, c.text)
		if got != c.want || ok != (c.want != "") {
			t.Errorf("%q: %q %t", c.text, got, ok)
		}
	}
}

func FuzzCounting(f *testing.F) {
	f.Add("delete from booking where id = 1")
	f.Add("update a set b = (c where d")
	f.Fuzz(func(t *testing.T, text string) {
		for _, name := range []string{"postgres", "mariadb"} {
			if got, ok := Counting(language(t, name), text); ok && !strings.HasPrefix(got, "select count(*) from ") {
				t.Errorf("%q", got)
			}
		}
	})
}
