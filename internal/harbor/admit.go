package harbor

import (
	"context"
	"errors"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route/jump"
)

// Gate admits profiles in this run; at a terminal it asks about those of a project.
func (r *Run) Gate(library profile.Library) (agree.Gate, error) {
	agreements, err := r.Agreements()
	gate := agree.Gate{Library: library, Agreements: agreements, SSH: func() jump.Config { return r.SSHConfig().Once() }}
	if r.Who.Here() && r.AskAgreement != nil {
		gate.Ask = r.AskAgreement
	}
	return gate, err
}

// Admit admits a saved profile for a command that reports no legs.
func (r *Run) Admit(ctx context.Context, library profile.Library, stack profile.Stack, over ...profile.Layer) (agree.Admitted, error) {
	gate, err := r.Gate(library)
	if err != nil {
		return agree.Admitted{}, err
	}
	a, err := gate.Admit(ctx, stack, over...)
	var refused *agree.Refused
	if errors.As(err, &refused) {
		return a, Wrong("%s comes from a project, and %s See it with gharbor agree %s", stack.Name, refused.Why, stack.Name)
	}
	return a, err
}

// TermsOf gives what a project's profile would do. A profile that is all one's own has no terms, which is an error.
func (r *Run) TermsOf(name string) (profile.Stack, agree.Terms, error) {
	library, err := r.Library()
	if err != nil {
		return profile.Stack{}, agree.Terms{}, err
	}
	stack, err := library.Load(name)
	if err != nil {
		return stack, agree.Terms{}, r.LoadError(library, name, err)
	}
	if !stack.Stranger {
		return stack, agree.Terms{}, Wrong("%s is all your own, and needs no agreement", stack.Name)
	}
	terms, err := agree.Of(library, stack, r.SSHConfig().Once())
	if err != nil {
		return stack, terms, Wrong("%v", err)
	}
	return stack, terms, nil
}
