package cli

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/script"
	"gentle-harbor/internal/talk"
)

// The outside commands that work in a session: those that are about its profile, whose name is
// put in, and the others.
var (
	talkNamed = []string{"survey", "run", "load", "history", "show"}
	talkOther = []string{"meaning"}
	talkOwn   = []string{"as", "database", "leave", "help"}
)

// does does what was typed. Its error ends the session.
func (t *talker) does(ctx context.Context, in talk.Input) error {
	if in.Words != nil {
		return t.word(ctx, in.Words)
	}
	for _, s := range in.Statements {
		done, err := t.statement(ctx, s)
		if err != nil || !done {
			return err // those after it were not run
		}
	}
	return nil
}

// statement runs one statement and prints what it gives; done says that it did not fail. Its
// error ends the session.
func (t *talker) statement(ctx context.Context, s script.Statement) (done bool, ended error) {
	bound, err := script.Bind(t.language, s, script.Values{})
	if err != nil {
		t.tell(usage("%v", err))
		return false, nil
	}
	errs := &heldWords{to: t.Stderr}
	out := &report.Results{Form: t.form, Out: t.Stdout, Errs: errs, Took: t.took, Before: func() {}, Null: t.settings.Null}
	r := &statementRun{call: t.call, program: &script.Program{Language: t.language}, of: 1, out: out,
		errs: errs, level: t.level}
	plan := &guard.Plan{}
	if t.place.Transaction != engine.FailedTransaction { // there nothing can be asked, and nothing is done
		plan.Add(t.language, t.level, bound.To, "the statement")
	}
	err = t.during(ctx, func(ctx context.Context) error {
		ctx, stop := context.WithCancel(ctx)
		defer stop()
		if t.settings.Page != "never" {
			out.Tables = func() report.Rows {
				return &pagedRows{t: t, errs: errs, null: t.settings.Null, stop: stop,
					plain: report.NewTable(t.Stdout, errs, t.settings.Null)}
			}
		}
		counted := func(ctx context.Context, session engine.Session) string { return t.counted(ctx, session, bound.To) }
		return t.again(ctx, harbor.Work{Needs: engine.Runs, Plan: func() *guard.Plan { return plan },
			Counted: counted, Do: func(session engine.Session, _ engine.Language, explain func(error) error) error {
				runner, can := engine.As[engine.Runner](session)
				if !can {
					return engine.Cannot(string(engine.Runs))
				}
				return r.one(ctx, runner, script.Step{Bound: bound, N: 1}, explain)
			}})
	})
	_ = out.End(nil, nil)
	t.tell(err)
	if err == nil {
		if t.language.Follow != nil {
			t.language.Lexical = t.language.Follow(t.language.Lexical, bound.To)
		}
		t.renewed(ctx, bound.To)
		if slices.Contains([]string{"create", "drop", "alter", "rename", "use"}, t.language.First(bound.To)) {
			t.names = nil // they are asked for before the next prompt
		}
	}
	return err == nil, t.after(ctx, err)
}

// counted says how many rows an update or a delete would change, as far as that can be counted
// before.
func (t *talker) counted(ctx context.Context, session engine.Session, statement string) string {
	first := t.language.First(statement)
	if first != "update" && first != "delete" {
		return ""
	}
	const unknown = "how many rows is not known"
	counting, can := talk.Counting(t.language, statement)
	runner, runs := engine.As[engine.Runner](session)
	if !can || !runs {
		return unknown
	}
	of := &countedRows{}
	if _, err := runner.Run(ctx, engine.Statement{Text: counting}, of); err != nil || of.text == "" {
		return unknown
	}
	if of.text == "1" {
		return "1 row now"
	}
	return outside.Cell(of.text) + " rows now"
}

// countedRows takes the one value of a result.
type countedRows struct{ text string }

// Columns implements engine.Rows.
func (*countedRows) Columns([]engine.Column) error { return nil }

