package engine

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// catalogueOf is a server that knows some expressions, refuses others, and gives two rows.
type catalogueOf struct {
	known   []string
	denied  bool // it refuses for want of a right
	busy    int  // the number of the question that it refuses for the state that it is in
	late    bool // it names the columns before it refuses
	short   bool // its rows lack a column
	asked   []string
	changes bool // a statement came outside of a transaction that only reads
	inside  bool
}

func (c *catalogueOf) Do(context.Context, Statement) error {
	return errors.New("nothing is to be done")
}

func (c *catalogueOf) Together(_ context.Context, onlyReads bool, do func() error) error {
	c.changes = c.changes || !onlyReads
	c.inside = true
	defer func() { c.inside = false }()
	return do()
}

func (c *catalogueOf) Run(_ context.Context, statement Statement, out Rows) (Summary, error) {
	c.asked = append(c.asked, statement.Text)
	c.changes = c.changes || !c.inside
	columns, from, _ := strings.Cut(strings.TrimPrefix(statement.Text, "select "), " from ")
	names := strings.Split(columns, ", ")
	refusal := &finding.Problem{Code: finding.QueryNoSuchObject, Number: outside.Said("1")}
	if len(c.asked) == c.busy {
		return Summary{}, &finding.Problem{Code: finding.QueryInUse, Number: outside.Said("2")}
	}
	if c.denied {
		refusal.Code = finding.QueryNoRight
	}
	for _, name := range append(slices.Clone(names), strings.Fields(from)...) {
		if !slices.Contains(c.known, name) && name != "limit" && name != "0" && name != "order" && name != "by" {
			if c.late {
				_ = out.Columns(make([]Column, len(names)))
			}
			return Summary{}, refusal
		}
	}
	if err := out.Columns(make([]Column, len(names))); err != nil || strings.Contains(from, "limit 0") {
		return Summary{}, err
	}
	for range 2 {
		cells := make([]Cell, len(names))
		for i, name := range names {
			cells[i] = Cell{Text: name, Null: name == "size"}
			if name == "is" {
				cells[i].Text = "t"
			}
		}
		if c.short {
			cells = cells[1:]
		}
		if err := out.Row(cells); err != nil {
			return Summary{}, err
		}
	}
	return Summary{Rows: 2}, nil
}

// kept keeps rows.
type kept struct {
	columns []string
	rows    []string
}

func (k *kept) Columns(columns []Column) error {
	for _, c := range columns {
		k.columns = append(k.columns, c.Name+" "+string(c.Kind))
	}
	return nil
}

func (k *kept) Row(cells []Cell) error {
	var row []string
	for _, c := range cells {
		if c.Null {
			c.Text = "(null)"
		}
		row = append(row, c.Text)
	}
	k.rows = append(k.rows, strings.Join(row, " "))
	return nil
}

func (*kept) Bytes([]byte) error { return nil }

