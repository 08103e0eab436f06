package engine

import "strings"

// Kind is what the values of a column are, no matter what an engine calls their type.
type Kind string

// The kinds. A value of a kind that has no sign of its own is a text in the engine's own form.
const (
	Text         Kind = "text"
	Integer      Kind = "integer"
	Decimal      Kind = "decimal" // with all of its digits
	Float        Kind = "float"   // as many digits as lead back to the same value; it may be NaN or an infinity
	Boolean      Kind = "boolean" // the values are "true" and "false"
	Bytes        Kind = "bytes"   // the values are the bytes themselves
	Time         Kind = "time"    // with or without a date, and without a zone
	TimeWithZone Kind = "time with zone"
	Date         Kind = "date"
	Interval     Kind = "interval"
	JSON         Kind = "json" // RFC 8259
	Array        Kind = "array"
	Null         Kind = "null" // no value is anything
)

// Numeric reports whether values are numbers.
func (k Kind) Numeric() bool { return k == Integer || k == Decimal || k == Float }

// Column is a column of a result.
type Column struct {
	Name string
	// Type is the engine's name of the type, such as numeric or VARCHAR; "" for one that is not
	// known by name.
	Type string
	Kind Kind
	// Of is the kind of an array's elements, and Form takes its texts apart; nil for any other kind.
	Of   Kind
	Form ArrayForm
	// Document takes the texts of documents apart, whose values have names of their own; nil for
	// a column of anything else. Each such text is JSON (RFC 8259).
	Document DocumentForm
}

// DocumentForm takes the texts of documents apart.
type DocumentForm interface {
	// Members gives a document's values of the top level with their names, in order. Each has a
	// kind of its own.
	Members(text string) ([]Member, error)
}

// Member is a value of a document, under its name.
type Member struct {
	Name string
	Cell
}

// ArrayForm takes the texts of arrays apart. Its values can be compared.
type ArrayForm interface {
	// Elements gives an array's elements one after the other, and how many there are in each
	// dimension; there are none in an empty one.
	Elements(text string) (elements []Cell, dimensions []int, err error)
}

// Number reports whether a value of the column is a number with digits: one of a numeric kind may
// be NaN, or infinite.
func (c Column) Number(text string) bool {
	return c.Kind.Numeric() && text != "NaN" && !strings.HasSuffix(text, "Infinity")
}

// Cell is one value of a result, as text; what the text means is said by its column.
type Cell struct {
	Text string
	Null bool
	// Own is the kind of this value, in a column whose values can be of any; "" for the column's.
	Own Kind
}

// Rows receives the results of a statement. A statement without one calls none of its methods.
type Rows interface {
	// Columns is called before the rows of each result; a procedure may have several.
	Columns(columns []Column) error
	// Row is called for each row; cells is used again afterwards.
	Row(cells []Cell) error
	// Bytes is called instead of both for what a statement copies out to its client, piece by
	// piece, as the server sends it.
	Bytes(data []byte) error
}
