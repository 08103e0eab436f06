package script

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
)

// valuesOf gives values by their names, each with a text that would be noticed in a statement.
func valuesOf(names ...string) Values {
	v := Values{Given: map[string]engine.Value{}, Used: map[string]bool{}, Near: func(string, []string) string {
		return ""
	}}
	for _, name := range names {
		v.Given[name] = engine.Value{Name: name, Kind: engine.Text, Text: "'; drop " + name}
	}
	return v
}

// TestBind puts places into statements, and knows where in the person's own text each character
// of the server's is.
func TestBind(t *testing.T) {
	for _, c := range []struct{ engine, text, to, values string }{
		{"postgres", "select 1", "select 1", ""},
		{"postgres", "select {{a}}, {{b}}, {{a}}", "select $1, $2, $1", "a b"},
		{"mysql", "select {{a}}, {{b}}, {{a}}", "select ?, ?, ?", "a b a"},
		{"postgres", "select {{ a }}", "select $1", "a"},
		{"postgres", "select '{{c}} {{', {{a}} -- {{b}}\n/* {{b}} */", "select '{{c}} {{', $1 -- {{b}}\n/* {{b}} */", "a"},
		{"postgres", "-- {{b}}\n(select {{a}})", "-- {{b}}\n(select $1)", "a"},
		{"mysql", "select {{a}}--{{b}}", "select ?--?", "a b"},
		{"postgres", "select x from h order by x + {{a}}, case when {{b}} then 1 end",
			"select x from h order by x + $1, case when $2 then 1 end", "a b"},
		{"postgres", "select x from h group by greatest({{a}}, x), x limit {{b}}",
			"select x from h group by greatest($1, x), x limit $2", "a b"},
		{"postgres", "insert into h (a) (select {{a}})", "insert into h (a) (select $1)", "a"},
		{"postgres", "insert into s.\"h\" (a, b) values ({{a}}, {{b}})", "insert into s.\"h\" (a, b) values ($1, $2)", "a b"},
		{"postgres", "update h set x = {{a}}, y={{b}} where z in ({{a}})",
			"update h set x = $1, y=$2 where z in ($1)", "a b"},
	} {
		info, _ := known.Info(c.engine)
		s := Split(info.Language, c.text)[0]
		values := valuesOf("a", "b")
		b, err := Bind(info.Language, s, values)
		var names []string
		for _, v := range b.Values {
			names = append(names, v.Name)
		}
		if err != nil || b.To != c.to || strings.Join(names, " ") != c.values {
			t.Errorf("%s: %q: %q %v %v", c.engine, c.text, b.To, names, err)
		}
		for _, word := range strings.Fields(c.to) {
			if at := strings.Index(b.To, word); len(word) > 1 && !strings.ContainsAny(word, "$?") &&
				!strings.HasPrefix(b.Text[b.From(at):], word) {
				t.Errorf("%q: %q is at %q", c.text, word, b.Text[b.From(at):])
			}
		}
		unused := values.Unused()
		for _, name := range names {
			if slices.Contains(unused, name) {
				t.Errorf("%q: %s is not used", c.text, name)
			}
		}
	}
}

// TestBindSaysWhere names the line and the column of what is wrong, in the text that a person has
// typed.
func TestBindSaysWhere(t *testing.T) {
	info, _ := known.Info("postgres")
	list := Split(info.Language, "select 1; -- über\r\n select 'ü',\r\n   '{{a}}'; select {{c}}")
	for i, want := range []string{"", "3:5 '{{a}}' 5", "3:20 select {{c}} 8"} {
		_, err := Bind(info.Language, list[i], valuesOf("a"))
		var at *PlaceError
		if !errors.As(err, &at) {
			if want != "" || err != nil {
				t.Errorf("%d: %v", i, err)
			}
			continue
		}
		if got := fmt.Sprintf("%d:%d %s %d", at.Line, at.Column, strings.TrimSpace(at.Text), at.Mark); got != want {
			t.Errorf("%d: %s instead of %s (%v)", i, got, want, err)
		}
	}
}

