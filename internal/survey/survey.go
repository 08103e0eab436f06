package survey

import (
	"context"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/script"
)

// Request is what is asked for.
type Request struct {
	List engine.List
	Like string // a pattern, see [Pattern]; "" for all
	Of   string // the user whose rights are listed; "" for the session's, or for everybody with On
	// On is the table that the list is about, as [engine.Surveyor.Table] gave it.
	On     engine.Relation
	Mine   bool // with On: the session's own rights
	System bool
	Names  bool  // nothing but names, and soon
	Limit  int64 // how many rows are given, 0 for all
}

// Outcome is what is to be said of a list beside its rows.
type Outcome struct {
	Sight engine.Sight
	// Rows is how many there are, without those that Left counts: rows behind the limit.
	Rows, Left int64
	// Unknown are columns that the server does not know.
	Unknown []string
}

// Take gives the rows of a list that are wanted. What may be a secret in them is not shown.
func Take(ctx context.Context, from engine.Surveyor, r Request, out engine.Rows) (Outcome, error) {
	f := &filter{out: out, limit: r.Limit}
	kind, _ := Find(string(r.List))
	f.searched, f.full = kind.Searched, -1
	if strings.Contains(r.Like, ".") {
		f.before = kind.Full
	}
	scope := engine.Scope{Table: r.On, Of: r.Of, Everybody: r.On.Name != "" && r.Of == "" && !r.Mine,
		System: r.System, Names: r.Names, Limit: int(r.Limit)}
	if r.Like != "" {
		f.like = Pattern(r.Like)
		dotted := strings.Contains(r.Like, ".")
		scope.Wanted = func(name, full string) bool { return f.like(name) || dotted && f.like(full) }
	}
	sight, err := from.Survey(ctx, r.List, scope, f)
	f.outcome.Sight = sight
	return f.outcome, err
}

// filter hands on the rows that are wanted.
type filter struct {
	out      engine.Rows
	like     func(string) bool
	searched []string
	before   []string
	limit    int64

	columns []engine.Column
	places  []int // of what is searched
	full    int   // of what is before it with a dot, -1 for nothing
	outcome Outcome
}

// Columns implements engine.Rows.
func (f *filter) Columns(columns []engine.Column) error {
	f.columns = columns
	for _, name := range f.searched {
		if at := slices.IndexFunc(columns, func(c engine.Column) bool { return c.Name == name }); at >= 0 {
			f.places = append(f.places, at)
		}
	}
	for i, c := range columns {
		if slices.Contains(f.before, c.Name) {
			f.full = i
		}
		if c.Kind == engine.Null {
			f.outcome.Unknown = append(f.outcome.Unknown, c.Name)
		}
	}
	return f.out.Columns(columns)
}

// wanted reports whether a row fits the pattern.
func (f *filter) wanted(cells []engine.Cell) bool {
	if f.like == nil {
		return true
	}
	return slices.ContainsFunc(f.places, func(at int) bool {
		return f.like(cells[at].Text) || f.full >= 0 && f.like(cells[f.full].Text+"."+cells[at].Text)
	})
}

// Row implements engine.Rows.
func (f *filter) Row(cells []engine.Cell) error {
	if len(cells) != len(f.columns) {
		return engine.Malformed("a row of another size than was asked for")
	}
	if !f.wanted(cells) {
		return nil
	}
	if f.limit > 0 && f.outcome.Rows >= f.limit {
		f.outcome.Left++ // it is read on, so that the session stays in order
		return nil
	}
	f.outcome.Rows++
	hide(f.columns, cells)
	return f.out.Row(cells)
}

// Bytes implements engine.Rows.
func (f *filter) Bytes([]byte) error { return engine.Malformed("data instead of rows") }

// hide takes out what may be a secret: the value of a setting that is one by its name, and a
// value or a statement that may have one in it.
func hide(columns []engine.Column, cells []engine.Cell) {
	for i, c := range columns {
		switch {
		case c.Name == "value" && cells[0].Text != "" &&
			(secretName(cells[0].Text) && plain(cells[i].Text) || script.Secretive(cells[i].Text)):
			cells[i].Text = "[secret]"
		case (c.Name == "statement" || c.Name == "default") && script.Secretive(cells[i].Text):
			first, _, _ := strings.Cut(strings.TrimSpace(cells[i].Text), " ")
			if c.Name == "default" || script.Secretive(first) {
				first = ""
			}
			cells[i].Text = strings.TrimSpace(first + " … (not shown, since a password may be in it)")
		}
	}
}

// secretName reports whether a setting is a secret by its name; files of keys are none.
func secretName(name string) bool {
	words := strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return r == '_' || r == '.' || r == '-' })
	if len(words) == 0 || slices.Contains(words, "ssl") && !slices.Contains(words, "passphrase") {
		return false
	}
	last := words[len(words)-1]
	return slices.ContainsFunc(words, func(word string) bool {
		return slices.Contains([]string{"passphrase", "secret", "token", "apikey", "credential", "credentials",
			"passwd"}, word)
	}) || last == "password" || last == "auth" || strings.HasSuffix(last, "key")
}

// plain reports whether a value can be a secret: it is more than a switch or a small number.
func plain(value string) bool {
	switch strings.ToLower(value) {
	case "", "on", "off", "true", "false", "yes", "no", "0", "1", "-1", "none", "default":
		return false
	}
	return true
}
