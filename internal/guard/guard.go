// Package guard keeps statements that change something away from a session whose profile refuses
// them, or has them asked about first. It is a seat belt and no right: what a user may do is the
// server's to say.
package guard

import (
	"context"
	"errors"
	"slices"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// Level is how strict a guard is.
type Level string

// The levels, as profiles write them.
const (
	None     Level = "none"
	Confirm  Level = "confirm"   // what changes something is asked about first
	ReadOnly Level = "read-only" // what changes something is refused
)

// Levels lists them, the least strict one first.
var Levels = []string{string(None), string(Confirm), string(ReadOnly)}

// Stricter gives the stricter one of two levels as profiles write them; what is no level, such as
// "", counts as none.
func Stricter(a, b string) string {
	if slices.Index(Levels, b) > slices.Index(Levels, a) {
		return b
	}
	return a
}

// Guard is the rule of one session. What is run in the session goes through it; its zero value
// lets everything through.
type Guard struct {
	Level    Level
	Language engine.Language
	// Agreed says that a person has agreed to what changes something. It holds for [Confirm].
	Agreed bool
	// Changing is called once, before the first statement that may change something; its error
	// keeps that from running. It may be nil.
	Changing func(ctx context.Context) error

	told   bool
	read   bool // how texts are written in the session is known
	inside bool // of a transaction that is not the guard's own
	own    map[string]bool
}

// open reports whether statements may change something.
func (g *Guard) open() bool { return !g.On() || g.Level == Confirm && g.Agreed }

// On reports whether it guards anything.
func (g *Guard) On() bool { return g.Level == Confirm || g.Level == ReadOnly }

// Refused is the problem of a statement that a guard does not let through. Why are the words by
// which it is a change.
func (g *Guard) Refused(why string) error {
	return &finding.Problem{Code: finding.QueryGuarded, Facts: finding.Facts{finding.FactGuard: string(g.Level),
		finding.FactWhat: why}}
}

// Foreign gives those of some names that are functions which the server's own catalogue does not
// have; the answers are remembered until something changes.
func (g *Guard) Foreign(ctx context.Context, session engine.Session, names []string) ([]string, error) {
	catalogue, can := engine.As[engine.Catalogue](session)
	if !can || len(names) == 0 {
		return nil, nil
	}
	if g.own == nil {
		g.own = map[string]bool{}
	}
	ask := slices.DeleteFunc(slices.Clone(names), func(name string) bool { return g.own[name] })
	if len(ask) == 0 {
		return nil, nil
	}
	foreign, err := catalogue.Foreign(ctx, ask)
	if err != nil {
		return nil, err
	}
	foreign = slices.DeleteFunc(foreign, func(name string) bool { return !slices.Contains(ask, name) })
	for _, name := range ask {
		g.own[name] = !slices.Contains(foreign, name)
	}
	return foreign, nil
}

// sorted says what a statement does in a session.
func (g *Guard) sorted(ctx context.Context, session engine.Session, text string) (engine.Sorted, error) {
	if !g.On() && g.Language.BeginsRead(text) {
		return engine.Sorted{Effect: engine.Reads}, nil
	}
	if err := g.written(ctx, session); err != nil {
		return engine.Sorted{}, err
	}
	s := g.Language.Sort(text)
	if !g.On() || s.Effect != engine.Reads {
		return s, nil
	}
	foreign, err := g.Foreign(ctx, session, s.Calls)
	if len(foreign) > 0 {
		s.Effect, s.Why = engine.Changes, foreign[0]
	}
	return s, err
}

// written asks how texts are written in the session, where a statement may have changed it: what
// is a quote to one is none to the other.
func (g *Guard) written(ctx context.Context, session engine.Session) error {
	written, can := engine.As[engine.Written](session)
	if g.read || !g.On() || !can {
		return nil
	}
	l, err := written.Written(ctx)
	if err == nil {
		g.Language.Lexical, g.read = l, true
	}
	return err
}

// Run has a statement run by a function, where the guard lets it through: a read in a transaction
// that only reads.
func (g *Guard) Run(ctx context.Context, session engine.Session, text string,
	run func() (engine.Summary, error)) (summary engine.Summary, err error) {
	runner, can := engine.As[engine.Runner](session)
	if !can {
		return summary, engine.Cannot(string(engine.Runs))
	}
	s, err := g.sorted(ctx, session, text)
	if err != nil {
		return summary, err
	}
	if s.Effect != engine.Reads { // it may open another database, or change how texts are written
		g.read, g.own = false, nil
	}
	switch {
	case s.Effect == engine.Changes, s.Effect == engine.Unguarded:
		if !g.open() || g.On() && s.Effect == engine.Unguarded {
			return summary, g.Refused(s.Why)
		}
		if !g.told && g.Changing != nil {
			if err := g.Changing(ctx); err != nil {
				return summary, err
			}
		}
		g.told = true
	case g.On() && s.Effect == engine.Reads && !g.inside:
		err = runner.Together(ctx, true, func() (err error) {
			summary, err = run()
			return err
		})
		summary.Open = false
		return summary, g.refusedThere(err)
	case !g.open() && s.Effect == engine.Begins:
		return g.begin(ctx, runner, run)
	}
	summary, err = run()
	g.inside = summary.Open
	if !g.open() {
		err = g.refusedThere(err)
	}
	return summary, err
}

// refusedThere gives the refusal of a server in a transaction that only reads as the guard's:
// what a statement calls may change something that its text does not show, such as a view.
func (g *Guard) refusedThere(err error) error {
	var p *finding.Problem
	if !errors.As(err, &p) || p.Code != finding.QueryReadOnly {
		return err
	}
	again := *p
	again.Code, again.Err = finding.QueryGuarded, err
	again.Facts = finding.Facts{finding.FactGuard: string(g.Level),
		finding.FactWhat: "the server refused it in a transaction that only reads"}
	return &again
}

// begin has a person's transaction begin as one that only reads.
func (g *Guard) begin(ctx context.Context, runner engine.Runner,
	run func() (engine.Summary, error)) (summary engine.Summary, err error) {
	do := func(text string) error {
		if text == "" {
			return nil
		}
		return runner.Do(ctx, engine.Statement{Text: text})
	}
	if g.inside { // the engine would end it, or take this one as a part of it
		if err := do("commit"); err != nil {
			return summary, err
		}
		g.inside = false
	}
	if err := do(g.Language.Reading.OnlyBefore); err != nil {
		return summary, err
	}
	if summary, err = run(); err != nil {
		return summary, err
	}
	g.inside = summary.Open
	if err := do(g.Language.Reading.OnlyAfter); err != nil {
		_ = do("rollback")
		g.inside = false
		return summary, err
	}
	return summary, nil
}

// Together has statements run in one transaction, which only reads where nothing may change.
func (g *Guard) Together(ctx context.Context, runner engine.Runner, do func() error) error {
	g.inside = true
	defer func() { g.inside = false }()
	return runner.Together(ctx, !g.open(), do)
}
