package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
)

var runCommand = command{
	name: "run", synopsis: "NAME STATEMENT", about: "run one statement and print its rows",
	text: `STATEMENT - is read from standard input. Rows are printed as a table, or with --as csv or --as json.

Rows are printed as they come, and one is in memory at a time. One that is larger than 64MB ends the run; --largest SIZE
allows more.

What a statement copies in is read from standard input, and what it copies out goes to standard output, as it is.

CSV has the data as it is. A spreadsheet program takes a text that begins with = + - @, a tab or a line break for a
formula and may run it: open rows that others have written with --escape-formulas.`,
	examples: []string{`gharbor run huts/local "select name, height from hut order by height"`, `gharbor run huts/local "select * from booking" --as csv`,
		`gharbor run huts/local "copy hut from stdin (format csv)" < huts.csv`},
	settings: true, connects: true, json: true,
	options: optionsOf[runOptions],
}

type runOptions struct {
	as             string
	escapeFormulas bool
	largest        int
}

func (o *runOptions) flags(fs flagSet, _ *harbor.Run) {
	fs.wordFlag("as", []string{"table", "csv", "json"}, "table", &o.as)
	fs.onFlag("escape-formulas", &o.escapeFormulas)
	fs.sizeFlag("largest", &o.largest)
}

// form gives where the form is.
func (o *runOptions) form() *string { return &o.as }

func (o *runOptions) run(ctx context.Context, c *call) error {
	name, statement, ok := c.profileAnd()
	if !ok {
		return usage("run needs a profile's name and one statement, in quotes: gharbor run huts/local \"select 1\"")
	}
	if err := c.Inputs(name, statement); err != nil {
		return err
	}
	in := c.Unread(name, statement)
	if statement == "-" {
		text, err := c.ReadAll(16 << 20)
		if err != nil {
			return wrong("standard input could not be read: %v", err)
		}
		statement = text
	}
	if strings.TrimSpace(statement) == "" {
		return usage("the statement is empty")
	}
	return connected(ctx, c, name, engine.Runs, func(runner engine.Runner) error {
		out := report.RowsAs(o.as, c.Stdout, c.Stderr, o.escapeFormulas)
		summary, err := runner.Run(ctx, engine.Statement{Text: statement, In: in, Largest: o.largest}, out)
		if errors.Is(err, report.ErrOwnFormat) {
			return usage("%v: leave out --as and --json, and say the format there: copy … to stdout (format csv, header)", err)
		}
		if err != nil {
			return out.Failed(err)
		}
		return out.Done(summary)
	})
}

// connected has work done in a session as a profile says, which has the ability that T stands for. What failed is printed as a finding.
func connected[T any](ctx context.Context, c *call, name string, needs engine.Ability, work func(T) error) error {
	err := c.Connected(ctx, name, needs, func(session engine.Session) error {
		able, can := engine.As[T](session)
		if !can {
			return engine.Cannot(string(needs))
		}
		return work(able)
	})
	if errors.Is(err, engine.ErrGoesOn) {
		c.Note("%s: it could not be told to end it", engine.ErrGoesOn)
	}
	var failed *harbor.Failed
	if !errors.As(err, &failed) {
		return err
	}
	if c.json && failed.Err == nil {
		if err := report.JSON(c.Stdout, map[string]any{"columns": []string{}, "rows": []any{}, "finding": failed.Finding}); err != nil {
			return err
		}
	} else if c.json {
		fmt.Fprintf(bare(c.Stdout), `%s"finding":%s}`+"\n", jsonTail(failed.Err), report.CompactJSON(failed.Finding))
	}
	report.Finding(c.Stderr, failed.Finding, failed.Profile)
	return world.Error{Code: failed.Exit}
}

// jsonTail gives what must come before a finding's key, so that the whole stays JSON.
func jsonTail(err error) string {
	var begun report.Cut
	if errors.As(err, &begun) {
		return "\n]," // in the middle of rows
	}
	return `{"columns":[],"rows":[],`
}

var surveyCommand = command{
	name: "survey", synopsis: "NAME databases", about: "list what a server has: its databases, for now",
	text:     "Only what this user can see is listed.",
	examples: []string{"gharbor survey huts/local databases"},
	settings: true, connects: true, json: true,
	options: without(runSurvey),
}

// surveys are what a survey can list.
var surveys = []string{"databases"}

func runSurvey(ctx context.Context, c *call) error {
	name, what, ok := c.profileAnd()
	if !ok || !slices.Contains(surveys, what) {
		return usage("survey needs a profile's name and what to list: gharbor survey huts/local databases")
	}
	return connected(ctx, c, name, engine.Lists, func(lister engine.Lister) error {
		list, err := lister.Databases(ctx)
		if err != nil {
			return err
		}
		if c.json {
			cells := [][]any{}
			for _, d := range list {
				cells = append(cells, []any{d.Name, d.Owner, d.Encoding, d.MayOpen, d.Open})
			}
			return report.JSON(c.Stdout, map[string]any{"columns": []string{"database", "owner", "encoding", "may_open", "open"}, "rows": cells})
		}
		headings := []string{"database", "encoding", "may open", "open now"}
		owned := slices.ContainsFunc(list, func(d engine.Database) bool { return d.Owner != "" })
		if owned {
			headings = append(headings, "owner")
		}
		var rows [][]string
		for _, d := range list {
			row := []string{outside.Cell(d.Name), outside.Cell(d.Encoding), report.Yes(d.MayOpen, "yes", "no"), report.Yes(&d.Open, "yes", "")}
			if owned {
				row = append(row, outside.Cell(d.Owner))
			}
			rows = append(rows, row)
		}
		report.Table(c.Stdout, headings, rows, nil)
		return nil
	})
}
