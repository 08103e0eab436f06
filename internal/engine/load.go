package engine

import (
	"context"
	"fmt"

	"gentle-harbor/internal/finding"
)

// Loads is the ability of a [Loader].
const Loads Ability = "take rows into a table"

// Field is a value of a row that goes into a table, as a text.
type Field struct {
	Text []byte
	Null bool
}

// RowSource gives rows. A row is good until the next one is read; the error is io.EOF at the end.
type RowSource interface {
	Next() ([]Field, error)
}

// Shape is what a table looks like.
type Shape struct {
	Schema, Table string
	Columns       []ShapeColumn
	// Near names tables that there are, where this one is not: then there are no columns.
	Near []string
	// Undoable is false where the table is kept in a way that cannot take changes back; Kept says
	// in which.
	Undoable bool
	Kept     string
}

// ShapeColumn is a column of a table.
type ShapeColumn struct {
	Name, Type string
	Made       bool // the server makes its values
	Bytes      bool // its values are bytes
}

// Load is rows that go into a table.
type Load struct {
	Into    Shape
	Columns []ShapeColumn // those that each row has, in its order
	Rows    RowSource
	// EmptyFirst deletes what is in the table, in the same transaction.
	EmptyFirst bool
}

// Loader is a session that takes rows into a table.
type Loader interface {
	// Shape says what a table looks like; schema is "" for where a name alone is looked for.
	Shape(ctx context.Context, schema, table string) (Shape, error)
	// Load puts all rows into a table, in one transaction, and gives how many. A row that the
	// server does not take as it is keeps all from being stored: the error is then a *RowError.
	// What [RowSource] says against a row is given as it is.
	Load(ctx context.Context, l Load) (int64, error)
}

// RowError is the error of a row that a server does not take.
type RowError struct {
	Row    int64  // from 1; 0 where the server does not say which
	Column string // "" for not known
	Value  Field  // of that column
	Wanted string // the column's type
	Err    error
}

// Error gives the server's error.
func (e *RowError) Error() string { return fmt.Sprintf("row %d: %v", e.Row, e.Err) }

// Unwrap gives the server's error.
func (e *RowError) Unwrap() error { return e.Err }

// NotUndoable is the problem of a table that cannot take changes back.
func NotUndoable(s Shape) error {
	return &finding.Problem{Code: finding.QueryNotUndoable,
		Facts: finding.Facts{finding.FactWhat: s.Table, finding.FactState: s.Kept}}
}
