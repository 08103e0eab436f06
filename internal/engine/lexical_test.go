package engine

import "testing"

func TestSeveral(t *testing.T) {
	one := Lexical{Quotes: `'"`, Dollar: true, Nested: true}
	other := Lexical{Quotes: "'\"`", Backslash: true, Hash: true}
	for _, c := range []struct {
		l    Lexical
		text string
		want bool
	}{
		{one, "select 1", false}, {one, "select 1;", false}, {one, "select 1; -- more\n /* x; */ ", false},
		{one, "select 1; select 2", true}, {one, "select ';x'; 'y'", true},
		{one, "select 'a''; b'", false}, {one, `select "a;b"`, false}, {one, "do $x$ begin; end; $x$", false},
		{one, "do $$ a; b $$; c", true}, {one, "select $1; ", false}, {one, "/* a /* ; */ ; b */ select 1", false},
		{one, `select '\'; select 2`, true}, {other, `select '\'; select 2`, false},
		{other, "select 1 # ; x\n", false}, {other, "select `a;b`;#", false}, {other, "select 1;;", false},
		{one, "-- only; this", false}, {one, "", false}, {one, "'", false},
	} {
		if got := c.l.Several(c.text); got != c.want {
			t.Errorf("%q: %v", c.text, got)
		}
	}
}

func FuzzSeveral(f *testing.F) {
	f.Add("select 1; select $x$ ; $x$", true)
	f.Add("/* /* */ ' \\' # `", false)
	f.Fuzz(func(t *testing.T, text string, all bool) {
		l := Lexical{Quotes: "'\"`", Backslash: all, Dollar: all, Nested: all, Hash: !all}
		if l.Several(text) && !l.Several(text+" x") && !l.Several(text+"\n x") {
			t.Errorf("%q", text)
		}
	})
}
