package harbor

import (
	"context"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/clouds"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
)

// Export gives a profile for other programs, with the address that leads to its container or its
// cloud's server now. For these, and with withSecret, where its password comes along, a project's
// profile must be agreed to. A password that cannot be found is a *finding.Problem.
func (r Run) Export(ctx context.Context, name string, withSecret bool) (e profile.Effective, s secret.Secret,
	err error) {
	look := r
	look.Connects = false
	to, err := look.Load(ctx, name, false)
	if err != nil {
		return to.Effective, s, err
	}
	r.Harmless = !withSecret && !to.InContainer() && !to.InCloud()
	if to, err = r.Load(ctx, name, false); err == nil && !r.Harmless {
		err = to.usable()
	}
	if err != nil {
		return to.Effective, s, err
	}
	if e, err = r.outside(ctx, to, withSecret); err != nil || !withSecret {
		return e, s, err
	}
	found, err := r.Held(ctx, to)
	if err != nil && to.InCloud() {
		err = clouds.Word(err)
	}
	if err != nil {
		return e, s, err
	}
	if e.User == "" && to.InCloud() {
		e.User = found.Source.User
		r.Note("the login is a temporary one: %s", found.Source)
	}
	s, err = found.Secret(nil)
	return e, s, err
}

// outside gives a profile as programs can be told of it that ask neither container engines nor
// clouds.
func (r Run) outside(ctx context.Context, to Aim, withSecret bool) (profile.Effective, error) {
	switch {
	case to.InContainer():
		_, at, err := r.lookUp(ctx, to.Effective)
		if p, _ := finding.AsProblem(err); p != nil {
			return to.Effective, world.Wrong("%s", finding.Make(p.Code, finding.About{Facts: p.Facts}).Cause)
		}
		if err != nil {
			return to.Effective, err
		}
		by := ""
		if via, _ := r.engineHops(); len(via) > 0 {
			by = "through its container engine's machine by SSH"
		} else if at.Dial != nil {
			by = "by a stream through its container engine alone"
		}
		if by != "" {
			return to.Effective, world.Wrong("%s is reached %s, so that no address can be written for other "+
				"programs; gharbor with %s -- PROGRAM lets one in",
				to.Name, by, to.Name)
		}
		r.Note("the container is at %s now; another start may change that", at)
		return to.Effective.AtAddress(at.Host, at.Port), nil
	case to.InCloud():
		e, err := r.Concrete(ctx, to.Effective)
		if err != nil {
			return to.Effective, err
		}
		if e.TakesLogin() && !withSecret {
			r.Note("its user comes with a temporary login, which is taken at each connection; gharbor with %s "+
				"-- PROGRAM hands one over",
				to.Name)
		}
		r.Note("the cloud says that it is at %s now; that may change", e.Place())
		return e, nil
	}
	return to.Effective, nil
}
