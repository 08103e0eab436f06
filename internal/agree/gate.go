package agree

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route/jump"
)

// Gate admits profiles of a library.
type Gate struct {
	Library    profile.Library
	Agreements Agreements
	// Ask asks a person whether they agree to terms; nil where nobody can be asked.
	Ask func(ctx context.Context, s profile.Stack, t Terms, standing Standing) (bool, error)
	// SSH gives the user's SSH configuration, which decides what the hops of a project do here.
	// What it gives must stay as it is (jump.Config.Once): it is shown, agreed to and then used.
	SSH func() jump.Config
	// Temp is a folder of this program's own for copies of programs, where the system's folder
	// for such things is open to others.
	Temp string
	// Now is the clock; nil for time.Now.
	Now func() time.Time
}

// Admit admits a saved profile, with layers of this run over what its files say. The error is a
// *Refused when it comes from a project and was not agreed to.
func (g Gate) Admit(ctx context.Context, s profile.Stack, over ...profile.Layer) (Admitted, error) {
	return g.admit(ctx, s, func(t Terms) (Standing, error) { return g.Agreements.Standing(t) }, over)
}

// Try admits a profile that is being written and is not saved yet: a project's base or group has
// a part in it only when everything that it says there was agreed to with some profile.
func (g Gate) Try(ctx context.Context, s profile.Stack, over ...profile.Layer) (Admitted, error) {
	return g.admit(ctx, s, func(t Terms) (Standing, error) {
		standing, err := g.Agreements.Standing(t)
		list, e := g.Agreements.List()
		for _, each := range list {
			standing.Agreed = standing.Agreed || each.Terms != nil && t.within(*each.Terms)
		}
		return standing, errors.Join(err, e)
	}, over)
}

func stranger(s profile.Stack, over []profile.Layer) bool {
	for _, layer := range append(slices.Clone(over), s.Layers...) {
		for _, v := range layer {
			if v.Origin.Project != "" {
				return true
			}
		}
	}
	return false
}

func (g Gate) admit(ctx context.Context, s profile.Stack, judge func(Terms) (Standing, error),
	over []profile.Layer) (Admitted, error) {
	if !stranger(s, over) && !s.Stranger {
		e := s.Resolve(over...)
		if e.AliasAt.Project != "" {
			return Admitted{}, strangeAlias(s.Name, e)
		}
		return Admitted{&admitted{profile: e}}, nil
	}
	for _, layer := range over {
		if _, err := Own(profile.Library{World: s.World}, s.Name, layer); err != nil {
			return Admitted{}, err
		}
	}
	ssh := g.ssh()
	t, err := Of(g.Library, s, ssh)
	if err != nil {
		return Admitted{}, &Refused{s.Name, strings.TrimSuffix(err.Error(), ".") + "."}
	}
	standing, err := judge(t)
	if err != nil {
		return Admitted{}, err
	}
	if !standing.Agreed {
		if g.Ask == nil {
			return Admitted{}, &Refused{s.Name, standing.Why()}
		}
		agreed, err := g.Ask(ctx, s, t, standing)
		if err != nil {
			return Admitted{}, err
		}
		if !agreed {
			return Admitted{}, &Refused{s.Name, standing.Why()}
		}
		now := time.Now
		if g.Now != nil {
			now = g.Now
		}
		if err := g.Agreements.Agree(ctx, t, now()); err != nil {
			return Admitted{}, fmt.Errorf("the agreement could not be noted: %w", err)
		}
	}
	in := &admitted{profile: s.Resolve(over...), contents: t.contents, ssh: &ssh, temp: g.Temp}
	if in.profile.AliasAt.Project != "" && in.profile.Values["alias"].Text != s.Resolve().Values["alias"].Text {
		return Admitted{}, strangeAlias(s.Name, in.profile)
	}
	in.profile.ProjectAuthority = t.Files[in.profile.TLS.CA]
	in.again = func() error { return g.same(s, t, judge) }
	return Admitted{in}, nil
}

func (g Gate) ssh() jump.Config {
	if g.SSH == nil {
		return jump.Config{}.Once()
	}
	return g.SSH()
}

// same reports whether a profile still says what was admitted, and is still agreed to.
func (g Gate) same(s profile.Stack, before Terms, judge func(Terms) (Standing, error)) error {
	changed := &Refused{s.Name, "it has changed since this command began."}
	name := s.Bare
	if s.Store.Project {
		name = "project:" + s.Bare
	} else {
		name = "mine:" + name
	}
	library := g.Library
	if library.Aliases != nil {
		library.Aliases = library.Aliases.Fresh()
	}
	now, err := library.Load(name)
	if errors.Is(err, profile.ErrUnknown) {
		now, err = s, nil // it is being written
	}
	if err != nil {
		return changed
	}
	t, err := Of(library, now, g.ssh())
	if err != nil || t.Digest() != before.Digest() {
		return changed
	}
	standing, err := judge(t)
	if err != nil || !standing.Agreed {
		return &Refused{s.Name, "your agreement to it was withdrawn."}
	}
	return nil
}
