package report

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// RowForms are the forms in which rows are printed. All but table and json have room for one
// result with rows.
var RowForms = []string{"table", "csv", "tsv", "json", "jsonl", "bare"}

// ErrSecondResult is the error of a second result with rows, in a form that has room for one.
var ErrSecondResult = errors.New("a second result has rows")

// Results prints the results of statements, in their order.
type Results struct {
	Form      string // of RowForms; "" for a table
	Out, Errs io.Writer
	Formulas  bool  // csv: texts that a spreadsheet takes for formulas get an apostrophe
	NoHeader  bool  // csv and tsv: without the columns' names
	Limit     int64 // how many rows of each result are printed, 0 for all
	Took      bool  // how long each statement took is said
	Only      int   // print the result with rows of this number alone, from 1; 0 for all
	// Now is the clock, nil for the system's.
	Now func() time.Time
	// Sink gives what takes the rows of a result instead of a printer; the form has room for one
	// then. It may be nil.
	Sink func() Rows
	// Tables gives what prints the rows of each result as a table, instead of the usual; it may
	// be nil. Null is what a table shows for no value, "" for the usual sign.
	Tables func() Rows
	Null   string
	// Failed is what failed beside the results, for JSON; nil for nothing.
	Failed any
	// Before is called before something is printed, to take away what is painted there; it may be nil.
	Before func()

	quiet, changed    int64 // results of scripts that are not printed one by one, and rows that they changed
	withRows, printed int
	listed            bool // the last result that was printed had rows
	open              bool // JSON is begun
	unclosed          bool // and a result in it
}

// WithRows gives how many results had rows.
func (r *Results) WithRows() int { return r.withRows }

// single reports whether the form has room for one result with rows.
func (r *Results) single() bool {
	return r.Sink != nil || r.Form != "" && r.Form != "table" && r.Form != "json"
}

// Next gives the printer of the next statement's results. It is to be told when the statement
// begins to run: that is when it is made.
func (r *Results) Next() *Printed {
	p := &Printed{of: r}
	p.began = p.now()
	return p
}

func (r *Results) rows() Rows {
	if r.Sink != nil {
		return r.Sink()
	}
	_, atTerminal := Terminal(r.Out)
	switch r.Form {
	case "csv", "tsv", "bare":
		return &unfolded{fixed: true, errs: r.Errs,
			Rows: &linesPrinter{to: bufio.NewWriterSize(Bare(r.Out), 64<<10), errs: r.Errs, clean: atTerminal,
				formulas: r.Formulas && r.Form == "csv", header: !r.NoHeader && r.Form != "bare", form: r.Form}}
	case "jsonl":
		return &objectPrinter{to: bufio.NewWriterSize(Bare(r.Out), 64<<10), errs: r.Errs}
	case "json":
		return &jsonPrinter{to: Bare(r.Out)}
	}
	if r.Tables != nil {
		return r.Tables()
	}
	return &unfolded{errs: r.Errs, Rows: newTable(r.Out, r.Errs, r.Null)}
}

// Open reports whether JSON was begun and is to be ended.
func (r *Results) Open() bool { return r.open }

// End ends the output; f is the finding that ended the run, nil for none, and at where its
// statement is, nil for not known.
func (r *Results) End(f *finding.Finding, at any) error {
	if r.Form != "json" {
		return nil
	}
	to := Bare(r.Out)
	if !r.open {
		fmt.Fprint(to, `{"results":[`)
	}
	end := "]"
	if r.unclosed {
		end = "}]"
	}
	r.open, r.unclosed = false, false
	if r.Failed != nil {
		end += fmt.Sprintf(",\"failed\":%s", CompactJSON(r.Failed))
	}
	if f != nil {
		end += fmt.Sprintf(",\"finding\":%s", CompactJSON(f))
	}
	if f != nil && at != nil {
		end += fmt.Sprintf(",\"at\":%s", CompactJSON(at))
	}
	_, err := io.WriteString(to, end+"}\n")
	return err
}

