package harbor

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/target"
)

// CloudAccount gives the account of a name; "" is the only one.
func (r *Run) CloudAccount(name string) (cloud.Account, error) {
	list, err := r.accounts()
	if err != nil {
		return cloud.Account{}, err
	}
	if names := list.Names(); name == "" && len(names) != 1 {
		if len(names) == 0 {
			return cloud.Account{}, Wrong("there is no cloud account yet; gharbor cloud add NAME URL makes one")
		}
		return cloud.Account{}, Usage("there are several cloud accounts (%s); say which", strings.Join(names, ", "))
	} else if name == "" {
		name = names[0]
	}
	a, err := list.Load(name)
	if err != nil {
		return a, noAccount(list, name, err)
	}
	return a, nil
}

// session gives an account's sign-in, the same one for all of a run.
func (r *Run) session(a cloud.Account) (*cloud.Session, error) {
	state, err := r.State()
	if err != nil {
		return nil, err
	}
	r.clouds.mu.Lock()
	defer r.clouds.mu.Unlock()
	s := r.clouds.sessions[a.Name]
	if s == nil {
		s = &cloud.Session{File: filepath.Join(state, "clouds", a.Name+".json"), Keys: cloudKeys{r}, Note: func(text string) { r.Note("%s", text) }}
		if r.clouds.sessions == nil {
			r.clouds.sessions = map[string]*cloud.Session{}
		}
		r.clouds.sessions[a.Name] = s
	}
	return s, nil
}

// CloudClient gives a client of an account; "" is the only one.
func (r *Run) CloudClient(name string) (*cloud.Client, error) {
	a, err := r.CloudAccount(name)
	if err != nil {
		return nil, err
	}
	return r.clientOf(a)
}

func (r *Run) clientOf(a cloud.Account) (*cloud.Client, error) {
	c, err := cloud.NewClient(a, r.Resolver)
	if err != nil {
		return nil, Wrong("%v", err)
	}
	c.Session, err = r.session(a)
	return c, err
}

// locator gives what asks the cloud of a profile's server.
func (r *Run) locator(p profile.Effective) *cloud.Locator {
	info, _ := known.Info(p.Engine)
	r.clouds.mu.Lock()
	memory := r.clouds.memories[p.Clouded]
	if memory == nil {
		memory = &cloud.Memory{}
		if r.clouds.memories == nil {
			r.clouds.memories = map[target.Clouded]*cloud.Memory{}
		}
		r.clouds.memories[p.Clouded] = memory
	}
	r.clouds.mu.Unlock()
	return &cloud.Locator{Want: p.Clouded, Info: info, Memory: memory, Client: func(context.Context) (*cloud.Client, error) {
		c, err := r.CloudClient(p.Clouded.Account)
		if err != nil {
			return nil, &finding.Problem{Code: finding.CloudAccountBroken, Err: err, Facts: finding.Facts{finding.FactCloudAccount: p.Clouded.Account, finding.FactWrong: upperFirst(err.Error()) + "."}}
		}
		c.Limit = p.Leg
		return c, nil
	}}
}

// found gives a profile with the id of its cloud's server, where this run has found it.
func (r *Run) found(e profile.Effective) profile.Effective {
	if id, known := r.clouds.servers.Load(e.Clouded.String()); known && e.InCloud() && e.Server == "" {
		e.Server = id.(string)
	}
	return e
}

// located gives a profile with the id of its cloud's server, which is looked up where that was not done yet.
func (r *Run) located(ctx context.Context, e profile.Effective) (profile.Effective, error) {
	if e = r.found(e); !e.InCloud() || e.Server != "" {
		return e, nil
	}
	found, err := r.locator(e).Find(ctx)
	if err != nil {
		return e, err
	}
	r.clouds.servers.Store(e.Clouded.String(), found.ID)
	return r.found(e), nil
}

// concrete gives a cloud's profile as one with host, port and authority, as it is now: for other programs, which know of no cloud. Any other
// profile is given as it is.
func (r *Run) concrete(ctx context.Context, e profile.Effective) (profile.Effective, error) {
	if !e.InCloud() {
		return e, nil
	}
	found, err := r.locator(e).Find(ctx)
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
			return e, Wrong("%v", err)
		}
	}
	return e.Outside(found.Located(), ca, found.Name), nil
}

// wordCloud words a problem of a cloud for a command that reports no legs.
func wordCloud(err error) error {
	p, other := finding.AsProblem(err)
	if p == nil {
		return other
	}
	made := finding.Make(p.Code, finding.About{Facts: p.Facts})
	return &CloudFailed{made, p}
}

// CloudFailed is what a cloud has against a command, as a finding.
type CloudFailed struct {
	Finding finding.Finding
	Err     *finding.Problem
}

// Error gives the finding's cause.
func (f *CloudFailed) Error() string { return f.Finding.Cause }

// Unwrap gives Err.
func (f *CloudFailed) Unwrap() error { return f.Err }

// CloudServers lists the servers of an account; "" is the only one.
func (r *Run) CloudServers(ctx context.Context, name string) (cloud.Account, []cloud.Server, error) {
	c, err := r.CloudClient(name)
	if err != nil {
		return cloud.Account{}, nil, err
	}
	list, err := c.Servers(ctx, "")
	if err != nil {
		return c.Account, nil, wordCloud(err)
	}
	slices.SortFunc(list, func(a, b cloud.Server) int { return strings.Compare(a.Name+a.ID, b.Name+b.ID) })
	return c.Account, list, nil
}

// CloudServer gives one server with its databases, and how this machine stands with its network: ACCOUNT/SERVER, or SERVER of the only account. What
// could not be asked is nil, and told.
func (r *Run) CloudServer(ctx context.Context, word string) (cloud.Account, cloud.Server, []string, []cloud.Admission, error) {
	account, name, ok := strings.Cut(word, "/")
	if !ok {
		account, name = "", word
	}
	c, err := r.CloudClient(account)
	if err != nil {
		return cloud.Account{}, cloud.Server{}, nil, nil, err
	}
	s, err := c.Server(ctx, name)
	if err != nil {
		return c.Account, s, nil, nil, wordCloud(err)
	}
	databases, err := c.Databases(ctx, s.ID)
	if err != nil {
		if ctx.Err() != nil {
			return c.Account, s, nil, nil, ctx.Err()
		}
		r.Note("its databases cannot be listed: %v", wordCloud(err))
	}
	list, err := c.Admissions(ctx, s.ID)
	if err != nil {
		if ctx.Err() != nil {
			return c.Account, s, nil, nil, ctx.Err()
		}
		r.Note("what is let in cannot be listed: %v", wordCloud(err))
	} else if list == nil {
		list = []cloud.Admission{}
	}
	return c.Account, s, databases, list, nil
}

// hopInto finds a profile of the user's own that goes through a hop to a server with a private address, best to one of the same network.
func (r *Run) hopInto(address, except string) (name, hop string) {
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

// offerCloud gives what a checker needs of clouds.
func (r *Run) withClouds(c checkup.Checker) checkup.Checker {
	c.Cloud, c.Logins, c.HopInto = r.locator, &r.clouds.logins, r.hopInto
	return c
}

// hasClouds reports whether there is any account, without reading one.
func (r *Run) hasClouds() bool {
	list, err := r.accounts()
	if err != nil {
		return false
	}
	_, err = os.Stat(list.Dir)
	return err == nil
}

// CloudNames lists the names of the user's cloud accounts.
func (r *Run) CloudNames() []string {
	list, err := r.accounts()
	if err != nil {
		return nil
	}
	return list.Names()
}
