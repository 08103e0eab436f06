package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/script"
)

// statementRun is one run of statements in one session.
type statementRun struct {
	*call
	program      *script.Program
	of           int   // how many statements there are, 0 for not known
	bytes        int64 // and of how many bytes
	in           io.Reader
	out          *report.Results
	errs         io.Writer // what is said beside the results
	largest      int
	exact        bool
	most         time.Duration // for one statement, 0 for any time
	keepGoing    bool
	allOrNothing bool
	level        guard.Level
	reads        bool        // several profiles are read
	plan         *guard.Plan // nil while it runs

	done   int // statements that were done
	last   script.Step
	failed []failedStep // the first ones
	fails  int          // how many there were
	open   bool         // a transaction is open after the last statement
}

// failedStep is a statement that failed, and what that means. It does not hold the statement.
type failedStep struct {
	why *harbor.Failed
	at  statementPlace
}

// gate is what each statement passes, each time that all of them are gone through.
func (r *statementRun) gate() statementGate {
	return statementGate{language: r.program.Language, undo: r.allOrNothing, free: r.in != nil, level: r.level,
		reads: r.reads, plan: r.plan}
}

// written has the statements taken apart as texts are written in the session, where that is not
// the usual way.
func (r *statementRun) written(ctx context.Context, runner engine.Runner) error {
	session, is := runner.(engine.Session)
	written, can := engine.As[engine.Written](session)
	if !is || !can || r.of == 1 && r.program.Sources[0].Name == "" {
		return nil
	}
	l, err := written.Written(ctx)
	if err != nil || l == r.program.Language.Lexical {
		return err
	}
	r.program.Language.Lexical = l
	all, err := checkProgram(r.program, r.gate(), nil)
	if err == nil && r.of > 0 {
		r.of = all.statements
	}
	return err
}

// work runs the statements.
func (r *statementRun) work(ctx context.Context, runner engine.Runner, explain func(error) error) error {
	r.plan = nil
	if err := r.written(ctx, runner); err != nil {
		return explain(err)
	}
	shown := newProgress(r.errs, r.bytes)
	r.out.Before = shown.away
	defer func() {
		shown.away()
		r.out.Summed()
	}()
	pass := r.gate()
	all := func() error {
		return r.program.Walk(true, func(s script.Step) error {
			shown.at("statements", int64(r.done), s.Bytes)
			if err := pass.admit(s); err != nil { // what comes from a pipe was not asked before
				return err
			}
			r.last = s
			err := r.one(ctx, runner, s, explain)
			var failed *harbor.Failed
			if !errors.As(err, &failed) {
				if err == nil {
					r.done++
				}
				return err
			}
			if r.keepGoing && engine.Refused(failed.Err) {
				return nil
			}
			return err
		})
	}
	var err error
	if r.allOrNothing {
		err = explain(runner.Together(ctx, false, all))
	} else {
		err = all()
	}
	if err == nil && len(r.failed) > 0 {
		return r.failed[0].why
	}
	var in *script.FileError
	if errors.As(err, &in) { // in what came from a pipe, or changed meanwhile
		if r.done > 0 && !r.allOrNothing {
			fmt.Fprintf(r.errs, "  %s.\n", r.before(r.last.N+1))
		}
		return misplaced(err, r.program.Language.Begins)
	}
	switch {
	case err == nil && !r.allOrNothing:
		r.ends()
	case ctx.Err() != nil && r.of != 1:
		shown.away()
		if r.allOrNothing {
			fmt.Fprintln(r.errs, "  All statements were one transaction that was interrupted: nothing of them stays.")
		} else {
			fmt.Fprintf(r.errs, "  The run was interrupted at the statement %s: %d were done before it.\n",
				r.numbered(r.last.N), r.done)
		}
	}
	return err
}