// Summed says on Errs what the statements did that were not printed one by one; nothing where
// there was none.
func (r *Results) Summed() {
	if r.quiet > 0 {
		fmt.Fprintf(r.Errs, "%s without rows, %s changed\n", Count(r.quiet, "statement"), Count(r.changed, "row"))
	}
	r.quiet, r.changed = 0, 0
}

// Printed prints what one statement gives: its results, and what the server says beside them.
type Printed struct {
	// Quiet says that the statement is one of many: what it did is summed up, where it has no rows.
	Quiet bool

	of      *Results
	rows    Rows // of the current result, nil before the first
	n       int64
	skipped int64
	begun   bool
	hidden  bool // the current result is not the one that is wanted
	notices []engine.Notice
	began   time.Time
	first   time.Time // when the first row came
}

func (p *Printed) now() time.Time {
	if p.of.Now != nil {
		return p.of.Now()
	}
	return time.Now()
}

// begin prints what is before a result, with rows or without.
func (p *Printed) begin(rows bool) {
	if p.begun {
		return
	}
	p.begun = true
	if p.of.Before != nil {
		p.of.Before()
	}
	if p.rows == nil {
		p.rows = p.of.rows()
	}
	of := p.of
	switch {
	case of.Form == "json" && of.open:
		fmt.Fprint(Bare(of.Out), ",\n")
	case of.Form == "json":
		of.open = true
		fmt.Fprint(Bare(of.Out), `{"results":[`)
	case !of.single() && of.printed > 0 && (of.listed || rows): // what statements without rows did is a line each
		fmt.Fprintln(of.Out)
	}
	of.listed = rows
	of.printed++
}

// Columns implements engine.Rows.
func (p *Printed) Columns(columns []engine.Column) error {
	if p.rows != nil || p.hidden { // a further result of the same statement
		if err := p.done(engine.Summary{Rows: p.n, Affected: -1}); err != nil {
			return err
		}
	}
	p.of.withRows++
	if p.hidden = p.of.Only > 0 && p.of.withRows != p.of.Only; p.hidden {
		return nil
	}
	if p.of.Only == 0 && p.of.withRows > 1 && p.of.single() {
		p.of.withRows--
		return ErrSecondResult
	}
	p.begin(true)
	p.of.unclosed = p.of.Form == "json"
	return p.rows.Columns(columns)
}

// Row implements engine.Rows.
func (p *Printed) Row(cells []engine.Cell) error {
	if p.n++; p.n == 1 && p.of.Took {
		p.first = p.now()
	}
	if p.hidden || p.of.Limit > 0 && p.n > p.of.Limit {
		p.skipped++ // it is read on, so that the statement ends as it would
		return nil
	}
	return p.rows.Row(cells)
}

// Bytes implements engine.Rows.
func (p *Printed) Bytes(data []byte) error {
	if p.of.Form != "" && p.of.Form != "table" {
		return ErrOwnFormat
	}
	if p.first.IsZero() && p.of.Took {
		p.first = p.now()
	}
	p.begin(true)
	return p.rows.Bytes(data)
}

// Heard prints a notice of the server's, and keeps it for JSON.
func (p *Printed) Heard(n engine.Notice) {
	p.notices = append(p.notices, n)
	if p.of.Before != nil {
		p.of.Before()
	}
	printNotice(p.of.Errs, n)
}

// printNotice prints what a server says beside a result. Its texts are clean.
func printNotice(w io.Writer, n engine.Notice) {
	fmt.Fprintf(w, "%s (%s): %s\n", n.Level, n.Number, n.Text)
	if !n.Detail.Empty() {
		fmt.Fprintf(w, "  detail: %s\n", n.Detail)
	}
	if !n.Hint.Empty() {
		fmt.Fprintf(w, "  hint: %s\n", n.Hint)
	}
}

