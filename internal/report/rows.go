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

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/outside"
)

// Rows prints a statement's result.
type Rows interface {
	engine.Rows
	// Done ends a result that is whole; JSON of it stays open for what follows.
	Done(engine.Summary) error
	// Failed is told of an error in the middle, and gives it on.
	Failed(error) error
}

// ErrOwnFormat is the error for a form of rows that was asked for, with a statement whose data
// comes in a format of its own.
var ErrOwnFormat = errors.New("what a statement copies out has the format that the statement says")

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
		if cell.Own != "" {
			of.Kind = cell.Own
		}
		if of.Kind == engine.Bytes && !cell.Null {
			text = hexadecimal(text)
		}
		p.cell(i, text, cell.Null, of.Kind == engine.Boolean || of.Kind == engine.Bytes || of.Number(text))
	}
	return p.to.WriteByte('\n')
}

// didWords says what a statement without rows did.
func didWords(s engine.Summary) string {
	switch {
	case s.Affected >= 0:
		return Count(s.Affected, "row") + " changed"
	case s.Tag != "":
		return "Done: " + outside.Cell(s.Tag)
	}
	return "Done."
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
		// Nothing is null, and "" the empty text. PostgreSQL's copy takes a line \. for the end
		// of the data.
		if !null && (text == "" || text == `\.` || strings.ContainsAny(text, ",\"\r\n") || text[0] == ' ' ||
			text[len(text)-1] == ' ') {
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
	if p.columns == nil {
		fmt.Fprintln(p.errs, didWords(s))
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
	if len(cells) == 1 && p.columns[0].Document != nil { // it is an object already
		_, err := p.to.Write(append(CompactJSON(json.RawMessage(cells[0].Text)), '\n'))
		return err
	}
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
	if p.columns == nil {
		fmt.Fprintln(p.errs, didWords(s))
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

// value gives a cell as JSON has it, and what it is there: a number has all of its digits, JSON
// is JSON, and what has no form of its own, such as NaN, is a text.
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
	case c.Kind == engine.Array && c.Form != nil:
		if elements, dimensions, err := c.Form.Elements(text); err == nil {
			return nested(engine.Column{Kind: c.Of}, elements, dimensions), "array"
		}
	}
	return text, "text"
}

// nested gives the elements of an array as JSON has them.
func nested(of engine.Column, elements []engine.Cell, dimensions []int) any {
	list := []any{}
	if len(dimensions) < 2 {
		for _, cell := range elements {
			var is any
			if !cell.Null {
				is, _ = value(of, cell.Text)
			}
			list = append(list, is)
		}
		return list
	}
	for each := len(elements) / max(1, dimensions[0]); len(elements) > 0; elements = elements[each:] {
		list = append(list, nested(of, elements[:each], dimensions[1:]))
	}
	return list
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
		_, err := fmt.Fprintf(p.to, "\n],\"types\":%s", CompactJSON(p.types))
		return err
	}
	more := ""
	switch {
	case s.Affected >= 0:
		more = fmt.Sprintf(",\"affected\":%d", s.Affected)
	case s.Tag != "":
		more = fmt.Sprintf(",\"did\":%s", CompactJSON(s.Tag))
	}
	_, err := fmt.Fprintf(p.to, `{"columns":[],"rows":[]%s`, more)
	return err
}

// Failed ends the list of rows, where it was begun.
func (p *jsonPrinter) Failed(err error) error {
	if p.begun {
		_, _ = io.WriteString(p.to, "\n]")
	}
	return err
}
