package report

import (
	"encoding/base64"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/outside"
)

// Cut is a failure that came when part of the JSON was printed already.
type Cut struct{ error }

// Unwrap gives the failure.
func (c Cut) Unwrap() error { return c.error }

// Rows prints a statement's result.
type Rows interface {
	engine.Rows
	// Done ends a result that is whole.
	Done(engine.Summary) error
	// Failed is told of an error in the middle, and gives it on.
	Failed(error) error
}

// ErrOwnFormat is the error for a form of rows that was asked for, with a statement whose data comes in a format of its own.
var ErrOwnFormat = errors.New("what a statement copies out has the format that the statement says")

// RowsAs gives the printer of a form: "csv", "json", or "" for a table. Notes go to errs.
func RowsAs(form string, out, errs io.Writer, escapeFormulas bool) Rows {
	switch form {
	case "csv":
		_, atTerminal := Terminal(out)
		return &csvPrinter{to: csv.NewWriter(Bare(out)), errs: errs, escape: atTerminal, escapeFormulas: escapeFormulas}
	case "json":
		return &jsonPrinter{to: Bare(out)}
	}
	return &tablePrinter{out: out, errs: errs, right: map[int]bool{}}
}

// A table must be held whole to know its widths: tableLimit is how many rows it holds, tableBytes how many bytes all its
// cells may have, and cellLimit how many characters of one cell it shows.
const (
	tableLimit = 10_000
	tableBytes = 16 << 20
	cellLimit  = 4 << 10
)

type tablePrinter struct {
	out, errs io.Writer
	columns   []engine.Column
	headings  []string
	rows      [][]string
	right     map[int]bool
	left      int64
	bytes     int
	cut       bool // a cell is not shown whole
}

func (t *tablePrinter) Columns(columns []engine.Column) error {
	t.columns = columns
	for i, c := range columns {
		t.headings, t.right[i] = append(t.headings, outside.Cell(c.Name)), c.Kind.Numeric()
	}
	return nil
}

func (t *tablePrinter) Row(cells []engine.Cell) error {
	if len(t.rows) == tableLimit || t.bytes > tableBytes {
		t.left++
		return nil
	}
	row := make([]string, len(cells))
	for i, cell := range cells {
		switch {
		case cell.Null:
			row[i] = "(null)"
		case t.columns[i].Kind == engine.Bytes:
			row[i] = t.cell("0x" + hex.EncodeToString([]byte(cell.Text[:min(len(cell.Text), cellLimit)])))
			t.bytes += len(row[i])
		default:
			row[i] = t.cell(cell.Text)
			t.bytes += len(row[i])
		}
	}
	t.rows = append(t.rows, row)
	return nil
}

// Bytes implements engine.Rows: no form was asked for, so the data goes out as it is; a terminal gets it clean.
func (t *tablePrinter) Bytes(data []byte) error {
	to := Copied(t.out)
	if _, atTerminal := Terminal(to); !atTerminal {
		to = Bare(to)
	}
	_, err := to.Write(data)
	return err
}

func (t *tablePrinter) cell(text string) string {
	if len(text) > cellLimit {
		end := cellLimit
		for end > cellLimit-utf8.UTFMax && !utf8.RuneStart(text[end]) {
			end--
		}
		t.cut = true
		return outside.Cell(text[:end]) + "…"
	}
	return outside.Cell(text)
}

func (t *tablePrinter) Done(s engine.Summary) error {
	if t.headings != nil {
		Table(t.out, t.headings, t.rows, t.right)
	}
	if t.cut {
		fmt.Fprintf(t.errs, "note: cells of more than %d bytes are cut; --as csv prints them whole\n", cellLimit)
	}
	switch {
	case s.Copied:
		fmt.Fprintln(t.errs, Count(s.Rows, "row"))
	case t.left > 0:
		fmt.Fprintf(t.errs, "note: the first %d of %d rows; --as csv prints all\n", len(t.rows), s.Rows)
	case t.headings != nil:
		fmt.Fprintln(t.errs, Count(s.Rows, "row"))
	case s.Affected >= 0:
		fmt.Fprintln(t.out, Count(s.Affected, "row")+" changed")
	case s.Tag != "":
		fmt.Fprintln(t.out, "Done: "+outside.Cell(s.Tag))
	default:
		fmt.Fprintln(t.out, "Done.")
	}
	return nil
}

func (t *tablePrinter) Failed(err error) error { return err }

// Count says how many there are.
func Count(n int64, word string) string {
	if n == 1 {
		return "1 " + word
	}
	switch {
	case strings.HasSuffix(word, "s"):
		word += "e"
	case strings.HasSuffix(word, "ry"):
		word = strings.TrimSuffix(word, "y") + "ie"
	}
	return fmt.Sprintf("%d %ss", n, word)
}

