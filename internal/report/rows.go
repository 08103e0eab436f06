package report

import (
	"bufio"
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
			row[i] = t.cell(hexadecimal(cell.Text[:min(len(cell.Text), cellLimit)]))
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

// linesPrinter prints a row a line: CSV (RFC 4180), or values with tabs between them.
type linesPrinter struct {
	to       *bufio.Writer
	errs     io.Writer
	clean    bool // for a terminal
	formulas bool // texts that a spreadsheet takes for formulas get an apostrophe
	header   bool
	form     string
	columns  []engine.Column
}

func (p *linesPrinter) Columns(columns []engine.Column) error {
	p.columns = columns
	if !p.header {
		return nil
	}
	for i, c := range columns {
		p.cell(i, c.Name, false, !p.formulas)
	}
	return p.to.WriteByte('\n')
}

func (p *linesPrinter) Row(cells []engine.Cell) error {
	for i, cell := range cells {
		of, text := p.columns[i], cell.Text
		if of.Kind == engine.Bytes && !cell.Null {
			text = hexadecimal(text)
		}
		p.cell(i, text, cell.Null, of.Kind == engine.Boolean || of.Kind == engine.Bytes || of.Number(text))
	}
	return p.to.WriteByte('\n')
}

// hexadecimal writes bytes as \x and two digits for each.
func hexadecimal(data string) string { return `\x` + hex.EncodeToString([]byte(data)) }

var tabs = strings.NewReplacer(`\`, `\\`, "\t", `\t`, "\n", `\n`, "\r", `\r`)

// cell writes a value. Plain says that no spreadsheet takes it for a formula.
func (p *linesPrinter) cell(i int, text string, null, plain bool) {
	if p.clean {
		text = outside.Cell(text)
	}
	if p.formulas && !plain {
		text = noFormula(text)
	}
	between := byte('\t')
	switch {
	case p.form == "csv":
		between = ','
		// Nothing is null, and "" the empty text. PostgreSQL's copy takes a line \. for the end of the data.
		if !null && (text == "" || text == `\.` || strings.ContainsAny(text, ",\"\r\n") || text[0] == ' ' || text[len(text)-1] == ' ') {
			text = `"` + strings.ReplaceAll(text, `"`, `""`) + `"`
		}
	case p.form == "tsv" && null:
		text = `\N`
	case p.form == "tsv":
		text = tabs.Replace(text)
	}
	if i > 0 {
		_ = p.to.WriteByte(between)
	}
	_, _ = p.to.WriteString(text) // Flush gives its error
}

// Bytes implements engine.Rows.
func (p *linesPrinter) Bytes([]byte) error { return ErrOwnFormat }

// noFormula puts an apostrophe before a text that a spreadsheet program would take for a formula.
func noFormula(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r\n", rune(text[0])) {
		return "'" + text
	}
	return text
}

func (p *linesPrinter) Done(s engine.Summary) error {
	if p.columns == nil && s.Affected >= 0 {
		fmt.Fprintln(p.errs, Count(s.Affected, "row")+" changed")
	}
	return p.to.Flush()
}

func (p *linesPrinter) Failed(err error) error {
	_ = p.to.Flush()
	return err
}

// objectPrinter prints a row as a JSON object in a line of its own.
type objectPrinter struct {
	to      *bufio.Writer
	errs    io.Writer
	columns []engine.Column
	names   []string // each once, as JSON
}

func (p *objectPrinter) Columns(columns []engine.Column) error {
	p.columns = columns
	had := map[string]bool{}
	for _, c := range columns {
		name := c.Name
		for n := 2; had[name]; n++ {
			name = fmt.Sprintf("%s (%d)", c.Name, n)
		}
		had[name] = true
		p.names = append(p.names, string(CompactJSON(name)))
	}
	return nil
}

func (p *objectPrinter) Row(cells []engine.Cell) error {
	_ = p.to.WriteByte('{')
	for i, cell := range cells {
		if i > 0 {
			_ = p.to.WriteByte(',')
		}
		var is any
		if !cell.Null {
			is, _ = value(p.columns[i], cell.Text)
		}
		fmt.Fprintf(p.to, "%s:%s", p.names[i], CompactJSON(is))
	}
	_, err := p.to.WriteString("}\n")
	return err
}

// Bytes implements engine.Rows.
func (p *objectPrinter) Bytes([]byte) error { return ErrOwnFormat }

func (p *objectPrinter) Done(s engine.Summary) error {
	if p.columns == nil && s.Affected >= 0 {
		fmt.Fprintln(p.errs, Count(s.Affected, "row")+" changed")
	}
	return p.to.Flush()
}

func (p *objectPrinter) Failed(err error) error {
	_ = p.to.Flush()
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
		return hexadecimal(text), "bytes"
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
		_, err := fmt.Fprintf(p.to, "\n],\"types\":%s}", CompactJSON(p.types))
		return err
	}
	affected := ""
	if s.Affected >= 0 {
		affected = fmt.Sprintf(",\"affected\":%d", s.Affected)
	}
	_, err := fmt.Fprintf(p.to, `{"columns":[],"rows":[]%s}`, affected)
	return err
}

// Failed ends what was begun, so that the whole stays JSON.
func (p *jsonPrinter) Failed(err error) error {
	if p.begun {
		_, _ = io.WriteString(p.to, "\n]}")
	}
	return err
}
