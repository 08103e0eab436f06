package harbor

import (
	"context"
	"errors"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/harbor/edits"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// Failed is a connection that was not made, or work on one that failed, as a finding about a
// profile.
type Failed struct {
	Profile string
	Finding finding.Finding
	Exit    int
	// Err is the error of the work, nil for a connection that was not made.
	Err error
}

// Error gives the finding's cause.
func (f *Failed) Error() string { return f.Finding.Cause }

// Unwrap gives Err.
func (f *Failed) Unwrap() error { return f.Err }

// Connected opens a session as a word means, and has the work done. A [Failed] says what kept the
// session from being opened, or what the server had against the work.
func (r Run) Connected(ctx context.Context, word string, work Work) error {
	to, err := r.Aim(ctx, word, false)
	if err != nil {
		return err
	}
	return r.ConnectedTo(ctx, to, work)
}

// ConnectedTo is Connected for what a word was found to mean.
func (r Run) ConnectedTo(ctx context.Context, to Aim, work Work) error {
	if work.Least != "" {
		to.Guard = guard.Stricter(to.Guard, string(work.Least))
	}
	info, is := known.Info(to.Engine)
	if is && !info.Able(work.Needs) {
		return world.Wrong("sessions of %s cannot %s yet", info.Title, work.Needs)
	}
	if work.Ready != nil {
		if err := work.Ready(info.Language, guard.Level(to.Guard)); err != nil {
			return err
		}
	}
	watched := &watch{Run: r, to: to, work: work, plan: &guard.Plan{}}
	if work.Plan != nil {
		watched.plan = work.Plan()
	}
	if err := watched.before(); err != nil {
		return err
	}
	checker := r.Checker(to)
	if history, file, kept := r.historyOf(to); kept {
		checker = remembering(checker, history, file)
	}
	checker.Files = work.Files != nil && work.Files()
	checker.Guard, checker.Another = &watched.guard, watched.another
	checker.Least = to.Guard
	var session engine.Session
	var err error
	report := checkup.NotAgreed(to.Effective, to.NotAgreed)
	if to.Admitted.OK() {
		if session, report, err = checker.Open(ctx, to.Admitted); err != nil {
			return err
		}
	}
	if session == nil {
		return &Failed{to.Name, *report.Finding, report.Exit, nil}
	}
	defer session.Close()
	if report.Another != "" {
		r.Note("%s", report.Another)
	}
	if work.Further != nil {
		work.Further(func(ctx context.Context, more Work) error {
			if !info.Able(more.Needs) {
				return world.Wrong("sessions of %s cannot %s yet", info.Title, more.Needs)
			}
			if more.Ready != nil {
				if err := more.Ready(info.Language, guard.Level(to.Guard)); err != nil {
					return err
				}
			}
			watched.renewed(more)
			if err := watched.before(); err != nil {
				return err
			}
			return watched.does(ctx, session, info.Language)
		})
	}
	return watched.does(ctx, session, info.Language)
}

// does asks what there is to ask about the work, and has it done in the session.
func (w *watch) does(ctx context.Context, session engine.Session, language engine.Language) error {
	explain := func(err error) error { return explained(ctx, w.to.Name, session, err) }
	if err := w.opened(ctx, session); err != nil {
		return explain(err)
	}
	if w.work.Account != nil {
		account, err := w.account(ctx, session)
		if err != nil {
			return explain(err)
		}
		w.work.Account(account, w.base)
	}
	return explain(w.work.Do(session, language, explain))
}

// explained gives an error of a session as what it means.
func explained(ctx context.Context, profile string, session engine.Session, err error) error {
	var problem *finding.Problem
	var already *Failed
	if errors.As(err, &already) || !errors.As(err, &problem) {
		return err
	}
	if ctx.Err() != nil { // the interruption is what happened, not what the connection made of it
		if errors.Is(err, engine.ErrGoesOn) {
			return errors.Join(ctx.Err(), engine.ErrGoesOn)
		}
		return ctx.Err()
	}
	f, err2 := checkup.Explain(session, problem)
	if err2 != nil {
		return err2
	}
	return &Failed{profile, f, f.Exit(), err}
}

// Expect tests a profile and writes what the test shows into its file as expectations. The
// expectations that the profile has already are not asked about. A test that failed has its
// report, and nothing is written; else done is called with what was written. Word is the profile
// as it was named.
func (r Run) Expect(ctx context.Context, word string, p edits.Place, done func(profile.Layer)) (Aim,
	*checkup.Report, error) {
	to, err := r.Aim(ctx, word, false)
	if err != nil {
		return to, nil, err
	}
	to.Admitted = to.Admitted.WithoutExpectations()
	report, err := r.Test(ctx, to, nil)
	if err != nil || !report.OK {
		return to, report, err
	}
	layer := checkup.FromNow(report)
	return to, report, r.edits().Update(ctx, p, func(data []byte, path string) ([]byte, error) {
		return profile.Change(data, path, layer, nil)
	}, func() { done(layer) })
}
