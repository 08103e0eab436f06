package report

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// TestTableBegins has a table begin when enough rows are there, or enough time has passed, and
// all rows come below their headings.
func TestTableBegins(t *testing.T) {
	var out, errs bytes.Buffer
	table := newTable(&out, &errs, "")
	table.most = 3
	_ = table.Columns([]engine.Column{{Name: "n", Kind: engine.Integer}, {Name: "name"}})
	row := func(n, name string) { _ = table.Row([]engine.Cell{{Text: n}, {Text: name}}) }
	row("1", "Greystone")
	row("2", "Larkrise")
	if out.Len() > 0 {
		t.Errorf("it began with two rows: %s", out.String())
	}
	row("3", "Old Quarry")
	if !strings.HasSuffix(out.String(), "\n3  Old Quarry\n") {
		t.Errorf("it did not begin with three: %s", out.String())
	}
	row("1000", "a name that is wider than all before")
	row("5", "x")
	_ = table.Done(engine.Summary{Rows: 5})
	want := "n  name\n─────────────\n1  Greystone\n2  Larkrise\n3  Old Quarry\n1000  a name that is wider than " +
		"all before\n5  x\n"
	if got := out.String(); strings.Join(strings.Fields(got), " ") != strings.Join(strings.Fields(want), " ") ||
		strings.Count(got, "name\n") != 1 || errs.String() != "5 rows\n" {
		t.Errorf("%s%s", got, errs.String())
	}
	// An empty result has its headings.
	out.Reset()
	table = newTable(&out, &errs, "")
	_ = table.Columns([]engine.Column{{Name: "n"}})
	_ = table.Done(engine.Summary{})
	if out.String() != "n\n─\n" {
		t.Errorf("%q", out.String())
	}
	// What came before a failure is printed.
	out.Reset()
	table = newTable(&out, &errs, "")
	_ = table.Columns([]engine.Column{{Name: "n", Kind: engine.Integer}, {Name: "name"}})
	row("1", "x")
	if err := table.Failed(errors.New("gone")); err == nil || !strings.Contains(out.String(), "1  x\n") {
		t.Errorf("%v %q", err, out.String())
	}
	// At a terminal it begins some time after its first row, however many there are; and again
	// for those that come later.
	out.Reset()
	table = newTable(&out, &errs, "")
	var late []func()
	table.atTerminal, table.after = true, func(d time.Duration, f func()) func() bool {
		if d != firstWait {
			t.Error(d)
		}
		late = append(late, f)
		return func() bool { return true }
	}
	_ = table.Columns([]engine.Column{{Name: "n", Kind: engine.Integer}, {Name: "name"}})
	row("1", "x")
	row("2", "y")
	if out.Len() > 0 || len(late) != 1 {
		t.Errorf("%q, %d timers", out.String(), len(late))
	}
	late[0]()
	row("3", "z")
	if !strings.HasSuffix(out.String(), "2  y\n") || len(late) != 2 {
		t.Errorf("%q, %d timers", out.String(), len(late))
	}
	late[1]()
	late[1]()
	if _ = table.Done(engine.Summary{Rows: 3}); !strings.HasSuffix(out.String(), "2  y\n3  z\n") {
		t.Errorf("%q", out.String())
	}
}

// TestTookAndNotices says how long it was to the first row and to the last, with a clock of the
// test's, and what the server said.
func TestTookAndNotices(t *testing.T) {
	for _, form := range []string{"", "json"} {
		var out, errs bytes.Buffer
		at := time.Unix(0, 0)
		all := &Results{Form: form, Out: &out, Errs: &errs, Took: true, Now: func() time.Time { return at }}
		p := all.Next()
		at = at.Add(12345 * time.Microsecond)
		_ = p.Columns([]engine.Column{{Name: "a"}})
		_ = p.Row([]engine.Cell{{Text: "x"}})
		p.Heard(engine.Notice{Level: "NOTICE", Number: "00000", Text: outside.Said("a\x1b[31m step"),
			Hint: outside.Said("mind it")})
		at = at.Add(2 * time.Second)
		if err := errors.Join(p.Done(engine.Summary{Rows: 1, Affected: -1, Unheard: 3}), all.End(nil, nil)); err != nil {
			t.Error(err)
		}
		if got := errs.String(); !strings.Contains(got, "took 12.35ms to the first row, 2.01s to the last\n") ||
			!strings.Contains(got, `NOTICE (00000): a\x1b[31m step`+"\n  hint: mind it\n") ||
			!strings.Contains(got, "the server said 3 things more") {
			t.Errorf("%s", got)
		}
		if form == "json" {
			var read struct {
				Results []struct {
					Notices []map[string]string
					First   float64 `json:"first_row_ms"`
				}
			}
			if err := json.Unmarshal(out.Bytes(), &read); err != nil || read.Results[0].First != 12.345 ||
				fmt.Sprint(read.Results[0].Notices) != `[map[code:00000 hint:mind it level:NOTICE text:a\x1b[31m step]]` {
				t.Errorf("%v %s", err, out.String())
			}
		}
	}
}