// one runs one of the statements.
func (r *statementRun) one(ctx context.Context, runner engine.Runner, s script.Step, explain func(error) error) error {
	limited, stop := ctx, context.CancelFunc(func() {})
	if r.most > 0 {
		limited, stop = context.WithTimeout(ctx, r.most)
	}
	defer stop()
	rows := r.out.Next()
	rows.Quiet = s.File != ""
	in := r.in
	if s.Data != nil {
		in = s.Data
	}
	statement := engine.Statement{Text: s.To, Values: s.Values, In: in, Largest: r.largest, Exact: r.exact,
		Heard: rows.Heard}
	if s.OpenLocal != nil {
		file, err := s.OpenLocal()
		if err != nil {
			return wrong("the file %s could not be read: %s", clip(s.Local), systemWord(err))
		}
		defer file.Close()
		statement.Local = &engine.LocalFile{Name: s.Local, From: file}
	}
	summary, err := runner.Run(limited, statement, rows)
	r.open = summary.Open
	switch {
	case err == nil:
		err = rows.Done(summary)
		if late := lateName(r.out, err); late != nil {
			return late
		}
		return err
	case errors.Is(err, report.ErrOwnFormat):
		_ = rows.Failed(err)
		return usage("%v: leave out --as and --json, and say the format there: copy … to stdout (format csv, header)", err)
	case errors.Is(err, report.ErrSecondResult):
		_ = rows.Failed(err)
		done := r.before(s.N) + ", and it may have run too"
		if r.allOrNothing {
			done = "All is undone"
		}
		if r.out.Sink != nil {
			return world.Error{Code: finding.ExitDatabase,
				Message: fmt.Sprintf("the statement %s gives a second result with rows, and each of several "+
					"profiles has room for one. To pick one: --result 2",
					r.numbered(s.N))}
		}
		return world.Error{Code: finding.ExitDatabase,
			Message: fmt.Sprintf("the statement %s gives a second result with rows, and %s has room for one. "+
				"%s. To see all of them: --as json. To pick one: --result 2",
				r.numbered(s.N), r.out.Form, done)}
	}
	if late := lateName(r.out, err); late != nil {
		_ = rows.Failed(err)
		return late
	}
	var p *finding.Problem
	if r.most > 0 && limited.Err() != nil && ctx.Err() == nil && errors.As(err, &p) {
		err = &finding.Problem{Code: finding.QueryOverTime,
			Facts: finding.Facts{finding.FactLimit: inShort(r.most)}, Number: p.Number, Err: err}
	}
	err = explain(rows.Failed(err))
	var failed *harbor.Failed
	if !errors.As(err, &failed) {
		return err
	}
	f := failedStep{failed, r.placeOf(s, failed.Err)}
	if r.fails++; r.fails <= mostListed {
		r.failed = append(r.failed, f)
	}
	r.say(f)
	if !r.keepGoing {
		return err
	}
	if e := rows.Ended(&failed.Finding, f.at); e != nil {
		return e
	}
	if engine.Refused(failed.Err) { // else it ends the run, and is said there
		report.Finding(r.errs, failed.Finding, failed.Profile)
	}
	return err
}

// placeOf gives where the server has met a mistake: in which statement, and where in it as far as
// it says so.
func (r *statementRun) placeOf(s script.Step, err error) statementPlace {
	at := statementPlace{File: s.File, Statement: s.N, Of: r.of, Done: r.done}
	var p *finding.Problem
	if !errors.As(err, &p) {
		return at
	}
	if p.At > 0 {
		spot := s.Where(s.From(byteOf(s.To, p.At)))
		at.Line, at.Column, at.Text, at.mark = spot.Line, spot.Column, spot.Text, spot.Mark
		return at
	}
	if s.File != "" {
		at.Line, at.Column = s.Line, s.Column
	}
	return at
}

// byteOf gives the byte of a text's n-th character, from 1.
func byteOf(text string, n int) int {
	for i := range text {
		if n--; n == 0 {
			return i
		}
	}
	return len(text)
}