// done ends one result.
func (p *Printed) done(s engine.Summary) error {
	if p.hidden {
		p.n, p.skipped, p.hidden = 0, 0, false
		return nil
	}
	if p.Quiet && !p.begun && p.of.Form != "json" && !s.Copied {
		p.of.quiet++
		p.of.changed += max(0, s.Affected)
		return nil
	}
	p.begin(false)
	s.Rows -= p.skipped
	_, isJSON := p.rows.(*jsonPrinter)
	err := p.rows.Done(s)
	if isJSON {
		more := ""
		if len(p.notices) > 0 {
			list := []map[string]string{}
			for _, n := range p.notices {
				one := map[string]string{"level": n.Level, "code": n.Number, "text": n.Text.String()}
				if !n.Detail.Empty() {
					one["detail"] = n.Detail.String()
				}
				if !n.Hint.Empty() {
					one["hint"] = n.Hint.String()
				}
				list = append(list, one)
			}
			more = fmt.Sprintf(",\"notices\":%s", CompactJSON(list))
		}
		if first, last, ok := p.took(); ok {
			more += fmt.Sprintf(",\"first_row_ms\":%.3f,\"last_row_ms\":%.3f",
				float64(first.Microseconds())/1000, float64(last.Microseconds())/1000)
		}
		p.of.unclosed = false
		if _, e := fmt.Fprint(Bare(p.of.Out), more+"}"); err == nil {
			err = e
		}
	}
	if p.skipped > 0 {
		fmt.Fprintf(p.of.Errs, "note: --limit leaves out %s\n", Count(p.skipped, "row"))
	}
	p.rows, p.n, p.skipped, p.begun = nil, 0, 0, false
	return err
}

// took gives how long it was to the first row, and to the last.
func (p *Printed) took() (first, last time.Duration, ok bool) {
	if !p.of.Took {
		return 0, 0, false
	}
	last = p.now().Sub(p.began)
	if first = last; !p.first.IsZero() {
		first = p.first.Sub(p.began)
	}
	return first, last, true
}

// Done ends a statement that is whole.
func (p *Printed) Done(s engine.Summary) error {
	first, last, ok := p.took()
	rows := p.n > 0
	err := p.done(s)
	if s.Unheard > 0 {
		fmt.Fprintf(p.of.Errs, "note: the server said %s more\n", Count(s.Unheard, "thing"))
	}
	if ok && rows {
		fmt.Fprintf(p.of.Errs, "took %s to the first row, %s to the last\n", brief(first), brief(last))
	} else if ok {
		fmt.Fprintf(p.of.Errs, "took %s\n", brief(last))
	}
	return err
}

// brief writes a time with three digits at the most.
func brief(d time.Duration) string {
	switch {
	case d >= 100*time.Second:
		return d.Round(time.Second).String()
	case d >= time.Second:
		return d.Round(10 * time.Millisecond).String()
	case d >= time.Millisecond:
		return d.Round(10 * time.Microsecond).String()
	}
	return d.Round(time.Microsecond).String()
}

// Ended ends the statement's part of JSON with what its failure means, and where it is.
func (p *Printed) Ended(f *finding.Finding, at any) error {
	if p.of.Form != "json" {
		return nil
	}
	if !p.of.unclosed {
		p.begin(false)
		fmt.Fprint(Bare(p.of.Out), `{"columns":[],"rows":[]`)
	}
	p.of.unclosed = false
	_, err := fmt.Fprintf(Bare(p.of.Out), ",\"finding\":%s,\"at\":%s}", CompactJSON(f), CompactJSON(at))
	return err
}

// Failed is told of an error in the middle, and gives it on. What was printed of the result stays.
func (p *Printed) Failed(err error) error {
	if p.begun && p.rows != nil {
		err = p.rows.Failed(err)
	}
	return err
}

// Marked gives a line of a text, as much of it as fits, and a line with a mark below one of its
// characters, from 1.
func Marked(line string, column, width int) (text, mark string) {
	runes := []rune(line)
	at := max(0, min(column-1, len(runes)))
	before, after := string(runes[:at]), string(runes[at:])
	if at > width*2/3 {
		before = "…" + string(runes[at-width*2/3+1:at])
	}
	before = outside.Cell(strings.ReplaceAll(before, "\t", " "))
	after = outside.Cell(strings.ReplaceAll(after, "\t", " "))
	if room := max(10, width-wide(before)); wide(after) > room {
		kept := 0
		for i, r := range after {
			if kept += wide(string(r)); kept > room-1 {
				after = after[:i] + "…"
				break
			}
		}
	}
	return before + after, strings.Repeat(" ", wide(before)) + "^"
}
