package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/script"
)

var runCommand = command{
	name: "run", synopsis: "NAME|GROUP/ [STATEMENT…]", about: "run statements in one session, and print their rows",
	text: `A semicolon is between two statements, in an argument and in --from FILE; a routine's body is one with its statement. All run in their
order, the arguments first, in one session; the first that fails ends the run, unless --keep-going is given. STATEMENT - is read from
standard input, and so is --from -.

A file is checked to its end before its first statement runs. A line "-- gharbor: include FILE" in it includes a file of the same folder. Lines
of another client are errors, unless --include-word, --end-word or --pass-over says what they are for. --dry lists what would run.

A value stands where {{name}} is in a statement, outside of quotes, and comes from --let or --let-from. It goes to the server beside the
text and never becomes a part of it: whatever it holds, it is one value. Its kind is one of integer, decimal, boolean, text, bytes, date,
time, timestamp and json; --let NAME:null has no value. Give values so, and never build a statement's text from them.

The profile's guard says what statements may do: read-only refuses what may change something, confirm asks first. At a terminal, what
takes a table or all rows away is asked about without a guard, too.

With a group (huts/), --labelled or --all the statements read in each of those profiles, side by side, and their rows are one result with a
column profile before the others. One that fails is listed at the end, and does not stop the others; --each runs what changes something.

Each result is printed: as tables, or with --as json as one object. --as csv, tsv, jsonl (an object a row) and bare (the values alone, a
tab between them) have room for one result with rows: a second one ends the run; --result NUMBER picks one. In csv nothing is null and ""
the empty text; in tsv null is \N, and tabs, line ends and backslashes are escaped. Bytes are \x and two digits for each. --limit counts
the rows of each result.

Rows are printed as they come, and one is in memory at a time. One that is larger than 64MB ends the run; --largest SIZE
allows more.

What a statement copies in is read from standard input, and what it copies out goes to standard output, as it is.

A server of documents takes one command, an object of Extended JSON. Its documents are rows: a table and csv have a column for each name
at the top of the first 100 documents, and json and jsonl the documents themselves; --exact writes the type of each value there. A value
stands where one of JSON can be, and --let NAME:json takes Extended JSON, such as an object id. $db is for --database to say.

CSV has the data as it is. A spreadsheet program takes a text that begins with = + - @, a tab or a line break for a
formula and may run it: open rows that others have written with --escape-formulas.`,
	examples: []string{`gharbor run huts/local "select name, height from hut order by height"`,
		`gharbor run huts/local "select name from hut where height > {{least}}" --let least:integer=900`,
		`gharbor run huts/local "select * from booking" --as csv --to bookings.csv`,
		`gharbor run huts/local "select 1; select 2" --json`,
		`gharbor run huts/local "select count(*) from hut" --as bare`,
		`gharbor run huts/local --from season.sql --all-or-nothing`,
		`gharbor run huts/ "select count(*) from booking"`,
		`gharbor run huts/local "copy hut from stdin (format csv)" < huts.csv`,
		`gharbor run archive/snow '{"find": "snow_depth", "filter": {"day": {{day}}}}' --let day=2026-11-20`},
	settings: true, connects: true, json: true,
	options: optionsOf[runOptions],
}

type runOptions struct {
	statementInput
	as             string
	to             string
	escapeFormulas bool
	noHeader       bool
	exact          bool
	took           bool
	keepGoing      bool
	allOrNothing   bool
	dry            bool
	limit          int
	result         int
	largest        int
	most           time.Duration
	yes            bool
	each           bool
	choice
}

func (o *runOptions) flags(f flagSet, _ *harbor.Run) {
	f.wordFlag("as", report.RowForms, "table", &o.as)
	o.statementInput.flags(f)
	f.textFlag("to", &o.to)
	f.onFlag("escape-formulas", &o.escapeFormulas)
	f.onFlag("no-header", &o.noHeader)
	f.onFlag("took", &o.took)
	f.onFlag("exact", &o.exact)
	f.onFlag("dry", &o.dry)
	f.onFlag("keep-going", &o.keepGoing)
	f.onFlag("all-or-nothing", &o.allOrNothing)
	f.numberFlag("limit", 1, 1<<31-1, 0, &o.limit)
	f.numberFlag("result", 1, 1<<31-1, 0, &o.result)
	f.sizeFlag("largest", &o.largest)
	f.spanFlag("for", 0, &o.most)
	f.onFlag("yes", &o.yes)
	f.onFlag("each", &o.each)
	f.onFlag("all", &o.All)
	f.listFlag("labelled", &o.Labels)
	f.numberFlag("parallel", 1, 256, 8, &o.parallel)
}

// form gives where the form is.
func (o *runOptions) form() *string { return &o.as }