// Row implements engine.Rows.
func (n *countedRows) Row(cells []engine.Cell) error {
	n.text = cells[0].Text
	return nil
}

// Bytes implements engine.Rows.
func (*countedRows) Bytes([]byte) error { return engine.Malformed("data instead of a number") }

// during does something that Ctrl-C ends.
func (t *talker) during(ctx context.Context, do func(ctx context.Context) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	before := t.caught.Load()
	presses := 0
	end := func() {
		switch presses++; presses {
		case 1:
			fmt.Fprintln(t.Stderr, "\nEnding the statement at the server … Ctrl-C again drops the connection.")
		case 2:
			if dropper, can := t.session.(engine.Dropper); can {
				dropper.Drop()
			}
		}
		cancel()
	}
	t.caught.Store(&end)
	defer t.caught.Store(before)
	err := do(ctx)
	if errors.Is(err, engine.ErrGoesOn) {
		t.Note("%s: it could not be told to end it", engine.ErrGoesOn)
	}
	return err
}

// renewed asks for the user again, where a statement may have changed it.
func (t *talker) renewed(ctx context.Context, statement string) {
	first := t.language.First(statement)
	text := strings.ToLower(statement)
	changes := first == "set" && (strings.Contains(text, "role") || strings.Contains(text, "authorization")) ||
		first == "reset" || first == "discard"
	about, can := t.session.(interface {
		Facts(ctx context.Context) (engine.Facts, error)
	})
	if !changes || !can {
		return
	}
	if facts, err := about.Facts(ctx); err == nil {
		t.place.User = outside.Cell(cmp.Or(facts.Account, facts.User))
		t.place.Superuser = facts.Superuser != nil && *facts.Superuser
	}
}

// after takes in where the session is after something that gave an error, nil for none; its own
// error is [errLost] where there is no session any more.
func (t *talker) after(ctx context.Context, err error) error {
	was := t.place.Transaction
	var failed *harbor.Failed
	doubtful := err != nil && (!errors.As(err, &failed) || failed.Err == nil || !engine.Refused(failed.Err))
	if doubtful {
		limited, cancel := context.WithTimeout(ctx, 3*time.Second)
		defer cancel()
		if err := t.session.Ask(limited); err != nil && !engine.Refused(err) {
			t.lost(was)
			return errLost
		}
	}
	t.stand()
	return nil
}

// lost says what went with the connection.
func (t *talker) lost(was engine.Transaction) {
	with := "temporary tables and what set has changed are gone"
	if was != engine.NoTransaction {
		with = "the transaction is undone, and " + with
	}
	fmt.Fprintf(t.Stderr, "The connection is lost: %s. The next statement opens it anew.\n", with)
}

// word does what comes after the lead word. Its error ends the session.
func (t *talker) word(ctx context.Context, words []string) error {
	if len(words) == 0 {
		words = []string{"help"}
	}
	all := slices.Concat(talkNamed, talkOther, talkOwn)
	switch word := words[0]; {
	case word == "leave":
		if t.mayLeave(ctx) {
			return errLeave
		}
	case word == "as":
		if len(words) != 2 || !slices.Contains(report.RowForms, words[1]) {
			t.tell(usage("as takes a form: %s, such as gharbor as csv", strings.Join(report.RowForms, ", ")))
			return nil
		}
		t.form = words[1]
	case word == "database":
		if len(words) != 2 {
			t.tell(usage("database takes one name, such as gharbor database archive"))
			return nil
		}
		return t.move(ctx, words[1])
	case word == "help":
		t.help(words[1:])
	case slices.Contains(talkNamed, word), slices.Contains(talkOther, word):
		return t.command(ctx, words)
	case t.find(word) != nil:
		t.tell(usage("%s does not work in a session. Leave first: gharbor leave", word))
	default:
		near := profile.Nearest(word, all)
		if near != "" {
			t.tell(usage("there is no word %q in a session; did you mean %s?", clip(word), near))
			return nil
		}
		t.tell(usage("there is no word %q in a session. To see them all: gharbor help", clip(word)))
	}
	return nil
}

