package harbor

import (
	"context"
	"time"

	"gentle-harbor/internal/alias"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/container"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/clouds"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/target"
)

// lookTime is how long the look for a container, or for SRV records, may take outside of a test.
const lookTime = 10 * time.Second

// lookUp finds a profile's container, and the address at which its server can be reached now. The
// error is a *finding.Problem.
func (r Run) lookUp(ctx context.Context, e profile.Effective) (*container.Lookup, route.Address, error) {
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	info, _ := known.Info(e.Engine)
	locator := &container.Locator{Want: e.Contained, Port: e.InsidePort(), Info: info,
		Folder: e.ComposeFolder(r.Folder()), Engines: r.Engines}
	way := route.Route{Locator: locator}
	via, err := r.engineHops()
	if err == nil && len(via) > 0 {
		way.Hops, err = r.hopsOf(via, e.Ask, nil, r.Who.Here())
	}
	if err != nil {
		return nil, route.Address{}, err
	}
	path, err := way.Open(ctx, func(string, string) {})
	if err != nil {
		return nil, route.Address{}, err
	}
	defer path.Close()
	for at, err := range path.Each(ctx, func(string, string) {}) {
		return locator.Last(), at, err
	}
	return nil, route.Address{}, &finding.Problem{Code: finding.ContainerUnknown}
}

// Target gives what a profile's secret is bound to: for a container, which one it is now, too.
func (r Run) Target(ctx context.Context, e profile.Effective) (target.Target, error) {
	if e.InCloud() {
		e, err := r.clouds().Located(ctx, e)
		if p, _ := finding.AsProblem(err); p != nil {
			return e.Target(), world.Wrong("which server %s is cannot be said: %s",
				world.Clip(e.Clouded.String()), finding.Make(p.Code, finding.About{Facts: p.Facts}).Cause)
		}
		return e.Target(), err
	}
	if e.Alias != "" && e.SRV != "" {
		now, err := r.seen(ctx, e)
		return now.Target(), err
	}
	to := e.Target()
	if !e.InContainer() || to.Defined.How != "" {
		return to, nil
	}
	if was, met := r.Containers.Load(e.Place()); met {
		to.Defined = was.(target.Definition)
		return to, nil
	}
	found, _, err := r.lookUp(ctx, e)
	if found != nil {
		to.Defined = found.Defined()
		return to, nil
	}
	if p, other := finding.AsProblem(err); other == nil {
		about := finding.About{Facts: p.Facts}
		return to, world.Wrong("which container %s is cannot be said: %s", world.Clip(e.Contained.Words()),
			finding.Make(p.Code, about).Cause)
	}
	return to, err
}

// seen gives a profile of an alias with the targets that its SRV records name now.
func (r Run) seen(ctx context.Context, e profile.Effective) (profile.Effective, error) {
	services, _ := r.Resolver.(alias.Services)
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	targets, err := alias.Locator{Name: e.Alias, SRV: e.SRV, NamedServer: e.TLS.ServerName != "",
		Services: services}.Written(ctx)
	if p, _ := finding.AsProblem(err); p != nil {
		return e, world.Wrong("which servers the alias %s stands for cannot be said: %s", world.Clip(e.Alias),
			finding.Make(p.Code, finding.About{Facts: p.Facts}).Cause)
	}
	return e.Seen(targets), err
}

// settled gives what was found for a profile in the form that is handed over: its container is
// looked up, where that decides.
func (r Run) settled(ctx context.Context, to Aim, found checkup.Found) (checkup.Found, error) {
	if !found.Later() {
		return found, nil
	}
	at, _, err := r.lookUp(ctx, to.Effective)
	if at == nil {
		return checkup.Found{}, err
	}
	return found.At(at)
}

// Held finds a profile's secret, in the form that is handed over.
func (r Run) Held(ctx context.Context, to Aim) (checkup.Found, error) {
	found, err := r.Checker(to).Find(ctx, to.Admitted)
	if err != nil {
		return found, err
	}
	return r.settled(ctx, to, found)
}

// Concrete is [clouds.Clouds.Concrete] for what other programs are told.
func (r Run) Concrete(ctx context.Context, e profile.Effective) (profile.Effective, error) {
	e, err := r.clouds().Concrete(ctx, e)
	if err != nil {
		err = clouds.Word(err)
	}
	return e, err
}
