package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/script"
)

var runCommand = command{
	name: "run", synopsis: "NAME [STATEMENT…]", about: "run statements in one session, and print their rows",
	text: `Each argument is one statement: text that a shell puts into it cannot become a second one. In --from FILE a semicolon is between two, and
a statement that makes a routine goes to the end of the file. All run in their order, the arguments first, in one session; the first that
fails ends the run. STATEMENT - is read from standard input, and so is --from -.

Each result is printed: as tables, or with --as json as one object. --as csv, tsv, jsonl (an object a row) and bare (the values alone, a
tab between them) have room for one result with rows: a second one ends the run. In csv nothing is null and "" the empty text; in tsv
null is \N, and tabs, line ends and backslashes are escaped. Bytes are \x and two digits for each. --limit counts the rows of each result.

Rows are printed as they come, and one is in memory at a time. One that is larger than 64MB ends the run; --largest SIZE
allows more.

What a statement copies in is read from standard input, and what it copies out goes to standard output, as it is.

CSV has the data as it is. A spreadsheet program takes a text that begins with = + - @, a tab or a line break for a
formula and may run it: open rows that others have written with --escape-formulas.`,
	examples: []string{`gharbor run huts/local "select name, height from hut order by height"`, `gharbor run huts/local "select * from booking" --as csv`, `gharbor run huts/local "select 1" "select 2" --json`,
		`gharbor run huts/local "select count(*) from hut" --as bare`, `gharbor run huts/local "copy hut from stdin (format csv)" < huts.csv`},
	settings: true, connects: true, json: true,
	options: optionsOf[runOptions],
}

type runOptions struct {
	as             string
	from           []string
	escapeFormulas bool
	noHeader       bool
	limit          int
	largest        int
}

func (o *runOptions) flags(fs flagSet, _ *harbor.Run) {
	fs.wordFlag("as", report.RowForms, "table", &o.as)
	fs.listFlag("from", &o.from)
	fs.onFlag("escape-formulas", &o.escapeFormulas)
	fs.onFlag("no-header", &o.noHeader)
	fs.numberFlag("limit", 1, 1<<31-1, 0, &o.limit)
	fs.sizeFlag("largest", &o.largest)
}

// form gives where the form is.
func (o *runOptions) form() *string { return &o.as }

// mostScript is how large a text of statements may be.
const mostScript = 16 << 20

// texts gives the name of the profile, and the texts that are to run: the first single ones are a statement each, the others have several.
func (o *runOptions) texts(ctx context.Context, c *call) (name string, texts []string, single int, err error) {
	words := c.names
	// The environment may name the profile, where one word less is given than a profile and what to run.
	if of, is := c.Env("GHARBOR_PROFILE"); is && of != "" && len(words)+min(len(o.from), 1) == 1 {
		words = append([]string{of}, words...)
	}
	if len(words) == 0 || len(words)+len(o.from) < 2 {
		return "", nil, 0, usage("run needs a profile's name and a statement, in quotes: gharbor run huts/local \"select 1\"")
	}
	name, texts, single = words[0], slices.Clone(words[1:]), len(words)-1
	if err := c.Inputs(append(append([]string{name}, texts...), o.from...)...); err != nil {
		return "", nil, 0, err
	}
	for i, text := range texts {
		if text == "-" {
			if texts[i], err = c.ReadAll(mostScript); err != nil {
				return "", nil, 0, wrong("standard input could not be read: %v", err)
			}
		}
	}
	for _, file := range o.from {
		var text string
		if file == "-" {
			text, err = c.ReadAll(mostScript)
		} else {
			var data []byte
			data, err = files.ReadNamed(ctx, c.Path(file), mostScript+1)
			text = string(data)
		}
		if err != nil {
			return "", nil, 0, wrong("the statements of %s could not be read: %s", clip(file), systemWord(err))
		}
		texts = append(texts, text)
	}
	for _, text := range texts {
		switch {
		case len(text) > mostScript:
			return "", nil, 0, wrong("the statements are larger than %s; put them into several files", engine.Size(mostScript))
		case strings.TrimSpace(text) == "":
			return "", nil, 0, usage("the statement is empty")
		}
	}
	return name, texts, single, nil
}

