package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/outside"
)

// The columns of documents are the names in the first of them: so many, or as many as have so
// many bytes.
const (
	firstDocuments     = 100
	firstDocumentBytes = 4 << 20
	mostNames          = 10_000 // more names than that are as late as those of later documents
)

// LateName is the error of a document with a name that the first ones have not, in a form whose
// columns are fixed by then.
type LateName struct {
	Name string
	Row  int64 // from 1
	Of   int   // how many documents the names were taken from
	// Full says that there were too many names before it.
	Full bool
}

// Error says what is wrong.
func (e *LateName) Error() string {
	if e.Full {
		return fmt.Sprintf("document %d has the name %s, and there are %d names before it", e.Row,
			outside.Text(e.Name), mostNames)
	}
	return fmt.Sprintf("document %d has the name %s, and none of the first %d has it", e.Row, outside.Text(e.Name), e.Of)
}

// unfolded prints documents as rows, with a column for each name of their top level. Other
// results go through as they are.
type unfolded struct {
	Rows
	errs  io.Writer
	fixed bool // a name that comes late is an error; else it is said at the end

	form    engine.DocumentForm // of the documents, nil where there are none
	columns []engine.Column     // before the document
	waiting []waitingDocument
	bytes   int
	place   map[string]int // of each name among the columns
	cells   []engine.Cell
	rows    int64
	first   int
	late    []string
}

type waitingDocument struct {
	before  []engine.Cell
	members []engine.Member
}

// Columns implements engine.Rows.
func (u *unfolded) Columns(columns []engine.Column) error {
	*u = unfolded{Rows: u.Rows, errs: u.errs, fixed: u.fixed}
	last := len(columns) - 1
	if last < 0 || columns[last].Document == nil {
		return u.Rows.Columns(columns)
	}
	u.form, u.columns = columns[last].Document, slices.Clone(columns[:last])
	return nil
}

// Row implements engine.Rows.
func (u *unfolded) Row(cells []engine.Cell) error {
	if u.form == nil {
		return u.Rows.Row(cells)
	}
	before, text := cells[:len(u.columns)], cells[len(cells)-1].Text
	members, err := u.form.Members(text)
	if err != nil {
		return err
	}
	u.rows++
	if u.place != nil {
		return u.row(before, members)
	}
	u.waiting = append(u.waiting, waitingDocument{slices.Clone(before), members})
	if u.bytes += len(text); len(u.waiting) < firstDocuments && u.bytes < firstDocumentBytes {
		return nil
	}
	return u.begin()
}

// begin prints the documents that are there, when it is known which columns they have.
func (u *unfolded) begin() error {
	if u.form == nil || u.place != nil {
		return nil
	}
	u.place, u.first = map[string]int{}, len(u.waiting)
	columns := slices.Clone(u.columns)
	for _, w := range u.waiting {
		for _, m := range w.members {
			at, known := u.place[m.Name]
			if !known && len(columns) >= mostNames {
				continue
			}
			if !known {
				at = len(columns)
				u.place[m.Name] = at
				columns = append(columns, engine.Column{Name: m.Name, Kind: engine.Null})
			}
			columns[at].Kind = common(columns[at].Kind, m.Own)
		}
	}
	if len(u.place) == 0 {
		columns = append(columns, engine.Column{Name: "document", Kind: engine.Text})
	}
	u.cells = make([]engine.Cell, len(columns))
	if err := u.Rows.Columns(columns); err != nil {
		return err
	}
	for _, w := range u.waiting {
		if err := u.row(w.before, w.members); err != nil {
			return err
		}
	}
	u.waiting = nil
	return nil
}

// common gives the kind of a column in which there are values of two kinds.
func common(a, b engine.Kind) engine.Kind {
	switch {
	case a == b || b == engine.Null:
		return a
	case a == engine.Null:
		return b
	case a.Numeric() && b.Numeric():
		return engine.Float
	}
	return engine.Text
}

func (u *unfolded) row(before []engine.Cell, members []engine.Member) error {
	for i := range u.cells {
		u.cells[i] = engine.Cell{Null: true}
	}
	copy(u.cells, before)
	for _, m := range members {
		at, known := u.place[m.Name]
		switch {
		case known:
			u.cells[at] = m.Cell
		case u.fixed:
			return &LateName{m.Name, u.rows, u.first, len(u.cells) >= mostNames}
		case !slices.Contains(u.late, m.Name) && len(u.late) < 10:
			u.late = append(u.late, m.Name)
		}
	}
	return u.Rows.Row(u.cells)
}

// Done implements Rows.
func (u *unfolded) Done(s engine.Summary) error {
	err := u.begin()
	if e := u.Rows.Done(s); err == nil {
		err = e
	}
	if len(u.late) > 0 {
		for i, name := range u.late {
			u.late[i] = outside.Text(name)
		}
		fmt.Fprintf(u.errs, "note: the columns are those of the first %d documents, and later ones have more "+
			"names: %s; --as jsonl prints all of them\n",
			u.first, strings.Join(u.late, ", "))
	}
	return err
}

// Failed implements Rows.
func (u *unfolded) Failed(err error) error {
	_ = u.begin()
	return u.Rows.Failed(err)
}