// TestInquire asks servers that know all, some or nothing of what they are asked, in each of two
// ways.
func TestInquire(t *testing.T) {
	part := SeesPart("sizes", "a right", "grant it")
	denied := SeesPart("all", "another right", "grant all")
	way := func(from string, names ...string) Inquiry {
		i := Inquiry{From: "from " + from, Order: " order by name"}
		for _, name := range names {
			c := Listed{Column: Column{Name: name, Kind: Text}, By: name}
			switch name {
			case "size":
				c.Hides = part
			case "is":
				c.Kind = Boolean
			}
			i.Columns = append(i.Columns, c)
		}
		return i
	}
	ways := []Inquiry{way("rich", "name", "owner", "size", "is"), way("poor", "name", "owner")}
	for _, c := range []struct {
		what    string
		server  catalogueOf
		sight   Sight
		columns []string
		row     string
		asked   int
	}{
		{"all is known", catalogueOf{known: []string{"rich", "name", "owner", "size", "is"}}, part,
			[]string{"name text", "owner text", "size text", "is boolean"}, "name owner (null) true", 1},
		{"a column is not known", catalogueOf{known: []string{"rich", "name", "size", "is"}}, part,
			[]string{"name text", "owner null", "size text", "is boolean"}, "name (null) (null) true", 7},
		{"a missing value means nothing where the column is not known",
			catalogueOf{known: []string{"rich", "name", "owner", "is"}}, SeesAll(),
			[]string{"name text", "owner text", "size null", "is boolean"}, "name owner (null) true", 7},
		{"the second way", catalogueOf{known: []string{"poor", "name", "owner"}}, SeesAll(),
			[]string{"name text", "owner text"}, "name owner", 7},
		{"a refusal behind the columns", catalogueOf{known: []string{"poor", "name", "owner"}, late: true},
			SeesAll(), []string{"name text", "owner text"}, "name owner", 7},
		{"nothing is known", catalogueOf{}, NotKnown("this server does not have this list"), nil, "", 10},
		{"nothing is allowed", catalogueOf{denied: true}, denied, nil, "", 10},
	} {
		out := &kept{}
		sight, err := Inquire(t.Context(), &c.server, ways, SeesAll(), denied, out)
		if err != nil || sight != c.sight || !reflect.DeepEqual(out.columns, c.columns) ||
			len(out.rows) > 0 != (c.row != "") ||
			c.row != "" && (len(out.rows) != 2 || out.rows[0] != c.row) || len(c.server.asked) != c.asked ||
			c.server.changes {
			t.Errorf("%s: %+v %v %v %v, %d asked %v", c.what, sight, err, out.columns, out.rows,
				len(c.server.asked), c.server.changes)
		}
	}
	// A server that says fewer values than were asked for is malformed, and an error that is no
	// refusal ends it.
	if _, err := Inquire(t.Context(),
		&catalogueOf{known: []string{"rich", "name", "owner", "size", "is"}, short: true}, ways, SeesAll(),
		denied, &kept{}); err == nil || Refused(err) {
		t.Errorf("%v", err)
	}
	for busy := 1; busy <= 7; busy++ { // what is refused for a moment is not taken for unknown
		if _, err := Inquire(t.Context(),
			&catalogueOf{known: []string{"rich", "name", "size", "is"}, busy: busy}, ways, SeesAll(), denied,
			&kept{}); !Refused(err) {
			t.Errorf("question %d: %v", busy, err)
		}
	}
	stop := errors.New("stop")
	if _, err := Inquire(t.Context(), &catalogueOf{known: []string{"rich", "name", "owner", "size", "is"}},
		ways, SeesAll(), denied, stopping{stop}); !errors.Is(err, stop) {
		t.Errorf("%v", err)
	}
}

// stopping takes no row.
type stopping struct{ err error }

func (s stopping) Columns([]Column) error { return nil }
func (s stopping) Row([]Cell) error       { return s.err }
func (s stopping) Bytes([]byte) error     { return s.err }

// forgetful is a session whose lists do not say how much of them is seen.
type forgetful struct {
	Session
	sight Sight
}

func (f forgetful) Survey(context.Context, List, Scope, Rows) (Sight, error) { return f.sight, nil }
func (f forgetful) Table(context.Context, string) (Relation, error) {
	return Relation{}, &NotThere{What: "table", Name: "x"}
}

// TestEachListSaysWhatIsSeen refuses a list that does not say it.
func TestEachListSaysWhatIsSeen(t *testing.T) {
	for _, sight := range []Sight{{}, SeesAll(), SeesPart("a", "b", "c"), NotKnown("d")} {
		got, err := guardedSession{forgetful{sight: sight}, &budget{}}.Survey(t.Context(), ListTables, Scope{}, &kept{})
		if (err != nil) != (sight == Sight{}) || got != sight {
			t.Errorf("%+v: %+v %v", sight, got, err)
		}
	}
	if fmt.Sprint(SeesAll().All(), SeesPart("", "", "").All(), NotKnown("").Known(),
		SeesAll().Known()) != "true false false true" {
		t.Error("a sight says something else")
	}
	if _, err := (guardedSession{forgetful{}, &budget{}}).Table(t.Context(), "x"); err == nil ||
		err.Error() != `there is no table "x"` {
		t.Errorf("%v", err)
	}
}
