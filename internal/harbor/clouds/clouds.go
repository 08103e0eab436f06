// Package clouds is what a use case does with the user's cloud accounts: it signs in, asks for
// servers and addresses, and has addresses let in. What it learns stays in the [world.World].
package clouds

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/stores"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// Clouds is the cloud accounts of a use case, and the stores that keep the keys of their sign-ins.
type Clouds struct{ stores.Stores }

// session gives an account's sign-in, the same one for all of a run.
func (r Clouds) session(a cloud.Account) (*cloud.Session, error) {
	state, err := r.State()
	if err != nil {
		return nil, err
	}
	return r.World.Clouds.Session(a.Name, [2]string{r.WalletPath, r.PassphraseFile}, func() *cloud.Session {
		return &cloud.Session{File: filepath.Join(state, "clouds", a.Name+".json"), Keys: keys{r.Stores},
			Note: func(text string) { r.Note("%s", text) }}
	}), nil
}

// CloudClient gives a client of an account; "" is the only one.
func (r Clouds) CloudClient(name string) (*cloud.Client, error) {
	a, err := r.CloudAccount(name)
	if err != nil {
		return nil, err
	}
	return r.ClientOf(a)
}

// ClientOf gives a client of an account.
func (r Clouds) ClientOf(a cloud.Account) (*cloud.Client, error) {
	c, err := cloud.NewClient(a, r.Resolver)
	if err != nil {
		return nil, world.Doing("reach the cloud", err)
	}
	c.Session, err = r.session(a)
	return c, err
}

// Locator gives what asks the cloud of a profile's server.
func (r Clouds) Locator(p profile.Effective) *cloud.Locator {
	info, _ := known.Info(p.Engine)
	return &cloud.Locator{Want: p.Clouded, Info: info, Memory: r.World.Clouds.Memory(p.Clouded, r.Now),
		Client: func(context.Context) (*cloud.Client, error) {
			c, err := r.CloudClient(p.Clouded.Account)
			if err != nil {
				return nil, &finding.Problem{Code: finding.CloudAccountBroken, Err: err,
					Facts: finding.Facts{finding.FactCloudAccount: p.Clouded.Account,
						finding.FactWrong: world.UpperFirst(err.Error()) + "."}}
			}
			c.Limit = p.Leg
			return c, nil
		}}
}

// Found gives a profile with the id of its cloud's server, where this run has found it.
func (r Clouds) Found(e profile.Effective) profile.Effective {
	if id, known := r.World.Clouds.Servers.Load(e.Clouded.String()); known && e.InCloud() && e.Server == "" {
		e.Server = id.(string)
	}
	return e
}

// Located gives a profile with the id of its cloud's server, which is looked up where that was
// not done yet.
func (r Clouds) Located(ctx context.Context, e profile.Effective) (profile.Effective, error) {
	if e = r.Found(e); !e.InCloud() || e.Server != "" {
		return e, nil
	}
	found, err := r.Locator(e).Find(ctx)
	if err != nil {
		return e, err
	}
	r.World.Clouds.Servers.Store(e.Clouded.String(), found.ID)
	return r.Found(e), nil
}

// Concrete gives a cloud's profile as one with host, port and authority, as it is now: for other
// programs, which know of no cloud. Any other profile is given as it is.
func (r Clouds) Concrete(ctx context.Context, e profile.Effective) (profile.Effective, error) {
	if !e.InCloud() {
		return e, nil
	}
	found, err := r.Locator(e).Find(ctx)
	if err != nil {
		return e, err
	}
	ca := ""
	if found.Server.Authority != "" && e.TLS.CA == "" {
		state, err := r.State()
		if err != nil {
			return e, err
		}
		// Its name is the server's, and the file its owner's alone: it says who is trusted.
		ca = filepath.Join(state, "clouds", found.Client.Account.Name+"."+found.ID+".pem")
		if err := files.Write(ca, []byte(found.Server.Authority), 0o600); err != nil {
			return e, world.Doing("note the authority of the cloud's server", err)
		}
	}
	return e.Outside(found.Located(), ca, found.CertificateName), nil
}

// Word words a problem of a cloud for a command that reports no legs.
func Word(err error) error {
	p, other := finding.AsProblem(err)
	if p == nil {
		return other
	}
	made := finding.Make(p.Code, finding.About{Facts: p.Facts})
	return &Failed{made, p}
}

// Failed is what a cloud has against a command, as a finding.
type Failed struct {
	Finding finding.Finding
	Err     *finding.Problem
}

// Error gives the finding's cause.
func (f *Failed) Error() string { return f.Finding.Cause }

// Unwrap gives Err.
func (f *Failed) Unwrap() error { return f.Err }

// CloudServers lists the servers of an account; "" is the only one.
func (r Clouds) CloudServers(ctx context.Context, name string) (cloud.Account, []cloud.Server, error) {
	c, err := r.CloudClient(name)
	if err != nil {
		return cloud.Account{}, nil, err
	}
	list, err := c.Servers(ctx, "")
	if err != nil {
		return c.Account, nil, Word(err)
	}
	slices.SortFunc(list, func(a, b cloud.Server) int { return strings.Compare(a.Name+a.ID, b.Name+b.ID) })
	return c.Account, list, nil
}

// CloudServer gives one server with its databases, and how this machine stands with its network:
// ACCOUNT/SERVER, or SERVER of the only account. What could not be asked is nil, and told.
func (r Clouds) CloudServer(ctx context.Context, word string) (of cloud.Account, server cloud.Server,
	databases []string, admitted []cloud.Admission, err error) {
	account, name, ok := strings.Cut(word, "/")
	if !ok {
		account, name = "", word
	}
	c, err := r.CloudClient(account)
	if err != nil {
		return cloud.Account{}, cloud.Server{}, nil, nil, err
	}
	server, err = c.Server(ctx, name)
	if err != nil {
		return c.Account, server, nil, nil, Word(err)
	}
	databases, err = c.Databases(ctx, server.ID)
	if err != nil {
		if ctx.Err() != nil {
			return c.Account, server, nil, nil, ctx.Err()
		}
		r.Note("its databases cannot be listed: %v", Word(err))
	}
	admitted, err = c.Admissions(ctx, server.ID)
	if err != nil {
		if ctx.Err() != nil {
			return c.Account, server, nil, nil, ctx.Err()
		}
		r.Note("what is let in cannot be listed: %v", Word(err))
	} else if admitted == nil {
		admitted = []cloud.Admission{}
	}
	return c.Account, server, databases, admitted, nil
}

// HopInto finds a profile of the user's own that goes through a hop to a server with a private
// address, best to one of the same network.
func (r Clouds) HopInto(address, except string) (name, hop string) {
	library, err := r.Library()
	if err != nil {
		return "", ""
	}
	library = library.Remembering()
	names, _ := library.Mine.Names()
	best := -1
	for _, each := range names {
		stack, err := library.Load("mine:" + each)
		if err != nil || stack.Stranger || each == except {
			continue
		}
		e := stack.Resolve()
		if len(e.Via) != 1 {
			continue
		}
		if likeness := sameBeginning(e.Host, address); likeness > best {
			best, name, hop = likeness, each, e.Values["via"].List[0]
		}
	}
	return name, hop
}

// sameBeginning counts the parts at the beginning that two addresses have in common.
func sameBeginning(a, b string) int {
	as, bs := strings.FieldsFunc(a, isPartEnd), strings.FieldsFunc(b, isPartEnd)
	n := 0
	for n < len(as) && n < len(bs) && as[n] == bs[n] {
		n++
	}
	return n
}

func isPartEnd(r rune) bool { return r == '.' || r == ':' }
