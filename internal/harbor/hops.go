package harbor

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/discover"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/route/jump"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// hops makes the hops of a profile's route. Pause stops the clock of the leg while a person or an
// agent is asked.
func (r Run) hops(a agree.Admitted, pause func() (resume func())) ([]route.Hop, error) {
	return r.makeHops(a, pause, r.Who.Here())
}

// QuietHops is hops for a route that is opened anew: nobody is asked.
func (r Run) QuietHops(a agree.Admitted, pause func() (resume func())) ([]route.Hop, error) {
	return r.makeHops(a, pause, false)
}

func (r Run) makeHops(a agree.Admitted, pause func() (resume func()), asking bool) ([]route.Hop, error) {
	p := a.Profile()
	via := p.Via
	if p.InContainer() {
		var err error
		if via, err = r.engineHops(); err != nil {
			return nil, err
		}
	}
	config, agreed := a.SSH()
	if !agreed {
		config = r.SSHConfig()
	}
	strange := p.Values["via"].Origin.Project != "" && !p.InContainer()
	return r.hopsIn(config, strange, via, p.Ask, pause, asking)
}

// engineHops gives the jump host through which the container engine is reached, none for another
// engine.
func (r Run) engineHops() ([]target.Hop, error) {
	engines, err := r.Engines()
	if err != nil {
		return nil, &finding.Problem{Code: finding.ContainerEngineChoice, Err: err,
			Facts: finding.Facts{finding.FactWrong: err.Error()}}
	}
	for _, e := range engines {
		if hop, _, ssh := e.Hop(); ssh {
			return []target.Hop{hop}, nil
		}
	}
	return nil, nil
}

// hopsOf makes hops of what is written by the user. Limit is how long a person or an agent may
// take to answer.
func (r Run) hopsOf(via []target.Hop, limit time.Duration, pause func() (resume func()),
	asking bool) ([]route.Hop, error) {
	return r.hopsIn(r.SSHConfig(), false, via, limit, pause, asking)
}

// hopsIn is hopsOf by a configuration; strange says that a project names the hops.
func (r Run) hopsIn(config jump.Config, strange bool, via []target.Hop, limit time.Duration,
	pause func() (resume func()), asking bool) ([]route.Hop, error) {
	list, err := config.Expand(via)
	if err != nil {
		return nil, err
	}
	own, err := r.KnownHosts()
	if err != nil {
		return nil, err
	}
	if err := r.renewKnownHosts(own); err != nil {
		return nil, err
	}
	temp, err := r.Temp()
	if err != nil {
		return nil, err
	}
	var hops []route.Hop
	for i, each := range list {
		before := slices.Clone(list[:i])
		h := &jump.Hop{Hop: each, Before: before, Config: config, Own: own, Accepted: r.AcceptedKeys,
			Pause: pause, AskLimit: limit, Resolver: r.Resolver, Strange: strange, Temp: temp, News: &r.News}
		h.Passphrase = func(ctx context.Context, path string, named bool) (secret.Secret, error) {
			return r.passphraseOf(ctx, each, before, path, named, asking)
		}
		h.Password = func(ctx context.Context, user string, port int) (secret.Secret, secret.Source, error) {
			return r.passwordOf(ctx, each, before, user, port, asking)
		}
		h.Who = func(ctx context.Context, first string, connect func(ctx context.Context) (net.Conn, error)) string {
			if first != "" {
				return known.Identify([]byte(first)).Title
			}
			return discover.GreetsAsDatabase(ctx, connect).Title
		}
		if asking {
			h.Accept = r.acceptHostKey
			h.Answer = func(ctx context.Context, question string, shown bool) (secret.Secret, error) {
				defer r.Typed.OneAtATime()()
				ask := r.Who.Hidden
				if shown {
					ask = r.Who.Ask
				}
				text, err := ask(ctx, question)
				return secret.New(text), err
			}
		}
		hops = append(hops, h)
	}
	return hops, nil
}

// forHop gives a finder for a hop's secret: what is given for the database (--secret-file, a
// connection string) is not for it. What was typed in this run is given again, until a hop
// refuses it.
func (r Run) forHop(what, prompt string, asking bool) secret.Finder {
	f := r.Quiet()
	f.Quiet = !asking
	if known, typed := r.TypedForHops.Load(what); typed {
		f.Ask = func(context.Context, target.Target) (secret.Secret, error) { return known.(secret.Secret), nil }
	} else if asking {
		f.Ask = func(ctx context.Context, _ target.Target) (secret.Secret, error) {
			defer r.Typed.OneAtATime()()
			s, err := world.Secret(ctx, r.Who, prompt)
			if err == nil {
				r.TypedForHops.Store(what, s)
			}
			return s, err
		}
	}
	return f
}

// hopTarget is what a secret for a hop is bound to, once its user and its port are known.
func hopTarget(h target.Hop, before []target.Hop, user string, port int) target.Target {
	if h.User == "" {
		h.User = user
	}
	if h.Port == 0 {
		h.Port = port
	}
	return h.Target(before)
}

// passphraseOf gives the passphrase of a key: by the hop's reference where the hop names that
// key, else typed.
func (r Run) passphraseOf(ctx context.Context, h target.Hop, before []target.Hop, path string, named,
	asking bool) (secret.Secret, error) {
	f := r.forHop("key "+path, "Passphrase of the key "+outside.Cell(path), asking)
	if named && h.Secret != "" {
		ref, err := secret.ParseReference(h.Secret)
		if err != nil {
			return secret.Secret{}, err
		}
		s, _, err := f.Find(ctx, secret.Want{Ref: ref, Target: hopTarget(h, before, "", 22)})
		return s, err
	}
	if f.Ask == nil {
		return secret.Secret{}, &finding.Problem{Code: finding.SecretNobodyToAsk,
			Facts: finding.Facts{finding.FactDetail: "there is no terminal to ask at, and the hop names no secret for it."}}
	}
	return f.Ask(ctx, target.Target{})
}

