package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/script"
)

// severalRun runs the same statements with several profiles, and puts their rows into one result,
// in the order of the profiles.
type severalRun struct {
	*call
	choice
	program *script.Program
	out     *report.Results

	result, largest                    int
	exact                              bool
	most                               time.Duration
	each, yes, keepGoing, allOrNothing bool

	merged  *report.Printed
	columns []engine.Column // of the first profile with rows, nil before it
	of      string          // which one that is
	rows    int64
	failed  []failedProfile
	did     int // profiles with a result
	code    int
}

// failedProfile is a profile in which the statements failed, for JSON.
type failedProfile struct {
	Profile string           `json:"profile"`
	Finding *finding.Finding `json:"finding,omitempty"`
	Error   string           `json:"error,omitempty"`
}

// piece is a part of what one profile gives.
type piece struct {
	columns []engine.Column
	cells   []engine.Cell
	done    *engine.Summary
}

// lane is one profile's run.
type lane struct {
	word   string
	to     harbor.Aim
	pieces chan piece // what it gives; it waits while nobody takes it
	errs   bytes.Buffer
	err    error
	ended  chan struct{}
	ctx    context.Context // of this run
	went   chan struct{}   // closed when its rows are not taken any more
}

// queued is how many rows a profile gives before those of the profiles before it were taken.
const queued = 500

func (s *severalRun) run(ctx context.Context, first string) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var names []string
	if first != "" {
		names = []string{first}
	}
	words, err := s.Choose(names, s.Choice)
	if err != nil {
		return err
	}
	all, err := s.Aims(ctx, words)
	if err != nil {
		return err
	}
	parallel := max(1, s.parallel)
	if s.each { // each is asked about, and what one does may be wanted in the next
		parallel = 1
	}
	if s.allOrNothing {
		s.Note("--all-or-nothing holds for each profile by itself")
	}
	s.out.Only = 0 // each profile picks its own
	s.merged = s.out.Next()
	var lanes []*lane
	turns := make(chan struct{}, parallel)
	var group sync.WaitGroup
	for i, one := range all {
		l := &lane{word: words[i], to: one.To, pieces: make(chan piece, queued), ended: make(chan struct{}),
			went: make(chan struct{}), err: one.Err}
		lanes = append(lanes, l)
		if l.err != nil {
			close(l.pieces)
			close(l.ended)
			continue
		}
	}
	// They begin in their order, so that the one whose rows are wanted next is always among those
	// that run.
	group.Go(func() {
		for _, l := range lanes {
			if l.err != nil {
				continue
			}
			select {
			case turns <- struct{}{}:
			case <-ctx.Done():
				l.err = ctx.Err()
				close(l.pieces)
				close(l.ended)
				continue
			}
			group.Go(func() {
				defer func() { <-turns; close(l.pieces); close(l.ended) }()
				l.err = s.one(ctx, l)
			})
		}
	})
	defer group.Wait()
	defer cancel()
	for _, l := range lanes {
		if err := s.take(l); err != nil {
			return err
		}
		if ctx.Err() != nil {
			break
		}
	}
	return s.end(ctx, len(lanes))
}

// one runs the statements with one profile.
func (s *severalRun) one(ctx context.Context, l *lane) error {
	l.ctx = ctx
	program := &script.Program{Words: s.program.Words, Values: s.program.Values, Sources: s.program.Sources}
	program.Values.Used = maps.Clone(s.program.Values.Used)
	out := &report.Results{Form: "table", Errs: &l.errs, Out: &l.errs, Only: s.result,
		Sink: func() report.Rows { return &laneRows{l} }}
	r := &statementRun{call: s.call, program: program, out: out, errs: &l.errs, largest: s.largest,
		exact: s.exact, most: s.most, keepGoing: s.keepGoing, allOrNothing: s.allOrNothing, reads: !s.each}
	loads := false
	work := harbor.Work{Needs: engine.Runs, Agreed: s.yes, Least: guard.ReadOnly, Plan: func() *guard.Plan {
		return r.plan
	}, Files: func() bool { return loads },
		Ready: func(language engine.Language, level guard.Level) error {
			program.Language, r.level, r.plan = language, level, &guard.Plan{}
			facts, err := checkProgram(program, r.gate(), nil)
			r.bytes, r.of, loads = facts.bytes, facts.statements, facts.files
			return err
		},
		Do: func(session engine.Session, _ engine.Language, explain func(error) error) error {
			runner, can := engine.As[engine.Runner](session)
			if !can {
				return engine.Cannot(string(engine.Runs))
			}
			return r.work(ctx, runner, explain)
		}}
	if s.each {
		work.Least = guard.Confirm
	}
	err := s.ConnectedTo(ctx, l.to, work)
	if err == nil && s.result > out.WithRows() {
		err = noResult(s.result, out)
	}
	return err
}

// laneRows takes the rows of one profile.
type laneRows struct{ l *lane }

var errUnwanted = errors.New("its columns are others")

