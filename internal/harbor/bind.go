package harbor

import (
	"context"
	"errors"
	"strings"

	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/target"
)

// Binding says what a stored secret is to be bound to. Exactly one of Profile and Server is given.
type Binding struct {
	Profile string   // the target of this profile
	Server  string   // an endpoint as [target.ParseEndpoint] reads it
	User    string   // instead of the profile's user
	TLS     string   // the weakest encryption; "" for the profile's or the endpoint's own
	Via     []string // the hops before it, where Server is given
}

// Bind gives the target that a binding names. Command is the command's name, for the error of a
// binding that is not complete. A profile of a project must be agreed to.
func (r Run) Bind(ctx context.Context, command string, b Binding) (target.Target, error) {
	var to target.Target
	var err error
	switch {
	case (b.Profile == "") == (b.Server == ""):
		return to, world.Usage("%s needs a profile's name, or a server and a user: gharbor %s --server "+
			"db.fellside.example:5432 --user reader",
			command, command)
	case b.Profile != "":
		e, err := r.Admitted(ctx, b.Profile)
		if err != nil {
			return to, err
		}
		if to, err = r.Target(ctx, e); err != nil {
			return to, err
		}
		to = e.ToStore(to)
	default:
		if to, err = r.endpoint(ctx, command, b.Server); err != nil {
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
		return to, world.Usage("%s does not know the user whose password it is, such as --user reader", command)
	}
	if b.TLS != "" {
		to.TLS = b.TLS
	}
	return to, nil
}

// endpoint reads --server: an endpoint, and no profile's name.
func (r Run) endpoint(ctx context.Context, command, text string) (target.Target, error) {
	library, err := r.Library()
	if err != nil {
		return target.Target{}, err
	}
	var many *profile.AmbiguousError
	if _, _, err := library.Find(text); err == nil || errors.As(err, &many) {
		return target.Target{}, world.Usage("--server takes a server, and %s is a profile; its name is written "+
			"alone: gharbor %s %s", world.Clip(text),
			command, world.Clip(text))
	}
	if rest, hop := strings.CutPrefix(text, "ssh:"); hop {
		h, err := target.ParseHop(rest)
		if err != nil {
			return target.Target{}, world.Usage("--server %s: %v", world.Clip(text), err)
		}
		return h.Target(nil), nil
	}
	if rest, key := strings.CutPrefix(text, "cloud-key:"); key {
		e, err := target.ParseEndpoint(rest)
		if err != nil || e.Host == "" || e.Database != "" {
			return target.Target{}, world.Usage("--server %s: the key of a cloud account is for "+
				"cloud-key:HOST:PORT. To see the entries: gharbor wallet list", world.Clip(text))
		}
		return target.Target{Service: target.CloudKey, Endpoint: e, TLS: e.WeakestTLS()}, nil
	}
	e, err := target.ParseEndpoint(text)
	if err != nil {
		return target.Target{}, world.Usage("--server %s: %v", world.Clip(text), err)
	}
	if e.Container != "" {
		c, err := target.ParseContained(e.Container)
		if err != nil {
			return target.Target{}, world.Usage("--server %s: %v", world.Clip(text), err)
		}
		c.Port = e.Port
		to, err := r.Target(ctx, profile.Resolve(r.Account(), "", profile.Layer{"container": {Text: c.String()}}))
		to.Database = e.Database
		return to, err
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
		return target.Target{}, world.Usage("--server %s: %s looks like a profile's name, and there is no such "+
			"profile; for a database on a host of one word, name the port too: --server %s:5432/%s", world.Clip(text),
			world.Clip(text), e.Host, e.Database)
	}
	return target.Target{Endpoint: e, TLS: e.WeakestTLS()}, nil
}

// AliasTarget gives what a secret for an alias is bound to now, and a profile of it for a look at
// its addresses.
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
