package harbor

import (
	"context"
	"errors"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/edits"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// Failed is a connection that was not made, or work on one that failed, as a finding about a profile.
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

// Connected opens a session as a word means and hands it to work with its language; work needs an ability of it: an engine whose sessions have none is not
// connected to. A [Failed] says what kept it from being opened, or what the server had against the work.
func (r Run) Connected(ctx context.Context, word string, needs engine.Ability, work func(engine.Session, engine.Language) error) error {
	to, err := r.Aim(ctx, word, false)
	if err != nil {
		return err
	}
	info, is := known.Info(to.Engine)
	if is && !info.Able(needs) {
		return world.Wrong("a %s session cannot %s", info.Title, needs)
	}
	checker := r.Checker(to)
	if history, file, kept := r.historyOf(to); kept {
		checker = remembering(checker, history, file)
	}
	var session engine.Session
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
	err = work(session, info.Language)
	var problem *finding.Problem
	if !errors.As(err, &problem) {
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
	return &Failed{to.Name, f, f.Exit(), err}
}

// Expect tests a profile and writes what the test shows into its file as expectations. The expectations that the profile
// has already are not asked about. A test that failed has its report, and nothing is written; else done is called with
// what was written. Word is the profile as it was named.
func (r Run) Expect(ctx context.Context, word string, p edits.Place, done func(profile.Layer)) (Aim, *checkup.Report, error) {
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
