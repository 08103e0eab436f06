package harbor

import (
	"context"
	"slices"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/secret"
)

// Peek opens a session as a profile says, for what is offered while a person types, and has
// something read in it. Nobody is asked anything, no program is started, nothing is run when it
// opens, and nothing is remembered; it is done for a server that is reached directly alone. What
// keeps it from that is no error: do is not called then.
func (r Run) Peek(ctx context.Context, name string, do func(engine.Session)) {
	r.Connects = true
	to, err := r.Load(ctx, name, false)
	if err != nil || !to.Admitted.OK() {
		return
	}
	starts := slices.Contains([]secret.Kind{secret.Command, secret.Container, secret.Cloud, secret.Keyring,
		secret.Ask}, to.Secret.Kind)
	if starts || len(to.Via) > 0 || to.InContainer() || to.InCloud() || len(to.OnOpen) > 0 {
		return
	}
	checker := r.Checker(to)
	checker.Stores.Secrets, checker.Hops, checker.NoEvidence = r.Quiet(), r.QuietHops, true
	session, _, err := checker.Open(ctx, to.Admitted)
	if err != nil || session == nil {
		return
	}
	defer session.Close()
	do(session)
}
