package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/person"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// wayFlags say what a kept secret is bound to.
type wayFlags struct {
	endpoint, user, profile, tls, from string
}

// declareWay makes the flags that name a user at an endpoint.
func (c *call) declareWay(fs *flag.FlagSet) {
	fs.StringVar(&c.way.profile, "profile", "", "for the user, the place and the encryption that this profile has")
	fs.StringVar(&c.way.endpoint, "for", "", "for this place: a profile's name, or HOST[:PORT][/DATABASE], or a socket's path; *.SUFFIX is every host below a suffix")
	fs.StringVar(&c.way.user, "user", "", "whose password it is")
}

// declareNew makes the flags of a new entry.
func (c *call) declareNew(fs *flag.FlagSet) {
	fs.Func("tls", "the weakest encryption that it may travel with: off, encrypt or verify (default: the profile's; else off on this machine, verify to any other)", func(text string) error {
		if target.Travel[text] == "" {
			return errors.New(harbor.FlagMark + "--tls takes off, encrypt or verify")
		}
		c.way.tls = text
		return nil
	})
	fs.StringVar(&c.way.from, "secret", "", "take it from another place now: none, empty, env:VARIABLE, file:PATH, credentials, keyring or command: [PROGRAM]")
	fs.StringVar(&c.SecretFile, "secret-file", "", "a file with the password; - reads standard input")
}

// bound gives what an entry is to be bound to, as the flags say.
func (c *call) bound(ctx context.Context) (target.Target, error) {
	var way target.Target
	c.about = c.way.profile
	switch {
	case (c.way.profile == "") == (c.way.endpoint == ""):
		return way, usage("%s wants to know what it is for: --profile NAME, or --for HOST:PORT --user NAME", c.command.name)
	case c.way.profile != "":
		e, err := c.ofProfile(ctx, c.way.profile)
		if err != nil {
			return way, err
		}
		way = e.Target()
		way.Database = ""
	default:
		var err error
		if way, err = c.endpoint(ctx, c.way.endpoint); err != nil {
			return way, err
		}
	}
	if c.way.user != "" {
		setting, _ := profile.Find("user")
		if err := setting.Check(c.way.user); err != nil {
			return way, usage("--user: %v", err)
		}
		way.User = c.way.user
	}
	if way.User == "" {
		return way, usage("whose password it is, is missing: --user NAME")
	}
	if c.way.tls != "" {
		way.TLS = c.way.tls
	}
	return way, nil
}

// ofProfile gives a profile whose way is to be used; one of a project's must be agreed to.
func (c *call) ofProfile(ctx context.Context, name string) (profile.Effective, error) {
	library, err := c.Library()
	if err != nil {
		return profile.Effective{}, err
	}
	stack, err := library.Load(name)
	if err != nil {
		return profile.Effective{}, c.LoadError(library, name, err)
	}
	admitted, err := c.Admit(ctx, library, stack)
	if err != nil {
		return profile.Effective{}, err
	}
	e := admitted.Profile()
	for _, problem := range e.Problems {
		if problem.Setting != "user" {
			return e, wrong("%s: %s", name, problem.Text)
		}
	}
	return e, nil
}

// refOf gives a profile's reference to its secret, the zero one where there is no such profile.
func (c *call) refOf(name string) secret.Reference {
	if name == "" {
		return secret.Reference{}
	}
	library, err := c.Library()
	if err != nil {
		return secret.Reference{}
	}
	stack, err := library.Load(name)
	if err != nil {
		return secret.Reference{}
	}
	return stack.Resolve().Secret
}

// endpoint reads --for: a profile's name, or a place.
func (c *call) endpoint(ctx context.Context, text string) (target.Target, error) {
	library, err := c.Library()
	if err != nil {
		return target.Target{}, err
	}
	var many *profile.AmbiguousError
	if _, _, err := library.Find(text); err == nil || errors.As(err, &many) {
		e, err := c.ofProfile(ctx, text)
		way := e.Target()
		way.Database = ""
		return way, err
	}
	e, err := target.ParseEndpoint(text)
	if err != nil {
		return target.Target{}, usage("--for %s: there is no such profile, and for a place, %v", clip(text), err)
	}
	if e.Database != "" && e.Port == 0 && !strings.ContainsAny(e.Host, ".:") && !target.Literal(e.Host) {
		return target.Target{}, usage("--for %s: there is no profile of that name; for a database on a host of one word, name the port too: %s:PORT/%s", clip(text), e.Host, e.Database)
	}
	return target.Target{Endpoint: e, TLS: e.WeakestTLS()}, nil
}

// newSecret gives the secret of a new entry: from a file, from another place, or typed twice.
func (c *call) newSecret(ctx context.Context, way target.Target) (secret.Secret, error) {
	if c.SecretFile != "" {
		return c.FromFile(ctx, c.SecretFile, "password")
	}
	if c.way.from != "" {
		ref, err := secret.ParseReference(c.way.from)
		if err != nil {
			return secret.Secret{}, usage("--secret: %v", err)
		}
		if ref.Kind == secret.Wallet || ref.Kind == secret.Ask {
			return secret.Secret{}, usage("--secret takes the password from another place; %s is none", ref.Kind)
		}
		s, _, err := c.Finder(secret.Secret{}).Find(ctx, secret.Want{Ref: ref, Way: way})
		return s, c.failed(err)
	}
	if !c.Who.Here() {
		return secret.Secret{}, usage("the password is needed, and there is no terminal to type it at: --secret-file FILE (- reads standard input), or --secret none where there is no password")
	}
	prompt := fmt.Sprintf("Password of %s at %s", way.User, way.Endpoint)
	for {
		s, err := person.Secret(ctx, c.Who, prompt)
		if err != nil || s.Reveal() == "" {
			return s, err
		}
		same, err := person.Again(ctx, c.Who, s.Reveal())
		if err != nil || same {
			return s, err
		}
	}
}

// agreed asks for a yes where something is to be agreed to; without a terminal --yes says it.
func (c *call) agreed(ctx context.Context, question, otherwise string) (bool, error) {
	if c.yes {
		return true, nil
	}
	if !c.Who.Here() {
		return false, usage("%s; say --yes when that is meant", otherwise)
	}
	return person.Yes(ctx, c.Who, question, false)
}

// user is a profile and the way that it goes, for telling which entries are used.
type user struct {
	name string
	way  target.Target
	ref  secret.Reference
}

// users lists the profiles whose secret may come from a place that keeps some, and how they connect.
func (c *call) users() []user {
	library, err := c.Library()
	if err != nil {
		return nil
	}
	library = library.Remembering()
	entries, _ := library.List()
	var list []user
	for _, entry := range entries {
		stack, err := library.Load(entry.Name)
		if err != nil {
			continue
		}
		e := stack.Resolve()
		list = append(list, user{entry.Name, e.Target(), e.Secret})
	}
	return list
}
