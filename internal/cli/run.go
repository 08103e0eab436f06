package cli

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

var runCommand = command{
	name: "run", synopsis: "NAME STATEMENT", about: "run one statement and print its rows",
	text: `STATEMENT - is read from standard input. Rows are printed as a table, or with --as csv or --as json.

CSV holds the data as it is. A spreadsheet program takes a text that begins with = + - @, a tab or a line break for a
formula and may run it: open rows that others have written with --escape-formulas.`,
	examples: []string{`gharbor run huts/local "select name, height from hut order by height"`, `gharbor run huts/local "select * from booking" --as csv`},
	settings: true, connects: true, json: true,
	flags: func(fs *flag.FlagSet, c *call) {
		fs.Func("as", "how to print rows: table, csv or json", func(text string) error {
			if text != "table" && text != "csv" && text != "json" {
				return errors.New(flagMark + "--as takes table, csv or json")
			}
			c.as = text
			return nil
		})
		fs.BoolVar(&c.escapeFormulas, "escape-formulas", false, "with --as csv, put an apostrophe before texts that a spreadsheet would take for a formula")
	},
	run: runRun,
}

func runRun(ctx context.Context, c *call) error {
	if len(c.names) == 1 {
		if name, ok := c.env("GHARBOR_PROFILE"); ok && name != "" {
			c.names = []string{name, c.names[0]}
		}
	}
	if len(c.names) != 2 {
		return usage("run wants a profile's name and one statement, in quotes: gharbor run NAME \"select 1\"")
	}
	statement := c.names[1]
	if statement == "-" {
		text, err := c.readAll(16 << 20)
		if err != nil {
			return wrong("standard input could not be read: %v", err)
		}
		statement = text
	}
	if strings.TrimSpace(statement) == "" {
		return usage("the statement is empty")
	}
	switch {
	case c.json:
		c.as = "json"
	case c.as == "json":
		c.json = true
	}
	return c.connected(ctx, c.names[0], func(session engine.Session) error {
		out := c.printer()
		summary, err := session.Run(ctx, statement, out)
		if err != nil {
			return out.failed(err)
		}
		return out.done(summary)
	})
}

// connected opens a session as a profile says and hands it to work. A failure, on the way or in work, is
// printed as a finding.
func (c *call) connected(ctx context.Context, name string, work func(engine.Session) error) error {
	to, err := c.target(ctx, name, false)
	if err != nil {
		return err
	}
	checker := c.checker(to.known)
	var session engine.Session
	report := checkup.NotAgreed(to.Effective, to.notAgreed)
	if to.admitted.OK() {
		if session, report, err = checker.Open(ctx, to.admitted); err != nil {
			return err
		}
	}
	if session == nil {
		if c.json {
			if err := writeJSON(c.Stdout, map[string]any{"columns": []string{}, "rows": []any{}, "finding": report.Finding}); err != nil {
				return err
			}
		}
		c.printFinding(c.Stderr, *report.Finding, to.Name)
		return exit{code: report.Exit}
	}
	defer session.Close()
	err = work(session)
	var failure *finding.Problem
	if ctx.Err() != nil || !errors.As(err, &failure) {
		return err
	}
	f, err2 := checker.Explain(session, failure)
	if err2 != nil {
		return err2
	}
	if c.json {
		fmt.Fprintf(c.Stdout, `%s"finding":%s}`+"\n", jsonTail(err), compactJSON(f))
	}
	c.printFinding(c.Stderr, f, to.Name)
	return exit{code: checkup.Exit(f.Leg)}
}

// cut is a failure that came when part of the JSON was printed already.
type cut struct{ error }

func (c cut) Unwrap() error { return c.error }

// jsonTail gives what must come before a finding's key, so that the whole stays JSON.
func jsonTail(err error) string {
	var begun cut
	if errors.As(err, &begun) {
		return "\n]," // in the middle of rows
	}
	return `{"columns":[],"rows":[],`
}

// printer prints a statement's result.
type printer interface {
	engine.Rows
	done(engine.Summary) error
	// failed is told of an error in the middle, and gives it on.
	failed(error) error
}

func (c *call) printer() printer {
	switch c.as {
	case "csv":
		_, atTerminal := terminal(c.Stdout)
		return &csvPrinter{to: csv.NewWriter(bare(c.Stdout)), call: c, escape: atTerminal}
	case "json":
		return &jsonPrinter{to: c.Stdout}
	}
	return &tablePrinter{call: c, right: map[int]bool{}}
}

// A table must be held whole to know its widths: tableLimit is how many rows it holds, tableBytes how many bytes all its
// cells may have, and cellLimit how many characters of one cell it shows.
const (
	tableLimit = 10_000
	tableBytes = 16 << 20
	cellLimit  = 4 << 10
)

type tablePrinter struct {
	call     *call
	headings []string
	rows     [][]string
	right    map[int]bool
	left     int64
	bytes    int
	cut      bool // a cell is not shown whole
}

