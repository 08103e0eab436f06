package cli

import (
	"context"
	"errors"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/report"
)

// connected has do work in a session as a profile says, which has the ability that T stands for.
// What failed is printed as a finding, unless end says that it was; end also ends what was
// printed before, in JSON with the finding. Explain says what an error of the session means.
func connected[T any](ctx context.Context, c *call, name string, work harbor.Work,
	end func(*harbor.Failed) (said bool, err error), do func(able T, explain func(error) error) error) error {
	work.Do = func(session engine.Session, _ engine.Language, explain func(error) error) error {
		able, can := engine.As[T](session)
		if !can {
			return engine.Cannot(string(work.Needs))
		}
		return do(able, explain)
	}
	open := c.Connected
	if c.borrowed != nil {
		open = func(ctx context.Context, _ string, work harbor.Work) error { return c.borrowed(ctx, work) }
	}
	err := open(ctx, name, work)
	if errors.Is(err, engine.ErrGoesOn) {
		c.Note("%s: it could not be told to end it", engine.ErrGoesOn)
	}
	var failed *harbor.Failed
	if !errors.As(err, &failed) {
		return err
	}
	said, err := end(failed)
	if err != nil {
		return err
	}
	if !said {
		report.Finding(c.Stderr, failed.Finding, failed.Profile)
	}
	return world.Error{Code: failed.Exit}
}