type csvPrinter struct {
	to             *csv.Writer
	errs           io.Writer
	escape         bool
	escapeFormulas bool
	record         []string
	columns        []engine.Column
	binary         map[int]bool // columns whose values are written in base64
}

func (p *csvPrinter) Columns(columns []engine.Column) error {
	p.record, p.columns, p.binary = make([]string, len(columns)), columns, map[int]bool{}
	for i, c := range columns {
		p.record[i] = p.safe(c.Name)
		if p.escapeFormulas {
			p.record[i] = noFormula(p.record[i])
		}
	}
	return p.to.Write(p.record)
}

func (p *csvPrinter) Row(cells []engine.Cell) error {
	for i, cell := range cells {
		of := p.columns[i]
		if of.Kind == engine.Bytes && !cell.Null {
			p.record[i], p.binary[i] = base64.StdEncoding.EncodeToString([]byte(cell.Text)), true
			continue
		}
		p.record[i] = p.safe(cell.Text)
		if p.escapeFormulas && of.Kind != engine.Boolean && !of.Number(cell.Text) {
			p.record[i] = noFormula(p.record[i])
		}
	}
	return p.to.Write(p.record)
}

// Bytes implements engine.Rows.
func (p *csvPrinter) Bytes([]byte) error { return ErrOwnFormat }

// noFormula puts an apostrophe before a text that a spreadsheet program would take for a formula.
func noFormula(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r\n", rune(text[0])) {
		return "'" + text
	}
	return text
}

func (p *csvPrinter) safe(text string) string {
	if p.escape {
		return outside.Cell(text)
	}
	return text
}

func (p *csvPrinter) Done(s engine.Summary) error {
	p.to.Flush()
	for i, c := range p.columns {
		if p.binary[i] {
			fmt.Fprintf(p.errs, "note: the column %s is binary, and is written in base64 (RFC 4648)\n", outside.Cell(c.Name))
		}
	}
	if p.record == nil && s.Affected >= 0 {
		fmt.Fprintln(p.errs, Count(s.Affected, "row")+" changed")
	}
	return p.to.Error()
}

func (p *csvPrinter) Failed(err error) error {
	p.to.Flush()
	return err
}

type jsonPrinter struct {
	to      io.Writer
	begun   bool
	rows    int
	columns []engine.Column
	types   []string // of each column, as its values showed; "null" for none
}

// value gives a cell as JSON has it, and what it is there: a number has all of its digits, JSON is JSON, and what has no form of its own, such as
// NaN, is a text.
func value(c engine.Column, text string) (any, string) {
	switch {
	case c.Kind == engine.Bytes:
		return []byte(text), "base64" // RFC 4648
	case c.Kind == engine.Boolean:
		return text == "true", "boolean"
	case c.Number(text):
		return json.Number(text), "number"
	case c.Kind == engine.JSON && json.Valid([]byte(text)):
		return json.RawMessage(text), "json"
	}
	return text, "text"
}

func (p *jsonPrinter) Columns(columns []engine.Column) error {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.Name
	}
	p.begun, p.columns, p.types = true, columns, slices.Repeat([]string{"null"}, len(columns))
	_, err := fmt.Fprintf(p.to, "{\"columns\":%s,\"rows\":[", CompactJSON(names))
	return err
}

func (p *jsonPrinter) Row(cells []engine.Cell) error {
	row := make([]any, len(cells))
	for i, cell := range cells {
		if cell.Null {
			continue
		}
		var is string
		if row[i], is = value(p.columns[i], cell.Text); p.types[i] != "text" {
			p.types[i] = is
		}
	}
	comma := ","
	if p.rows == 0 {
		comma = ""
	}
	p.rows++
	_, err := fmt.Fprintf(p.to, "%s\n  %s", comma, CompactJSON(row))
	return err
}

// Bytes implements engine.Rows.
func (p *jsonPrinter) Bytes([]byte) error { return ErrOwnFormat }

func (p *jsonPrinter) Done(s engine.Summary) error {
	if p.begun {
		_, err := fmt.Fprintf(p.to, "\n],\"types\":%s}\n", CompactJSON(p.types))
		return err
	}
	result := map[string]any{"columns": []string{}, "rows": []any{}}
	if s.Affected >= 0 {
		result["affected"] = s.Affected
	}
	return JSON(p.to, result)
}

func (p *jsonPrinter) Failed(err error) error {
	if p.begun {
		return Cut{err}
	}
	return err
}