// TestJSONStaysWhole ends JSON in every state that a failure can leave it in.
func TestJSONStaysWhole(t *testing.T) {
	gone, found := errors.New("gone"), &finding.Finding{Code: "query.closed"}
	for about, c := range map[string]struct {
		do      func(*Results)
		results int
	}{
		"before anything": {func(*Results) {}, 0},
		"before columns":  {func(r *Results) { _ = r.Next().Failed(gone) }, 0},
		"in the middle":   {func(r *Results) { p := begun(r); _ = p.Failed(gone) }, 1},
		"kept going": {func(r *Results) {
			p := r.Next()
			_ = p.Failed(gone)
			_ = p.Ended(found, map[string]int{"n": 1})
			_ = begun(r).Done(engine.Summary{})
		}, 2},
		"kept going, in rows": {func(r *Results) {
			p := begun(r)
			_ = p.Failed(gone)
			_ = p.Ended(found, nil)
			_ = r.Next().Done(engine.Summary{Tag: "SET"})
		}, 2},
		"two results, one fails": {func(r *Results) {
			p := begun(r)
			_ = p.Columns([]engine.Column{{Name: "b"}})
			_ = p.Failed(gone)
		}, 2},
		"copied out": {func(r *Results) { p := r.Next(); _ = p.Failed(p.Bytes([]byte("x"))) }, 0},
	} {
		var out, errs bytes.Buffer
		r := &Results{Form: "json", Out: &out, Errs: &errs}
		c.do(r)
		_ = r.End(found, nil)
		var read struct {
			Results []any
			Finding any
		}
		if err := json.Unmarshal(out.Bytes(), &read); err != nil || len(read.Results) != c.results || read.Finding == nil {
			t.Errorf("%s: %v\n%s", about, err, out.String())
		}
	}
}

func begun(r *Results) *Printed {
	p := r.Next()
	_ = p.Columns([]engine.Column{{Name: "a"}})
	_ = p.Row([]engine.Cell{{Text: "x"}})
	return p
}

// TestOnly prints one result with rows, and drops the others.
func TestOnly(t *testing.T) {
	for form, want := range map[string]string{"bare": "2\n",
		"json": `{"results":[{"columns":[],"rows":[],"affected":3},` + "\n" + `{"columns":["a"],"rows":[` +
			"\n" + `  [2]` + "\n" + `],"types":["number"]}]}` + "\n"} {
		var out, errs bytes.Buffer
		r := &Results{Form: form, Out: &out, Errs: &errs, Only: 2}
		for n := range 3 {
			p := r.Next()
			err := p.Columns([]engine.Column{{Name: "a", Kind: engine.Integer}})
			err = errors.Join(err, p.Row([]engine.Cell{{Text: fmt.Sprint(n + 1)}}),
				p.Done(engine.Summary{Rows: 1, Affected: -1}))
			if n == 0 {
				err = errors.Join(err, r.Next().Done(engine.Summary{Affected: 3}))
			}
			if err != nil {
				t.Error(err)
			}
		}
		if _ = r.End(nil, nil); out.String() != want || r.WithRows() != 3 {
			t.Errorf("%s: %q", form, out.String())
		}
	}
}

// TestMarked puts a mark below one character, also where the line is long, or has wide characters.
func TestMarked(t *testing.T) {
	for _, c := range []struct {
		line   string
		column int
		want   string
	}{
		{"selec 2", 1, "selec 2\n^"}, {"select frm x", 8, "select frm x\n       ^"},
		{"select", 7, "select\n      ^"}, {"", 1, "\n^"}, {"select", 99, "select\n      ^"}, {"\tx", 2, " x\n ^"},
		{"'ü' x", 5, "'ü' x\n    ^"}, {"'山' x", 5, "'山' x\n     ^"}, {"a\x1bb", 3, "a\\x1bb\n     ^"},
	} {
		line, mark := Marked(c.line, c.column, 72)
		if got := line + "\n" + mark; got != c.want {
			t.Errorf("%q, %d:\n%s\ninstead of\n%s", c.line, c.column, got, c.want)
		}
	}
	line, mark := Marked(strings.Repeat("a", 500)+"b"+strings.Repeat("c", 500), 501, 72)
	if at := len([]rune(mark)) - 1; []rune(line)[at] != 'b' || wide(line) > 73 {
		t.Errorf("%s\n%s", line, mark)
	}
}