// passwordOf gives the password for a hop. Where the hop names a key, its reference is for that
// key, and only a person can give a password.
func (r Run) passwordOf(ctx context.Context, h target.Hop, before []target.Hop, user string, port int,
	asking bool) (secret.Secret, secret.Source, error) {
	to := hopTarget(h, before, user, port)
	f := r.forHop("hop "+to.Key(), fmt.Sprintf("Password of %s on the hop %s", outside.Cell(to.User),
		outside.Cell(h.String())), asking)
	ref, err := secret.ParseReference(h.Secret)
	if h.Secret == "" {
		ref, err = secret.Reference{}, nil
	}
	if err != nil {
		return secret.Secret{}, secret.Source{}, err
	}
	if h.Key != "" {
		ref = secret.Reference{Kind: secret.Ask}
	}
	s, source, err := f.Find(ctx, secret.Want{Ref: ref, Target: to})
	p, missing := finding.AsProblem(err)
	if missing == nil && p != nil && h.Secret == "" &&
		slices.Contains([]finding.Code{finding.SecretBoundElsewhere, finding.SecretWalletLocked,
			finding.SecretNotKept}, p.Code) {
		err = &finding.Problem{Code: finding.SecretNone} // it was only looked for; without one the hop says what it wants
	}
	return s, source, err
}

// acceptHostKey asks a person whether a hop's key is the right one.
func (r Run) acceptHostKey(ctx context.Context, key jump.HostKey) (bool, error) {
	defer r.Typed.OneAtATime()()
	lines := []string{
		"The hop " + outside.Cell(key.Hop) + " is not known here. It shows this host key:",
		"  " + outside.Cell(key.Type) + " " + outside.Cell(key.Fingerprint),
	}
	if len(key.Given) > 0 {
		lines = append(lines, "--accept-host-key was given for another key:", "  "+outside.Cell(strings.Join(key.Given,
			"\n  ")))
	}
	if len(key.Others) > 0 {
		lines = append(lines, "It has other keys too:", "  "+outside.Cell(strings.Join(key.Others, "\n  ")))
	}
	lines = append(lines, "Compare it with what the people who run the hop say, or on the hop itself:",
		"  ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub")
	r.Who.Say(strings.Join(lines, "\n"))
	return world.Yes(ctx, r.Who, "Is it the same?", false)
}

// KnownHop is a host key that was accepted here.
type KnownHop struct {
	Hop         string `json:"hop"` // with the hops before it behind an @
	Type        string `json:"type"`
	Fingerprint string `json:"fingerprint"`
	Note        string `json:"note"` // since when
}

// renewKnownHosts brings the file of accepted host keys to today's format, once, and says what
// that took out.
func (r Run) renewKnownHosts(path string) error {
	gone, err := jump.Renew(context.Background(), path)
	if gone > 0 {
		r.Note("Host keys that hops had announced were taken out of %s (%d of them): an older version also "+
			"believed a hop that only a certificate had proven. A test asks about a hop that has no other known key.",
			outside.Cell(path), gone)
	}
	if err != nil {
		return world.Wrong("the host keys that were accepted here cannot be renewed: %v", err)
	}
	return nil
}

// namesOf gives the names that a hop can have in the file of accepted host keys: as it is listed
// there, and, for a hop as a profile says it, as the SSH configuration leads to it.
func (r Run) namesOf(hop string) []string {
	names := []string{hop, jump.NameOf(hop)}
	if h, err := profile.ParseHop(hop); err == nil {
		names = append(names, jump.OwnName(h, nil))
		if name, err := r.SSHConfig().NameIn(h); err == nil {
			names = append(names, name)
		}
	}
	return names
}

// KnownHops lists the host keys that were accepted here: those of one hop, which is named as it
// is listed or as a profile says it, or all for "".
func (r Run) KnownHops(hop string) ([]KnownHop, error) {
	path, err := r.KnownHosts()
	if err != nil {
		return nil, err
	}
	if err := r.renewKnownHosts(path); err != nil {
		return nil, err
	}
	var keys jump.HostKeys
	if err := keys.ReadLearned(path); err != nil {
		return nil, world.Doing("list the host keys", err)
	}
	names := r.namesOf(hop)
	list := []KnownHop{}
	for _, line := range keys.Lines() {
		if hop == "" || slices.ContainsFunc(line.Hosts, func(host string) bool { return slices.Contains(names, host) }) {
			list = append(list, KnownHop{jump.HopOf(strings.Join(line.Hosts, ",")), line.Key.Type(),
				jump.Fingerprint(line.Key), line.Note})
		}
	}
	if hop != "" && len(list) == 0 {
		return nil, noneAccepted(hop)
	}
	return list, nil
}

func noneAccepted(hop string) error {
	return world.Wrong("no key of %s was accepted here. To see those that were: gharbor hops list", world.Clip(hop))
}

// ForgetHop forgets the keys of a hop, which is named as it is listed, or as a profile says it.
func (r Run) ForgetHop(ctx context.Context, hop string) (gone int, err error) {
	path, err := r.KnownHosts()
	if err != nil {
		return 0, err
	}
	if gone, err = jump.Forget(ctx, path, r.namesOf(hop)); err != nil {
		return 0, world.Doing("forget a host key", err)
	}
	if gone == 0 {
		return 0, noneAccepted(hop)
	}
	return gone, nil
}