func (o *runOptions) run(ctx context.Context, c *call) (err error) {
	if o.keepGoing && o.allOrNothing {
		return usage("--keep-going goes on after a failure, and --all-or-nothing undoes everything then: give " +
			"one of them, such as --all-or-nothing")
	}
	if o.to == "-" {
		return usage("without --to the rows go to standard output; --to takes the name of a new file, such as --to huts.csv")
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	chosen := o.All || len(o.Labels) > 0
	name, program, in, err := o.program(ctx, c, chosen)
	if err != nil {
		return err
	}
	several := chosen || strings.HasSuffix(name, "/") && !profile.IsConnectionString(name)
	if o.each && !several {
		return usage("--each is for several profiles, such as gharbor run huts/ \"delete from snow_depth\" --each")
	}
	if several {
		if err := o.onlyOnce(program, in); err != nil {
			return err
		}
	}
	if o.dry {
		return listStatements(ctx, c, name, program, statementGate{undo: o.allOrNothing, free: in != nil})
	}
	out := &report.Results{Form: o.as, Out: c.Stdout, Errs: c.Stderr, Formulas: o.escapeFormulas,
		NoHeader: o.noHeader, Limit: int64(o.limit), Took: o.took, Only: o.result}
	keep := func() error { return nil }
	if o.to != "" {
		draft, err := files.Begin(c.Path(o.to))
		if err != nil {
			return newFileError(c.Path(o.to), err)
		}
		defer draft.Drop() // after Keep there is nothing to drop
		written := &report.Output{To: draft, Failed: cancel}
		out.Out = written
		keep = func() error { return o.kept(c, draft, written.Err()) }
	}
	if several {
		err := (&severalRun{call: c, choice: o.choice, program: program, out: out, result: o.result,
			largest: o.largest, exact: o.exact, most: o.most, each: o.each, yes: o.yes, keepGoing: o.keepGoing,
			allOrNothing: o.allOrNothing}).run(ctx, name)
		if err != nil || o.to == "" {
			return err
		}
		return keep()
	}
	r := &statementRun{call: c, program: program, in: in, out: out, errs: c.Stderr, largest: o.largest,
		exact: o.exact, most: o.most, keepGoing: o.keepGoing, allOrNothing: o.allOrNothing}
	loads := false
	work := harbor.Work{Needs: engine.Runs, Agreed: o.yes, Plan: func() *guard.Plan { return r.plan },
		Files: func() bool { return loads }, Ready: func(language engine.Language, level guard.Level) error {
			program.Language, r.level, r.plan = language, level, &guard.Plan{Open: program.Pipes()}
			all, err := checkProgram(program, r.gate(), nil)
			if err != nil {
				return err
			}
			if r.bytes, loads = all.bytes, all.files; !program.Pipes() {
				r.of = all.statements
			} else {
				c.Note("statements from a pipe run as they come: what is after a mistake in them was not looked at before")
			}
			return nil
		}}
	if _, atTerminal := width(c.Stderr); atTerminal {
		work.Changing = func(whom string) {
			out.Before()
			fmt.Fprintf(c.Stderr, "%s\n", whom)
		}
	}
	err = connected(ctx, c, name, work, r.end, func(runner engine.Runner, explain func(error) error) error {
		return r.work(ctx, runner, explain)
	})
	if err == nil && o.result > out.WithRows() {
		err = noResult(o.result, out)
	}
	if err != nil {
		if out.Open() { // what was printed stays one object; why it ended early is on standard error
			c.json = false
			err = errors.Join(out.End(nil, nil), err)
		}
		return err
	}
	if err := out.End(nil, nil); err != nil && o.to == "" {
		return err
	}
	return keep()
}

// onlyOnce refuses what several profiles cannot share.
func (o *runOptions) onlyOnce(p *script.Program, in io.Reader) error {
	switch {
	case p.Pipes():
		return usage("standard input can be read once, and several profiles need the statements: put them into " +
			"a file, such as --from huts.sql")
	case o.took:
		return usage("--took is for one profile: leave it out, or name one profile, such as gharbor run " +
			"huts/local \"select 1\" --took")
	case o.dry:
		return usage("--dry is for one profile: name one, such as gharbor run huts/local \"select 1\" --dry")
	}
	return nil
}

// kept gives the new file its name; failed is what kept rows from being written into it.
func (o *runOptions) kept(c *call, draft *files.Draft, failed error) error {
	if failed == nil {
		failed = draft.Keep()
	}
	if failed != nil {
		return newFileError(c.Path(o.to), failed)
	}
	c.Note("the rows are in %s", c.Path(o.to))
	return nil
}

// newFileError says why there is no new file.
func newFileError(path string, err error) error {
	if errors.Is(err, fs.ErrExist) {
		return wrong("%s is there already, and is not overwritten; name another file", path)
	}
	return wrong("%s could not be written, and is not there: %s", path, systemWord(err))
}