func (r *laneRows) give(p piece) error {
	select {
	case r.l.pieces <- p:
		return nil
	case <-r.l.went:
		return errUnwanted
	case <-r.l.ctx.Done():
		return r.l.ctx.Err()
	}
}

// Columns implements engine.Rows.
func (r *laneRows) Columns(columns []engine.Column) error {
	return r.give(piece{columns: append([]engine.Column{}, columns...)})
}

// Row implements engine.Rows.
func (r *laneRows) Row(cells []engine.Cell) error { return r.give(piece{cells: slices.Clone(cells)}) }

// Bytes implements engine.Rows.
func (r *laneRows) Bytes([]byte) error { return report.ErrOwnFormat }

// Done implements report.Rows.
func (r *laneRows) Done(summary engine.Summary) error { return r.give(piece{done: &summary}) }

// Failed implements report.Rows.
func (r *laneRows) Failed(err error) error { return err }

// take takes what one profile gives, to its end.
func (s *severalRun) take(l *lane) error {
	name := outside.Cell(l.word)
	var others error
	for p := range l.pieces {
		switch {
		case others != nil:
		case p.columns != nil:
			if s.columns == nil {
				s.columns, s.of = p.columns, name
				if err := s.merged.Columns(append([]engine.Column{{Name: "profile", Kind: engine.Text}},
					p.columns...)); err != nil {
					return err
				}
			} else if !slices.EqualFunc(s.columns, p.columns, func(a, b engine.Column) bool { return a.Name == b.Name }) {
				others = world.Error{Code: finding.ExitDatabase,
					Message: fmt.Sprintf("its columns are others than those of %s: %s instead of %s", s.of,
						columnNames(p.columns), columnNames(s.columns))}
				close(l.went)
			}
		case p.cells != nil:
			s.rows++
			if err := s.merged.Row(append([]engine.Cell{{Text: name}}, p.cells...)); err != nil {
				close(l.went)
				if late := lateName(s.out, err); late != nil {
					_ = s.merged.Failed(err)
					return late
				}
				return err
			}
		case p.done != nil && p.done.Affected >= 0:
			fmt.Fprintf(s.Stderr, "%s: %s changed\n", name, report.Count(p.done.Affected, "row"))
		case p.done != nil && p.done.Tag != "" && p.done.Rows == 0 && s.each:
			fmt.Fprintf(s.Stderr, "%s: done: %s\n", name, outside.Cell(p.done.Tag))
		}
	}
	<-l.ended
	if others != nil {
		l.err = others
	}
	s.note(l)
	return nil
}

func columnNames(columns []engine.Column) string {
	var names []string
	for _, c := range columns {
		names = append(names, outside.Cell(c.Name))
	}
	return strings.Join(names, ", ")
}

// note takes up how a profile's run went.
func (s *severalRun) note(l *lane) {
	if l.err == nil {
		s.did++
		return
	}
	f := failedProfile{Profile: outside.Cell(l.word)}
	code := finding.ExitMixed
	var failed *harbor.Failed
	var own world.Error
	switch {
	case errors.As(l.err, &failed):
		f.Finding, code = &failed.Finding, failed.Exit
	case errors.As(l.err, &own):
		f.Error, code = own.Message, own.Code
	default:
		f.Error = systemWord(l.err)
	}
	switch {
	case s.code == 0:
		s.code = code
	case s.code != code:
		s.code = finding.ExitMixed
	}
	s.failed = append(s.failed, f)
}

// end ends the output, and lists the profiles that failed.
func (s *severalRun) end(ctx context.Context, of int) error {
	if s.columns != nil {
		if err := s.merged.Done(engine.Summary{Rows: s.rows, Affected: -1}); err != nil {
			return cmp.Or(lateName(s.out, err), err)
		}
	}
	if len(s.failed) > 0 {
		s.out.Failed = s.failed
	}
	if err := s.out.End(nil, nil); err != nil {
		return err
	}
	if ctx.Err() != nil {
		fmt.Fprintf(s.Stderr, "  The run was interrupted: %d of %s were done.\n", s.did, report.Count(int64(of), "profile"))
		return ctx.Err()
	}
	if len(s.failed) == 0 {
		return nil
	}
	fmt.Fprintf(s.Stderr, "\n  %d of %s failed:\n", len(s.failed), report.Count(int64(of), "profile"))
	for _, f := range s.failed {
		text := f.Error
		if f.Finding != nil {
			text = string(f.Finding.Code) + ": " + f.Finding.Cause
		}
		report.Wrapped(s.Stderr, "    ", "        ", f.Profile+"  "+text)
	}
	for _, f := range s.failed { // one alone shows all of it
		if f.Finding == nil {
			continue
		}
		next := finding.Remedy{Run: []string{"test", f.Profile}}.String()
		if f.Finding.Leg == "query" {
			next = "the same statements with " + f.Profile + " alone"
		}
		fmt.Fprintf(s.Stderr, "  To see what to try, such as for %s: %s\n", f.Profile, next)
		break
	}
	return world.Error{Code: s.code}
}