// TestLet reads values of each kind, and shows none in an error.
func TestLet(t *testing.T) {
	for word, want := range map[string]string{
		"n:integer=5": "5", "n:integer=+5": "5", "n:integer=-07": "-07", "n:decimal=.5": ".5",
		"n:decimal=1e400": "1e400", "n:boolean=true": "true", "n=": "", "n=a=b": "a=b", "n:text=ü": "ü",
		`n:bytes=\x00FF`: "\x00\xff", `n:bytes=\x`: "", "n:date=2024-02-29": "2024-02-29",
		"n:time=18:30": "18:30", "n:time=-838:59:59": "-838:59:59",
		"n:time=18:30:05.123456+02":        "18:30:05.123456+02",
		"n:timestamp=2026-02-14T18:30":     "2026-02-14 18:30",
		"n:timestamp=2026-02-14 18:30:05Z": "2026-02-14 18:30:05Z", `n:json={"a": [1]}`: `{"a": [1]}`,
		"n:null": "",
	} {
		if v, err := Let(word); err != nil || v.Text != want || v.Name != "n" {
			t.Errorf("%s: %q %v", word, v.Text, err)
		}
	}
	for _, word := range []string{"", "=x", "1n=x", "a-b=x", "n:integer=", "n:integer=1.5", "n:integer= 1",
		"n:integer=0x1f", "n:decimal=NaN", "n:decimal=1,5", "n:boolean=yes", "n:date=2026-02-30",
		"n:date=26-02-14", "n:date=2026-02-14 10:00",
		"n:time=7", "n:time=18:61", "n:timestamp=2026-02-14", "n:timestamp=2026-13-14 10:00", "n:json=",
		"n:json={'a': 1}", "n:json=1 2", "n:bytes=00ff", `n:bytes=\x0`, "n:null=", "n:null=x", "n:int=5",
		"n", "n:text", "n=\xff", "n:integer=1\n", "n:date=2026-02-14\n", "n:secret=canary-5b2f"} {
		if v, err := Let(word); err == nil || strings.Contains(err.Error(), "canary") {
			t.Errorf("%q: %+v %v", word, v, err)
		}
	}
	for word, c := range map[string]struct{ content, want string }{
		"n": {"a\n", "a\n"}, "n:text": {"a\r\n", "a\r\n"}, "n:bytes": {"\xff\n", "\xff\n"},
		"n:integer": {"5\n", "5"}, "n:json": {"{}\r\n", "{}"}, "n:date": {"2026-02-14", "2026-02-14"},
	} {
		if v, err := LetFrom(word, c.content); err != nil || v.Text != c.want {
			t.Errorf("%s: %q %v", word, v.Text, err)
		}
	}
	for word, content := range map[string]string{"n": "\xff", "n:integer": "5\n\n", "n:null": "",
		"n:boolean": "canary-5b2f"} {
		if v, err := LetFrom(word, content); err == nil || strings.Contains(err.Error(), "canary") {
			t.Errorf("%s: %+v %v", word, v, err)
		}
	}
}

// FuzzBind holds for any text: what is bound has the same statement around its places for any
// values, and every place of an error is in the text.
func FuzzBind(f *testing.F) {
	for _, seed := range []string{"select {{a}}", "select '{{a}}'", "select {{a}} from {{b}}",
		"insert into t ({{a}}) values ({{b}})", "select 1 order by ({{a}}) desc, {{b}}", "{{a}}{{b}}",
		"select {{", "select extract(x from {{a}})", "$1{{a}}$1", "select {{a}}\n;\n{{b}}",
		"/*{{a}}*/ select {{ b }}", "((({{a}}", ")){{a}}"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, name := range known.Names() {
			info, _ := known.Info(name)
			for _, s := range Split(info.Language, text) {
				one, two := valuesOf("a", "b"), valuesOf("a", "b")
				for name, v := range maps.Clone(two.Given) {
					v.Text = "{{a}} $1 ?"
					two.Given[name] = v
				}
				first, err := Bind(info.Language, s, one)
				second, again := Bind(info.Language, s, two)
				if (err == nil) != (again == nil) || first.To != second.To {
					t.Fatalf("%q: the values change the statement: %q %q", text, first.To, second.To)
				}
				var at *PlaceError
				if errors.As(err, &at) &&
					(at.Line < 1 || at.Line > strings.Count(text, "\n")+1 || at.Column < 1 ||
						at.Mark > len(at.Text)+1) {
					t.Fatalf("%q: %+v", text, at)
				}
				if err == nil && strings.Contains(first.To, "drop") && !strings.Contains(text, "drop") {
					t.Fatalf("%q: a value became text", text)
				}
				for i := 0; i <= len(first.To); i++ {
					if from := first.From(i); err == nil && (from < 0 || from > len(s.Text)) {
						t.Fatalf("%q: %d leads to %d of %d", text, i, from, len(s.Text))
					}
				}
			}
		}
	})
}

// TestSecretiveStatements shows nothing of a statement in which a password may be, on each line
// that the mistake can be on.
func TestSecretiveStatements(t *testing.T) {
	info, _ := known.Info("postgres")
	const pw = "canary-5b2f"
	for _, text := range []string{"create role x password '" + pw + "' valid {{y}}",
		"create role x\n password\n '" + pw + "' {{y}}", "alter user x\nidentified by '" + pw + "', {{y}}",
		"nonsense password '" + pw + "'"} {
		p := &Program{Language: info.Language, Values: valuesOf("a"),
			Sources: []Source{{Name: "f", Pipe: strings.NewReader(text)}}}
		err := p.Walk(true, func(Step) error { return nil })
		if shown := fmt.Sprintf("%+v", err); err == nil || strings.Contains(shown, pw) {
			t.Errorf("%q: %s", text, shown)
		}
		var value *PlaceError
		var line *LineError
		if errors.As(err, &value) && value.Text != "" || errors.As(err, &line) && line.Text != "" {
			t.Errorf("%q: %+v %+v", text, value, line)
		}
	}
	s := Split(info.Language, "create role x password '"+pw+"'")[0]
	if got := s.Shown(info.Language); strings.Contains(got, pw) || !strings.HasPrefix(got, "create … ") {
		t.Error(got)
	}
}