func (t *tablePrinter) Columns(names []string) error {
	for _, name := range names {
		t.headings = append(t.headings, outside.Cell(name))
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
		switch cell.Kind {
		case engine.Null:
			row[i] = "(null)"
		default:
			row[i] = t.cell(cell.Text)
			t.bytes += len(row[i])
		}
		if len(t.rows) == 0 {
			t.right[i] = cell.Kind == engine.Number
		}
	}
	t.rows = append(t.rows, row)
	return nil
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

func (t *tablePrinter) done(s engine.Summary) error {
	if t.headings != nil {
		rowsTable(t.call.Stdout, t.headings, t.rows, t.right)
	}
	if t.cut {
		fmt.Fprintf(t.call.Stderr, "note: cells of more than %d bytes are cut; --as csv prints them whole\n", cellLimit)
	}
	switch {
	case t.left > 0:
		fmt.Fprintf(t.call.Stderr, "note: the first %d of %d rows; --as csv prints all\n", len(t.rows), s.Rows)
	case t.headings != nil:
		fmt.Fprintln(t.call.Stderr, count(s.Rows, "row"))
	case s.Affected >= 0:
		fmt.Fprintln(t.call.Stdout, count(s.Affected, "row")+" changed")
	case s.Tag != "":
		fmt.Fprintln(t.call.Stdout, "Done: "+outside.Cell(s.Tag))
	default:
		fmt.Fprintln(t.call.Stdout, "Done.")
	}
	return nil
}

func (t *tablePrinter) failed(err error) error { return err }

func count(n int64, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

type csvPrinter struct {
	to     *csv.Writer
	call   *call
	escape bool
	record []string
}

func (p *csvPrinter) Columns(names []string) error {
	p.record = make([]string, len(names))
	for i, name := range names {
		p.record[i] = p.safe(name)
		if p.call.escapeFormulas {
			p.record[i] = noFormula(p.record[i])
		}
	}
	return p.to.Write(p.record)
}

func (p *csvPrinter) Row(cells []engine.Cell) error {
	for i, cell := range cells {
		p.record[i] = p.safe(cell.Text)
		if p.call.escapeFormulas && cell.Kind == engine.Text {
			p.record[i] = noFormula(p.record[i])
		}
	}
	return p.to.Write(p.record)
}

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

func (p *csvPrinter) done(s engine.Summary) error {
	p.to.Flush()
	if p.record == nil && s.Affected >= 0 {
		fmt.Fprintln(p.call.Stderr, count(s.Affected, "row")+" changed")
	}
	return p.to.Error()
}

func (p *csvPrinter) failed(err error) error {
	p.to.Flush()
	return err
}

type jsonPrinter struct {
	to    io.Writer
	begun bool
	rows  int
}

func (p *jsonPrinter) Columns(names []string) error {
	p.begun = true
	_, err := fmt.Fprintf(p.to, "{\"columns\":%s,\"rows\":[", compactJSON(names))
	return err
}

func (p *jsonPrinter) Row(cells []engine.Cell) error {
	row := make([]any, len(cells))
	for i, cell := range cells {
		switch cell.Kind {
		case engine.Null:
		case engine.Number:
			row[i] = json.Number(cell.Text)
		case engine.Boolean:
			row[i] = cell.Text == "true"
		default:
			row[i] = cell.Text
		}
	}
	comma := ","
	if p.rows == 0 {
		comma = ""
	}
	p.rows++
	_, err := fmt.Fprintf(p.to, "%s\n  %s", comma, compactJSON(row))
	return err
}

func (p *jsonPrinter) done(s engine.Summary) error {
	if p.begun {
		_, err := fmt.Fprintln(p.to, "\n]}")
		return err
	}
	result := map[string]any{"columns": []string{}, "rows": []any{}}
	if s.Affected >= 0 {
		result["affected"] = s.Affected
	}
	return writeJSON(p.to, result)
}

func (p *jsonPrinter) failed(err error) error {
	if p.begun {
		return cut{err}
	}
	return err
}

var surveyCommand = command{
	name: "survey", synopsis: "NAME databases", about: "list what a server has: its databases, for now",
	text:     "Only what this user can see is listed.",
	examples: []string{"gharbor survey huts/local databases"},
	settings: true, connects: true, json: true,
	run: runSurvey,
}

func runSurvey(ctx context.Context, c *call) error {
	if len(c.names) == 1 {
		if name, ok := c.env("GHARBOR_PROFILE"); ok && name != "" {
			c.names = []string{name, c.names[0]}
		}
	}
	if len(c.names) != 2 || c.names[1] != "databases" {
		return usage("survey wants a profile's name and what to list: gharbor survey NAME databases")
	}
	return c.connected(ctx, c.names[0], func(session engine.Session) error {
		list, err := session.Databases(ctx)
		if err != nil {
			return err
		}
		if c.json {
			cells := [][]any{}
			for _, d := range list {
				cells = append(cells, []any{d.Name, d.Owner, d.Encoding, d.MayOpen, d.Open})
			}
			return writeJSON(c.Stdout, map[string]any{"columns": []string{"database", "owner", "encoding", "may_open", "open"}, "rows": cells})
		}
		headings := []string{"database", "encoding", "may open", "open now"}
		owned := slices.ContainsFunc(list, func(d engine.Database) bool { return d.Owner != "" })
		if owned {
			headings = append(headings, "owner")
		}
		var rows [][]string
		for _, d := range list {
			row := []string{outside.Cell(d.Name), outside.Cell(d.Encoding), yes(d.MayOpen, "yes", "no"), yes(&d.Open, "yes", "")}
			if owned {
				row = append(row, outside.Cell(d.Owner))
			}
			rows = append(rows, row)
		}
		rowsTable(c.Stdout, headings, rows, nil)
		return nil
	})
}
