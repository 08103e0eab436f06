package world

import (
	"context"
	"errors"
	"path/filepath"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route/jump"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Agreements gives those that the user has made.
func (w *World) Agreements() (agree.Agreements, error) {
	state, err := w.State()
	return agree.Agreements{File: filepath.Join(state, "agreements.json")}, err
}

// Gate admits profiles in this run; at a terminal it asks about those of a project.
func (r Reach) Gate(library profile.Library) (agree.Gate, error) {
	agreements, err := r.Agreements()
	gate := agree.Gate{Library: library, Agreements: agreements, SSH: func() jump.Config { return r.SSHConfig().Once() }}
	if err == nil {
		gate.Temp, err = r.Temp()
	}
	if r.Who.Here() && r.AskAgreement != nil {
		gate.Ask = r.AskAgreement
	}
	return gate, err
}

// Admit admits a saved profile for a command that reports no legs.
func (r Reach) Admit(ctx context.Context, library profile.Library, stack profile.Stack,
	over ...profile.Layer) (agree.Admitted, error) {
	gate, err := r.Gate(library)
	if err != nil {
		return agree.Admitted{}, err
	}
	a, err := gate.Admit(ctx, stack, over...)
	var refused *agree.Refused
	if errors.As(err, &refused) {
		return a, NotAgreed(stack.Name, refused.Why)
	}
	return a, err
}

// AgreedProfiles gives the names of the project's profiles to which the user has agreed as they
// are now. Nobody is asked.
func (r Reach) AgreedProfiles() []string {
	library, err := r.Library()
	if err != nil || library.Project.Dir == "" {
		return nil
	}
	agreements, err := r.Agreements()
	if err != nil {
		return nil
	}
	entries, _ := library.List()
	var names []string
	for _, entry := range entries {
		if !entry.Project {
			continue
		}
		stack, err := library.Load(entry.Name)
		if err != nil {
			continue
		}
		terms, err := agree.Of(library, stack, r.SSHConfig().Once())
		if err != nil {
			continue
		}
		if standing, err := agreements.Standing(terms); err == nil && standing.Agreed {
			names = append(names, entry.Name)
		}
	}
	return names
}

// TermsOf gives what a project's profile would do. A profile that is all your own has no terms,
// which is an error.
func (r Reach) TermsOf(name string) (profile.Stack, agree.Terms, error) {
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
		return stack, terms, Doing("see what "+stack.Name+" does", err)
	}
	return stack, terms, nil
}

// Admitted gives a saved profile whose target is to be used; one of a project's must be agreed
// to. A missing user is no error here.
func (r Reach) Admitted(ctx context.Context, name string) (profile.Effective, error) {
	library, err := r.Library()
	if err != nil {
		return profile.Effective{}, err
	}
	stack, err := library.Load(name)
	if err != nil {
		return profile.Effective{}, r.LoadError(library, name, err)
	}
	admitted, err := r.Admit(ctx, library, stack)
	if err != nil {
		return profile.Effective{}, err
	}
	e := admitted.Profile()
	for _, problem := range e.Problems {
		if problem.Setting != "user" {
			return e, Wrong("%s: %s", name, problem.Text)
		}
	}
	return e, nil
}

// Reference gives a profile's reference to its secret, the zero one where there is no such profile.
func (r Reach) Reference(name string) secret.Reference {
	if name == "" {
		return secret.Reference{}
	}
	library, err := r.Library()
	if err != nil {
		return secret.Reference{}
	}
	stack, err := library.Load(name)
	if err != nil {
		return secret.Reference{}
	}
	return stack.Resolve().Secret
}

// User is a profile, the target that it connects to, and its reference, for finding out which
// kept secrets are used.
type User struct {
	Name   string
	Target target.Target
	Ref    secret.Reference
}

// Users lists the profiles whose secret may come from a store.
func (r Reach) Users() []User {
	library, err := r.Library()
	if err != nil {
		return nil
	}
	library = library.Remembering()
	entries, _ := library.List()
	var list []User
	for _, entry := range entries {
		stack, err := library.Load(entry.Name)
		if err != nil {
			continue
		}
		e := stack.Resolve()
		list = append(list, User{entry.Name, e.Target(), e.Secret})
	}
	return list
}

// NotAgreed is the error of a project's profile that may not be used; why is a sentence of an
// [agree.Refused].
func NotAgreed(name, why string) error {
	return Wrong("%s comes from a project, and %s See it with gharbor agree %s", name, why, name)
}