// say says which statement failed, where in it, and what is known of the others.
func (r *statementRun) say(f failedStep) {
	r.out.Before()
	if !r.keepGoing {
		r.out.Summed()
	}
	where := f.at.words()
	rest := ""
	if f.at.Statement < r.of || r.of == 0 {
		rest = "; those after it were not run"
	}
	if r.of != 1 {
		of := "The statement " + r.numbered(f.at.Statement) + " failed"
		if where != "" {
			of += ": " + where
		}
		fmt.Fprintf(r.errs, "\n  %s.\n", of) // results are before it
	} else if where != "" {
		fmt.Fprintf(r.errs, "  The statement failed: %s.\n", where)
	}
	if f.at.Text != "" {
		line, mark := report.Marked(f.at.Text, f.at.mark, 72)
		fmt.Fprintf(r.errs, "      %s\n      %s\n", line, mark)
	}
	var p *finding.Problem
	switch {
	case errors.As(f.why.Err, &p) && !engine.Refused(p):
		fmt.Fprintf(r.errs, "  %s. Whether this one was done is not known%s.\n", r.before(f.at.Statement), rest)
	case r.keepGoing, r.of == 1:
	case r.allOrNothing:
		fmt.Fprintln(r.errs, "  All statements were one transaction: nothing of them stays.")
	case r.open:
		fmt.Fprintf(r.errs, "  %s, in a transaction that was not committed: what it changed is undone%s.\n",
			r.before(f.at.Statement), rest)
	default:
		fmt.Fprintf(r.errs, "  %s%s.\n", r.before(f.at.Statement), rest)
	}
}

// numbered names a statement.
func (r *statementRun) numbered(n int) string {
	if r.of == 0 {
		return fmt.Sprint(n)
	}
	return fmt.Sprintf("%d of %d", n, r.of)
}

// before says what is known of the statements before one.
func (r *statementRun) before(n int) string {
	switch {
	case n == 1:
		return "Nothing was done before it"
	case r.fails > 1:
		return fmt.Sprintf("Of the %d before it, %d did not fail", n-1, r.done)
	}
	return "Those before it were done"
}

// ends says what ends with the session, where the last statement is about it.
func (r *statementRun) ends() {
	switch word := r.program.Language.Lasting(r.last.To); {
	case r.open:
		r.Note("a transaction is open, and this run ends: what it changed is undone. To keep it, end with commit")
	case word != "":
		r.Note("what %s does holds in one session, and this one ends now: put what needs it into the same run",
			strings.ToLower(word))
	}
}

// noResult is the error of a result that is picked and not there.
func noResult(n int, out *report.Results) error {
	return world.Error{Code: finding.ExitDatabase,
		Message: fmt.Sprintf("there is no result %d: %s had rows", n, report.Count(int64(out.WithRows()), "result"))}
}

// mostListed is how many failures are listed.
const mostListed = 50

// end ends the output of a run that failed, and reports whether the failure was printed before.
func (r *statementRun) end(failed *harbor.Failed) (said bool, err error) {
	var at any
	if len(r.failed) > 0 {
		at = r.failed[0].at
	}
	if err := r.out.End(&failed.Finding, at); err != nil {
		return false, err
	}
	if r.keepGoing && len(r.failed) > 0 {
		fmt.Fprintf(r.errs, "  %d of %d statements failed:\n", r.fails, max(r.of, r.last.N))
		for _, f := range r.failed {
			where := f.at.words()
			if where != "" {
				where += ", "
			}
			fmt.Fprintf(r.errs, "    statement %d: %s%s\n", f.at.Statement, where, f.why.Finding.Code)
		}
		if more := r.fails - len(r.failed); more > 0 {
			fmt.Fprintf(r.errs, "    and %d more\n", more)
		}
		return engine.Refused(failed.Err), nil
	}
	return false, nil
}

// lateName words the error of a document with a name for which there is no column; nil for any
// other error, and for none.
func lateName(out *report.Results, err error) error {
	var late *report.LateName
	if !errors.As(err, &late) {
		return nil
	}
	return world.Error{Code: finding.ExitDatabase,
		Message: fmt.Sprintf("%v, so %s has no column for it. To have the documents as they are: --as jsonl", late, out.Form)}
}
