package report

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/outside"

	"github.com/dustin/go-humanize"
)

// ListForms are the forms in which lists are printed.
var ListForms = []string{"table", "csv", "json"}

// List prints a list of what a server has.
type List struct {
	Form      string // of ListForms; "" for a table
	Out, Errs io.Writer
	// Name is what JSON calls it.
	Name string
	// Begin is called before the first row of a table; it may be nil. Without names columns that
	// a table leaves out.
	Begin   func()
	Without []string

	rows  Rows
	shown []int // the columns that a table shows
	of    []engine.Column
	n     int64
}

// Columns implements engine.Rows. A table leaves out columns that the server does not know, and
// those that need more room.
func (l *List) Columns(columns []engine.Column) error {
	l.of = slices.Clone(columns)
	l.rows = (&Results{Form: l.Form, Out: l.Out, Errs: io.Discard}).rows()
	var heads []engine.Column
	for i, c := range columns {
		if l.isTable() {
			if c.Kind == engine.Null || c.Type == engine.TypeMore || slices.Contains(l.Without, c.Name) {
				continue
			}
			c.Name = strings.ReplaceAll(c.Name, "_", " ")
		}
		heads, l.shown = append(heads, c), append(l.shown, i)
	}
	return l.rows.Columns(heads)
}

func (l *List) isTable() bool { return l.Form == "" || l.Form == "table" }

// Row implements engine.Rows.
func (l *List) Row(cells []engine.Cell) error {
	if l.n++; l.n == 1 && l.isTable() && l.Begin != nil {
		l.Begin()
	}
	row := make([]engine.Cell, len(l.shown))
	for i, at := range l.shown {
		if row[i] = cells[at]; l.isTable() {
			row[i] = engine.Cell{Text: listed(l.of[at], cells[at])}
		}
	}
	return l.rows.Row(row)
}

// longText is how many characters of a long text a table has.
const longText = 80

// listed gives a value as a table has it.
func listed(c engine.Column, cell engine.Cell) string {
	switch {
	case cell.Null:
		return "?"
	case c.Kind == engine.Boolean && cell.Text == "true":
		return "yes"
	case c.Kind == engine.Boolean:
		return "no"
	case c.Type == engine.TypeSize:
		return ReadableBytes(cell.Text)
	case c.Type == engine.TypeLong:
		text := strings.Join(strings.Fields(cell.Text), " ")
		if runes := []rune(text); len(runes) > longText {
			text = string(runes[:longText]) + "…"
		}
		return text
	}
	return cell.Text
}

// ReadableBytes gives a number of bytes as people read it; what is none stays as it is.
func ReadableBytes(text string) string {
	n, err := strconv.ParseUint(text, 10, 63)
	if err != nil {
		return outside.Cell(text)
	}
	return humanize.IBytes(n)
}

// Bytes implements engine.Rows.
func (l *List) Bytes([]byte) error { return ErrOwnFormat }

// shownSight is a sight as JSON has it.
type shownSight struct {
	All       bool   `json:"all"`
	Hidden    string `json:"hidden,omitempty"`
	Right     string `json:"right,omitempty"`
	Statement string `json:"statement,omitempty"`
	NotKnown  string `json:"not_known,omitempty"`
	Note      string `json:"note,omitempty"`
}

// SightJSON gives a sight as JSON has it.
func SightJSON(s engine.Sight) any {
	return shownSight{s.All(), s.Hidden, s.Right, s.Statement, s.Why, s.Note}
}

// End ends a list. JSON has more, a text of further keys with a comma before each; what does not
// fit into rows is said by [Sight].
func (l *List) End(s engine.Sight, unknown []string, left int64, more string) error {
	if l.rows == nil {
		if l.Form == "json" {
			_, err := fmt.Fprintf(Bare(l.Out), `{"columns":[],"rows":[],"types":[]%s}`+"\n", l.tail(s, unknown, left)+more)
			return err
		}
		return nil
	}
	if l.n == 0 && l.isTable() { // a head without a body says nothing
		return nil
	}
	if err := l.rows.Done(engine.Summary{Rows: l.n, Affected: -1}); err != nil || l.Form != "json" {
		return err
	}
	_, err := io.WriteString(Bare(l.Out), l.tail(s, unknown, left)+more+"}\n")
	return err
}

func (l *List) tail(s engine.Sight, unknown []string, left int64) string {
	if unknown == nil {
		unknown = []string{}
	}
	return fmt.Sprintf(`,"of":"list","list":%s,"sight":%s,"unknown":%s,"left_out":%d`, CompactJSON(l.Name),
		CompactJSON(SightJSON(s)), CompactJSON(unknown), left)
}

// Failed ends a list in the middle; JSON has what the failure means, as [List.End] has more.
func (l *List) Failed(more string) error {
	switch {
	case l.Form != "json" && l.rows != nil:
		return l.rows.Failed(nil)
	case l.Form != "json":
		return nil
	case l.rows == nil:
		_, err := fmt.Fprintf(Bare(l.Out), `{"columns":[],"rows":[],"of":"list"%s}`+"\n", more)
		return err
	}
	_ = l.rows.Failed(nil)
	_, err := io.WriteString(Bare(l.Out), `,"of":"list"`+more+"}\n")
	return err
}

// Sight says what a list does not show, and what would show it.
func Sight(w io.Writer, s engine.Sight) {
	switch {
	case s.Why != "":
		Wrapped(w, "note: ", "  ", "not known here: "+outside.Cell(s.Why))
	case s.Hidden != "":
		line := "not shown: " + outside.Cell(s.Hidden) + "."
		if s.Right != "" {
			line += " " + strings.ToUpper(s.Right[:1]) + outside.Cell(s.Right[1:]) + " shows it."
		}
		if s.Statement != "" {
			line += " An administrator gives it with:"
		}
		Wrapped(w, "note: ", "  ", line)
		if s.Statement != "" {
			fmt.Fprintf(w, "  %s\n", outside.Cell(s.Statement))
		}
	}
	if s.Note != "" {
		Wrapped(w, "note: ", "  ", outside.Cell(s.Note))
	}
}