// help prints the words of the session, or the help of one.
func (t *talker) help(of []string) {
	if len(of) > 0 {
		if cmd := t.find(of[0]); cmd != nil {
			_ = printPage(t.Stdout, cmd.help)
			return
		}
	}
	rows := [][]string{
		{"gharbor survey [LIST]", "what is there, and who may do what"},
		{"gharbor run --from FILE", "run the statements of a file here"},
		{"gharbor load TABLE FILE", "put the rows of a file into a table"},
		{"gharbor show", "the profile's settings"}, {"gharbor history", "its tests"},
		{"gharbor meaning CODE", "what a finding means"},
		{"gharbor as FORM", "print results as " + strings.Join(report.RowForms, ", ")},
		{"gharbor database NAME", "open another database"},
		{"gharbor help [COMMAND]", "this list, or all about a command"}, {"gharbor leave", "end, as Ctrl-D does"},
	}
	for _, row := range rows {
		fmt.Fprintf(t.Stdout, "  %-24s  %s\n", row[0], row[1])
	}
	fmt.Fprintln(t.Stdout, "\nA semicolon ends a statement. Ctrl-C gives up what was typed, or ends a "+
		"statement that runs.")
}

// move opens another database: in the same session where the engine can, else by a new connection.
func (t *talker) move(ctx context.Context, database string) error {
	if t.place.Transaction != engine.NoTransaction {
		t.tell(usage("a transaction is open; commit or rollback comes first, then: gharbor database %s", clip(database)))
		return nil
	}
	if t.session == nil {
		t.before = t.place.Database
		t.setDatabase(database)
		return nil
	}
	if switcher, can := engine.As[engine.Switcher](t.session); can {
		err := t.during(ctx, func(ctx context.Context) error {
			return t.again(ctx, harbor.Work{Needs: engine.Runs,
				Do: func(engine.Session, engine.Language, func(error) error) error {
					return switcher.Switch(ctx, database)
				}})
		})
		t.tell(err)
		if err == nil {
			t.setDatabase(database)
			t.names = nil
		}
		return t.after(ctx, err)
	}
	t.before = t.place.Database
	t.setDatabase(database)
	fmt.Fprintln(t.Stderr, "A new connection is made for it: temporary tables and what set has changed are gone.")
	return errMoves
}

func (t *talker) setDatabase(database string) {
	t.Set["database"] = profile.Value{Text: database,
		Origin: profile.Origin{Layer: profile.LayerFlag, Name: "gharbor database"}}
}

// command carries an outside command out in this session.
func (t *talker) command(ctx context.Context, words []string) error {
	cmd := t.find(words[0])
	args := words[1:]
	inner := t.newCall(cmd)
	inner.Connects = cmd.connects
	// a command that was proposed has the name
	if slices.Contains(talkNamed, words[0]) && (len(args) == 0 || args[0] != t.name) {
		args = append([]string{t.name}, args...)
	}
	needs := slices.Contains([]string{"survey", "run", "load"}, words[0])
	if needs && t.session == nil {
		t.tell(wrong("there is no connection now; the next statement opens it, such as: select 1;"))
		return nil
	}
	inner.borrowed = func(ctx context.Context, work harbor.Work) error {
		if t.place.Transaction == engine.FailedTransaction {
			return wrong("the transaction has failed, and takes nothing but its end: rollback;")
		}
		return t.again(ctx, work)
	}
	err := inner.parse(args)
	if errors.Is(err, flag.ErrHelp) {
		_ = printPage(t.Stdout, cmd.help)
		return nil
	}
	if err != nil {
		t.tell(cmd.withExample(err))
		return nil
	}
	if err = inner.oneForm(); err == nil {
		err = t.during(ctx, func(ctx context.Context) error { return inner.carriedOut(ctx) })
	}
	t.tell(err)
	if !needs {
		return nil
	}
	return t.after(ctx, err)
}
