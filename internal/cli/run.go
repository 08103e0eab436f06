package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
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
				return errors.New(harbor.FlagMark + "--as takes table, csv or json")
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
		if name, ok := c.Env("GHARBOR_PROFILE"); ok && name != "" {
			c.names = []string{name, c.names[0]}
		}
	}
	if len(c.names) != 2 {
		return usage("run wants a profile's name and one statement, in quotes: gharbor run NAME \"select 1\"")
	}
	statement := c.names[1]
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
	switch {
	case c.json:
		c.as = "json"
	case c.as == "json":
		c.json = true
	}
	return c.connected(ctx, c.names[0], func(session engine.Session) error {
		out := report.RowsAs(c.as, c.Stdout, c.Stderr, c.escapeFormulas)
		runner, can := engine.As[engine.Runner](session)
		if !can {
			return engine.Cannot("run statements")
		}
		summary, err := runner.Run(ctx, statement, out)
		if err != nil {
			return out.Failed(err)
		}
		return out.Done(summary)
	})
}

// connected opens a session as a profile says and hands it to work. A failure, on the way or in work, is
// printed as a finding.
func (c *call) connected(ctx context.Context, name string, work func(engine.Session) error) error {
	to, err := c.Aim(ctx, name, false)
	if err != nil {
		return err
	}
	checker := c.Checker(to.Known)
	var session engine.Session
	report := checkup.NotAgreed(to.Effective, to.NotAgreed)
	if to.Admitted.OK() {
		if session, report, err = checker.Open(ctx, to.Admitted); err != nil {
			return err
		}
	}
	if session == nil {
		if c.json {
			if err := writeJSON(c.Stdout, map[string]any{"columns": []string{}, "rows": []any{}, "finding": report.Finding}); err != nil {
				return err
			}
		}
		printFinding(c.Stderr, *report.Finding, to.Name)
		return exit{Code: report.Exit}
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
	printFinding(c.Stderr, f, to.Name)
	return exit{Code: checkup.Exit(f.Leg)}
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
	run: runSurvey,
}

func runSurvey(ctx context.Context, c *call) error {
	if len(c.names) == 1 {
		if name, ok := c.Env("GHARBOR_PROFILE"); ok && name != "" {
			c.names = []string{name, c.names[0]}
		}
	}
	if len(c.names) != 2 || c.names[1] != "databases" {
		return usage("survey wants a profile's name and what to list: gharbor survey NAME databases")
	}
	return c.connected(ctx, c.names[0], func(session engine.Session) error {
		lister, can := engine.As[engine.Lister](session)
		if !can {
			return engine.Cannot("list databases")
		}
		list, err := lister.Databases(ctx)
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