func (o *runOptions) run(ctx context.Context, c *call) error {
	given := slices.Clone(c.names)
	name, texts, single, err := o.texts(ctx, c)
	if err != nil {
		return err
	}
	in := c.Unread(append(given, o.from...)...)
	out := &report.Results{Form: o.as, Out: c.Stdout, Errs: c.Stderr, Formulas: o.escapeFormulas, NoHeader: o.noHeader, Limit: int64(o.limit)}
	err = connected(ctx, c, name, engine.Runs, out.End, func(runner engine.Runner, language engine.Language) error {
		var list []script.Statement
		for i, text := range texts {
			if i < single {
				list = append(list, script.Statement{Text: text})
				continue
			}
			list = append(list, script.Split(language.Lexical, text)...)
		}
		if len(list) == 0 {
			return usage("the statement is empty")
		}
		for i, each := range list {
			if err := o.one(ctx, runner, engine.Statement{Text: each.Text, In: in, Largest: o.largest}, out, i, len(list)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		if out.Open() { // what was printed stays one object; why it ended early is on standard error
			c.json = false
			err = errors.Join(out.End(nil), err)
		}
		return err
	}
	return out.End(nil)
}

// one runs one of several statements.
func (o *runOptions) one(ctx context.Context, runner engine.Runner, statement engine.Statement, out *report.Results, i, of int) error {
	rows := out.Next()
	summary, err := runner.Run(ctx, statement, rows)
	switch {
	case err == nil:
		return rows.Done(summary)
	case errors.Is(err, report.ErrOwnFormat):
		_ = rows.Failed(err)
		return usage("%v: leave out --as and --json, and say the format there: copy … to stdout (format csv, header)", err)
	case errors.Is(err, report.ErrSecondResult):
		_ = rows.Failed(err)
		return world.Error{Code: finding.ExitDatabase, Message: fmt.Sprintf("the statement %d of %d has rows too, and %s has room for one result. Those before it ran, and it may have run too. To see all of them: --as json", i+1, of, o.as)}
	}
	if of > 1 {
		err = &atStatement{err, i + 1, of}
	}
	return rows.Failed(err)
}

// atStatement says which of several statements failed.
type atStatement struct {
	error
	n, of int
}

// Unwrap gives the failure.
func (a *atStatement) Unwrap() error { return a.error }

// connected has work done in a session as a profile says, which has the ability that T stands for. What failed is printed as a finding: in JSON by
// end, which ends what was printed before.
func connected[T any](ctx context.Context, c *call, name string, needs engine.Ability, end func(*finding.Finding) error, work func(T, engine.Language) error) error {
	err := c.Connected(ctx, name, needs, func(session engine.Session, language engine.Language) error {
		able, can := engine.As[T](session)
		if !can {
			return engine.Cannot(string(needs))
		}
		return work(able, language)
	})
	if errors.Is(err, engine.ErrGoesOn) {
		c.Note("%s: it could not be told to end it", engine.ErrGoesOn)
	}
	var failed *harbor.Failed
	if !errors.As(err, &failed) {
		return err
	}
	if c.json {
		if err := end(&failed.Finding); err != nil {
			return err
		}
	}
	var at *atStatement
	if errors.As(failed.Err, &at) {
		fmt.Fprintf(c.Stderr, "  The statement %d of %d failed. Those before it ran, and those after it did not.\n", at.n, at.of)
	}
	report.Finding(c.Stderr, failed.Finding, failed.Profile)
	return world.Error{Code: failed.Exit}
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
	failed := func(f *finding.Finding) error {
		return report.JSON(c.Stdout, map[string]any{"columns": []string{}, "rows": []any{}, "finding": f})
	}
	return connected(ctx, c, name, engine.Lists, failed, func(lister engine.Lister, _ engine.Language) error {
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
