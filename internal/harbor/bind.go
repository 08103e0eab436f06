package harbor

import (
	"context"
	"errors"
	"strings"

	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/target"
)

// Binding says what a kept secret is to be bound to. Exactly one of Profile and For is given.
type Binding struct {
	Profile string   // the target of this profile
	For     string   // a profile's name, or an endpoint as [target.ParseEndpoint] reads it
	User    string   // in the place of the profile's user
	TLS     string   // the weakest encryption; "" for the profile's or the endpoint's own
	Via     []string // the hops before it, where For is an endpoint
}

// Bind gives the target that a binding names. Command is the command's name, for the error of a binding that is not
// complete. A profile of a project must be agreed to.
func (r Run) Bind(ctx context.Context, command string, b Binding) (target.Target, error) {
	var to target.Target
	var err error
	switch {
	case (b.Profile == "") == (b.For == ""):
		return to, world.Usage("%s wants to know what it is for: --profile NAME, or --for HOST:PORT --user NAME", command)
	case b.Profile != "":
		e, err := r.Admitted(ctx, b.Profile)
		if err != nil {
			return to, err
		}
		if to, err = r.Target(ctx, e); err != nil {
			return to, err
		}
		to.Database = ""
	default:
		if to, err = r.endpoint(ctx, b.For); err != nil {
			return to, err
		}
	}
	for _, text := range b.Via {
		h, err := profile.ParseHop(text)
		if err != nil {
			return to, world.Usage("--via: %v", err)
		}
		to.Hops = append(to.Hops, h.String())
	}
	if b.User != "" {
		setting, _ := profile.Find("user")
		if err := setting.Check(b.User); err != nil {
			return to, world.Usage("--user: %v", err)
		}
		to.User = b.User
	}
	if to.User == "" {
		return to, world.Usage("whose password it is, is missing: --user NAME")
	}
	if b.TLS != "" {
		to.TLS = b.TLS
	}
	return to, nil
}

// endpoint reads --for: a profile's name, or an endpoint.
func (r Run) endpoint(ctx context.Context, text string) (target.Target, error) {
	library, err := r.Library()
	if err != nil {
		return target.Target{}, err
	}
	var many *profile.AmbiguousError
	if _, _, err := library.Find(text); err == nil || errors.As(err, &many) {
		e, err := r.Admitted(ctx, text)
		if err != nil {
			return target.Target{}, err
		}
		to, err := r.Target(ctx, e)
		to.Database = ""
		return to, err
	}
	if rest, hop := strings.CutPrefix(text, "ssh:"); hop {
		h, err := target.ParseHop(rest)
		if err != nil {
			return target.Target{}, world.Usage("--for %s: %v", world.Clip(text), err)
		}
		return h.Target(nil), nil
	}
	if rest, key := strings.CutPrefix(text, "cloud-key:"); key {
		e, err := target.ParseEndpoint(rest)
		if err != nil || e.Host == "" || e.Database != "" {
			return target.Target{}, world.Usage("--for %s: the key of a cloud account is for cloud-key:HOST:PORT, as gharbor wallet list shows it", world.Clip(text))
		}
		return target.Target{Service: target.CloudKey, Endpoint: e, TLS: e.WeakestTLS()}, nil
	}
	e, err := target.ParseEndpoint(text)
	if err != nil {
		return target.Target{}, world.Usage("--for %s: there is no such profile, and as an address, %v", world.Clip(text), err)
	}
	if e.Container != "" {
		c, err := target.ParseContained(e.Container)
		if err != nil {
			return target.Target{}, world.Usage("--for %s: %v", world.Clip(text), err)
		}
		c.Port = e.Port
		return r.Target(ctx, profile.Resolve(r.Account(), "", profile.Layer{"container": {Text: c.String()}}))
	}
	if id, _, is := strings.Cut(e.Cloud, "@"); is && id != "" {
		return target.Target{Endpoint: e, TLS: e.WeakestTLS()}, nil
	}
	if e.Alias != "" {
		now, err := r.AliasTarget(e.Alias, nil)
		if err != nil {
			return target.Target{}, err
		}
		to := now.Target()
		to.User, to.Database = "", e.Database
		return to, nil
	}
	if e.Database != "" && e.Port == 0 && !strings.ContainsAny(e.Host, ".:") && !target.Literal(e.Host) {
		return target.Target{}, world.Usage("--for %s: there is no profile of that name; for a database on a host of one word, name the port too: %s:PORT/%s", world.Clip(text), e.Host, e.Database)
	}
	return target.Target{Endpoint: e, TLS: e.WeakestTLS()}, nil
}

// AliasTarget gives what a secret for an alias is bound to now, and a profile of it for a look at its addresses.
func (r Run) AliasTarget(name string, more profile.Layer) (profile.Effective, error) {
	library, err := r.Library()
	if err != nil {
		return profile.Effective{}, err
	}
	layer := profile.Layer{"alias": {Text: name, Origin: profile.Origin{Layer: profile.LayerFlag}}}
	e := library.Stack("", r.Set, more, layer).Resolve()
	for _, p := range e.Problems {
		if p.Setting == "alias" {
			return e, world.Wrong("%s", strings.TrimSuffix(world.LowerFirst(p.Text), "."))
		}
	}
	return e, nil
}
