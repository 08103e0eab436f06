package harbor

import (
	"context"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/clouds"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
)

// Export gives a profile for other programs. With withSecret its password comes along, for which a project's profile must
// be agreed to. A password that cannot be found is a *finding.Problem.
func (r Run) Export(ctx context.Context, name string, withSecret bool) (profile.Effective, secret.Secret, error) {
	r.Harmless = !withSecret
	to, err := r.Load(ctx, name, false)
	if err == nil && to.InContainer() {
		return r.exportContainer(ctx, name, withSecret)
	}
	if err == nil && to.InCloud() {
		return r.exportCloud(ctx, name, withSecret)
	}
	if err != nil || !withSecret {
		return to.Effective, secret.Secret{}, err
	}
	if !to.Admitted.OK() {
		return to.Effective, secret.Secret{}, world.Wrong("%s comes from a project, and %s See it with gharbor agree %s", to.Name, to.NotAgreed, to.Name)
	}
	s, err := r.password(ctx, to)
	return to.Effective, s, err
}

// exportContainer gives a container's profile with the address that leads to it now.
func (r Run) exportContainer(ctx context.Context, name string, withSecret bool) (profile.Effective, secret.Secret, error) {
	r.Harmless = false // the container is looked up
	to, err := r.Load(ctx, name, false)
	if err != nil {
		return to.Effective, secret.Secret{}, err
	}
	if !to.Admitted.OK() {
		return to.Effective, secret.Secret{}, world.Wrong("%s comes from a project, and %s See it with gharbor agree %s", to.Name, to.NotAgreed, to.Name)
	}
	_, at, err := r.lookUp(ctx, to.Effective)
	if p, _ := finding.AsProblem(err); p != nil {
		return to.Effective, secret.Secret{}, world.Wrong("%s", finding.Make(p.Code, finding.About{Facts: p.Facts}).Cause)
	}
	if err != nil {
		return to.Effective, secret.Secret{}, err
	}
	if via, _ := r.engineHops(); len(via) > 0 {
		return to.Effective, secret.Secret{}, world.Wrong("%s is reached through its container engine's machine by SSH, so that no address can be written for other programs; gharbor with %s -- PROGRAM lets one in", to.Name, to.Name)
	}
	if at.Dial != nil {
		return to.Effective, secret.Secret{}, world.Wrong("%s is reached by a stream through its container engine alone, so that no address can be written for other programs; gharbor with %s -- PROGRAM lets one in", to.Name, to.Name)
	}
	r.Note("the container is at %s now; another start may change that", at)
	e := to.Effective.AtAddress(at.Host, at.Port)
	if !withSecret {
		return e, secret.Secret{}, nil
	}
	s, err := r.password(ctx, to)
	return e, s, err
}

// exportCloud gives a cloud's profile with the address and the authority that its cloud says now.
func (r Run) exportCloud(ctx context.Context, name string, withSecret bool) (profile.Effective, secret.Secret, error) {
	r.Harmless = false // the cloud is asked
	to, err := r.Load(ctx, name, false)
	if err != nil {
		return to.Effective, secret.Secret{}, err
	}
	if !to.Admitted.OK() {
		return to.Effective, secret.Secret{}, world.Wrong("%s comes from a project, and %s See it with gharbor agree %s", to.Name, to.NotAgreed, to.Name)
	}
	e, err := r.Concrete(ctx, to.Effective)
	if err != nil {
		return to.Effective, secret.Secret{}, err
	}
	if e.TakesLogin() && !withSecret {
		r.Note("its user comes with a temporary login, which is taken at each connection; gharbor with %s -- PROGRAM hands one over", name)
	}
	r.Note("the cloud says that it is at %s now; that may change", e.Place())
	if !withSecret {
		return e, secret.Secret{}, nil
	}
	found, err := r.Held(ctx, to)
	if err != nil {
		return e, secret.Secret{}, clouds.Word(err)
	}
	if e.User == "" {
		e.User = found.Source.User
		r.Note("the login is a temporary one: %s", found.Source)
	}
	s, err := found.Secret(nil)
	return e, s, err
}

// password gives a profile's secret to be written out.
func (r Run) password(ctx context.Context, to Aim) (secret.Secret, error) {
	found, err := r.Held(ctx, to)
	if err != nil {
		return secret.Secret{}, err
	}
	return found.Secret(nil)
}
