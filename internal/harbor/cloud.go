package harbor

import (
	"context"
	"errors"
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
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
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
		// Its name is the server's, and the file its owner's alone: it says whom to trust.
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

// cloudKeys keeps the keys of sign-ins in the run's wallets, or in the keyring.
type cloudKeys struct{ *Run }

// Key looks for the key of an account. The error is a *finding.Problem, or that of asking a person.
func (k cloudKeys) Key(ctx context.Context, a cloud.Account) (secret.Secret, error) {
	s, _, err := k.look(ctx, a)
	return s, err
}

func (k cloudKeys) look(ctx context.Context, a cloud.Account) (secret.Secret, string, error) {
	var first error
	for _, dir := range k.WalletDirs() {
		keeper := k.Keeper(dir)
		if !keeper.Wallet.Exists() {
			continue
		}
		s, _, err := keeper.Look(ctx, a.Place(), secret.Named)
		p, other := finding.AsProblem(err)
		switch {
		case err == nil:
			return s, "wallet", nil
		case other != nil:
			return s, "", other
		case first == nil && p.Code != finding.SecretNotKept && p.Code != finding.SecretBoundElsewhere:
			first = err
		}
	}
	if ring := k.Keyring(); ring.Session() {
		s, _, err := ring.Look(ctx, a.Place(), secret.Named)
		if err == nil {
			return s, "keyring", nil
		}
		if ctx.Err() != nil {
			return s, "", ctx.Err()
		}
	}
	if first == nil {
		first = &finding.Problem{Code: finding.SecretNotKept, Facts: finding.Facts{finding.FactDetail: "No wallet and no keyring here keeps the key."}}
	}
	return secret.Secret{}, "", first
}

// keyFor gives the key of an account's sign-in, and makes one where there is none yet: in the wallet, or in the keyring where Keep says so or there
// is no wallet. Where says in a few words where it is.
func (r *Run) keyFor(ctx context.Context, a cloud.Account) (key secret.Secret, where string, err error) {
	if key, in, err := (cloudKeys{r}).look(ctx, a); err == nil && (r.Keep == "" || r.Keep == in) {
		return key, "the " + in + ", as before", nil
	} else if ctx.Err() != nil {
		return key, "", ctx.Err()
	}
	if key, err = cloud.NewKey(); err != nil {
		return key, "", err
	}
	dir, err := r.WalletDir("")
	if err != nil {
		return key, "", err
	}
	w := r.WalletAt(dir)
	if r.Keep == "keyring" || r.Keep == "" && !w.Exists() && r.Keyring().Session() {
		return key, "the desktop's keyring", r.Keyring().Put(ctx, a.Place(), key)
	}
	if !w.Exists() && !r.Who.Here() && r.PassphraseFile == "" {
		return key, "", Usage("the key of the sign-in needs a place: make a wallet first (gharbor wallet create), or say --keep keyring at a desktop")
	}
	if err := r.EnsureWallet(ctx, w); err != nil {
		return key, "", err
	}
	if _, err := r.Put(ctx, w, wallet.Entry{Target: a.Place(), Secret: key}); err != nil {
		return key, "", err
	}
	r.forgetKeeper(dir)
	where = "the wallet " + dir
	if !w.HasUnattended() {
		where += "; gharbor wallet unattended on lets commands use it without its passphrase"
	}
	return key, where, nil
}

// forgetKeeper has a wallet opened anew, since it was changed.
func (r *Run) forgetKeeper(dir string) {
	r.keepersMu.Lock()
	defer r.keepersMu.Unlock()
	delete(r.keepers, dir)
}

// AddCloud makes an account, once whoever answers at its URL has shown that it is a cloud.
func (r *Run) AddCloud(ctx context.Context, name, url, ca string, replace bool) (cloud.Account, error) {
	list, err := r.accounts()
	if err != nil {
		return cloud.Account{}, err
	}
	if !target.IsCloudWord(name) {
		return cloud.Account{}, Usage("the name of an account has letters, digits, . _ and -, as in fellside")
	}
	a := cloud.Account{Name: name}
	if a.Origin, err = cloud.ParseOrigin(url); err != nil {
		return a, Usage("%v", err)
	}
	if ca != "" {
		a.CA = r.Path(ca)
	}
	before, err := list.Load(name)
	if err == nil && !replace {
		return a, Wrong("there is a cloud account %s already, for %s; --replace overwrites it", name, before.Origin)
	} else if err != nil && !errors.Is(err, cloud.ErrNoAccount) && !replace {
		return a, Wrong("%v; --replace overwrites it", err)
	}
	c, err := r.clientOf(a)
	if err != nil {
		return a, err
	}
	if err := c.Discover(ctx); err != nil {
		return a, wordCloud(err)
	}
	if err := list.Save(a); err != nil {
		return a, Wrong("%v", err)
	}
	return a, nil
}

// RemoveCloud takes an account away. One that is signed in is signed out first.
func (r *Run) RemoveCloud(ctx context.Context, name string) error {
	a, err := r.CloudAccount(name)
	if err != nil {
		return err
	}
	if s, err := r.session(a); err == nil {
		if _, in, _ := s.Who(); in {
			if err := r.SignOut(ctx, name); err != nil {
				r.Note("%v", err)
			}
		}
	}
	list, err := r.accounts()
	if err != nil {
		return err
	}
	if err := list.Remove(name); err != nil {
		return Wrong("%v", err)
	}
	return nil
}

// SignIn signs a person in. Asked is called with what the person has to do, Told while the cloud is asked whether it was done. It gives who is
// signed in, and where the key is kept.
func (r *Run) SignIn(ctx context.Context, name string, asked func(*cloud.Asked) error, told func(cloud.Waiting)) (signed cloud.Signed, where string, err error) {
	c, err := r.CloudClient(name)
	if err != nil {
		return signed, "", err
	}
	if err := c.Discover(ctx); err != nil {
		return signed, "", wordCloud(err)
	}
	// The key comes first: a person confirms nothing that could not be kept.
	key, where, err := r.keyFor(ctx, c.Account)
	if err != nil {
		return signed, "", err
	}
	a, err := c.Ask(ctx)
	if err != nil {
		return signed, "", wordCloud(err)
	}
	if err := asked(a); err != nil {
		return signed, "", err
	}
	tokens, err := c.Wait(ctx, a, told, nil)
	switch {
	case errors.Is(err, cloud.ErrDenied):
		return signed, "", Error{finding.ExitSecret, "the sign-in was denied on the page; nobody is signed in by it"}
	case errors.Is(err, cloud.ErrTooLate):
		return signed, "", Error{finding.ExitSecret, "nobody confirmed the code in time; run the same command again for a new one"}
	case err != nil:
		return signed, "", wordCloud(err)
	}
	signed, err = c.Session.Keep(ctx, c, key, tokens)
	if err != nil {
		if p, _ := finding.AsProblem(err); p != nil {
			return signed, "", wordCloud(err)
		}
		return signed, "", Wrong("the sign-in could not be kept: %v", err)
	}
	return signed, where, nil
}

// SignOut ends a sign-in, here and at the cloud.
func (r *Run) SignOut(ctx context.Context, name string) error {
	c, err := r.CloudClient(name)
	if err != nil {
		return err
	}
	if _, in, err := c.Session.Who(); err == nil && !in {
		return Wrong("nobody is signed in to %s", c.Account.Name)
	}
	err = c.Session.End(ctx, c)
	if p, other := finding.AsProblem(err); p != nil {
		return Error{finding.ExitMixed, "signed out of " + c.Account.Name + " here; the cloud could not be told, so the sign-in holds there until it ends by itself: " + finding.Make(p.Code, finding.About{Facts: p.Facts}).Cause}
	} else if other != nil {
		return other
	}
	return nil
}

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
