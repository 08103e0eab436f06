package report

import (
	"bufio"
	"errors"
	"fmt"
	"io"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// RowForms are the forms in which rows are printed. All but table and json have room for one result with rows.
var RowForms = []string{"table", "csv", "tsv", "json", "jsonl", "bare"}

// ErrSecondResult is the error of a second result with rows, in a form that has room for one.
var ErrSecondResult = errors.New("a second statement has rows")

// Results prints the results of statements, in their order.
type Results struct {
	Form      string // of RowForms; "" for a table
	Out, Errs io.Writer
	Formulas  bool  // csv: texts that a spreadsheet takes for formulas get an apostrophe
	NoHeader  bool  // csv and tsv: without the columns' names
	Limit     int64 // how many rows of each result are printed, 0 for all

	withRows, printed int
	open              bool // JSON is begun
}

// Next gives the printer of the next statement's result.
func (r *Results) Next() Rows {
	var rows Rows
	_, atTerminal := Terminal(r.Out)
	switch r.Form {
	case "csv", "tsv", "bare":
		rows = &linesPrinter{to: bufio.NewWriter(Bare(r.Out)), errs: r.Errs, clean: atTerminal, formulas: r.Formulas && r.Form == "csv", header: !r.NoHeader && r.Form != "bare", form: r.Form}
	case "jsonl":
		rows = &objectPrinter{to: bufio.NewWriter(Bare(r.Out)), errs: r.Errs}
	case "json":
		rows = &jsonPrinter{to: Bare(r.Out)}
	default:
		rows = &tablePrinter{out: r.Out, errs: r.Errs, right: map[int]bool{}}
	}
	return &result{Rows: rows, of: r}
}

// single reports whether a form has room for one result with rows.
func (r *Results) single() bool { return r.Form != "" && r.Form != "table" && r.Form != "json" }

// Open reports whether JSON was begun and is to be ended.
func (r *Results) Open() bool { return r.open }

// End ends the output; f is the finding that ended the run, nil for none.
func (r *Results) End(f *finding.Finding) error {
	if r.Form != "json" {
		return nil
	}
	to := Bare(r.Out)
	if !r.open {
		fmt.Fprint(to, `{"results":[`)
	}
	r.open = false
	end := "]}\n"
	if f != nil {
		end = fmt.Sprintf("],\"finding\":%s}\n", CompactJSON(f))
	}
	_, err := io.WriteString(to, end)
	return err
}

// result is one of several.
type result struct {
	Rows
	of      *Results
	rows    int64
	begun   bool
	skipped int64
}

// begin prints what is before a result.
func (r *result) begin() {
	if r.begun {
		return
	}
	r.begun = true
	of := r.of
	switch {
	case of.Form == "json" && of.open:
		fmt.Fprint(Bare(of.Out), ",\n")
	case of.Form == "json":
		of.open = true
		fmt.Fprint(Bare(of.Out), `{"results":[`)
	case !of.single() && of.printed > 0:
		fmt.Fprintln(of.Out)
	}
	of.printed++
}

func (r *result) Columns(columns []engine.Column) error {
	if r.of.withRows++; r.of.withRows > 1 && r.of.single() {
		return ErrSecondResult
	}
	r.begin()
	return r.Rows.Columns(columns)
}

func (r *result) Row(cells []engine.Cell) error {
	if r.rows++; r.of.Limit > 0 && r.rows > r.of.Limit {
		r.skipped++ // it is read on, so that the statement ends as it would
		return nil
	}
	return r.Rows.Row(cells)
}

func (r *result) Done(s engine.Summary) error {
	r.begin()
	if r.skipped > 0 {
		s.Rows -= r.skipped
	}
	err := r.Rows.Done(s)
	if r.skipped > 0 {
		fmt.Fprintf(r.of.Errs, "note: --limit leaves out %s\n", Count(r.skipped, "row"))
	}
	return err
}

func (r *result) Failed(err error) error {
	if r.begun {
		return r.Rows.Failed(err)
	}
	return err
}
