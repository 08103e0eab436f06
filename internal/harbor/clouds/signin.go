package clouds

import (
	"context"
	"errors"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/target"
)

// keyFor gives the key of an account's sign-in, and makes one where there is none yet: in the
// wallet, or in the keyring where Keep says so or there is no wallet. Where says in a few words
// where it is.
func (r Clouds) keyFor(ctx context.Context, a cloud.Account) (key secret.Secret, where string, err error) {
	if key, in, err := (keys{r.Stores}).look(ctx, a); err == nil && (r.Keep == "" || r.Keep == in) {
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
	if r.Keep == "keyring" || r.Keep == "" && !w.Exists() && r.Keyring().Session() == "" {
		return key, "the desktop's keyring", r.Keyring().Put(ctx, a.Place(), key)
	}
	if !w.Exists() && !r.Who.Here() && r.PassphraseFile == "" {
		return key, "", world.Usage("the key of the sign-in must be stored. At a desktop --store keyring does " +
			"it. To make a wallet: gharbor wallet create")
	}
	if err := r.EnsureWallet(ctx, w); err != nil {
		return key, "", err
	}
	if _, err := r.Put(ctx, w, wallet.Entry{Target: a.Place(), Secret: key}, true); err != nil {
		return key, "", err
	}

	where = "the wallet " + dir
	if !w.HasUnattended() {
		where += "; gharbor wallet unattended on lets commands use it without its passphrase"
	}
	return key, where, nil
}

// AddCloud makes an account, once whoever answers at its URL has shown that it is a cloud.
func (r Clouds) AddCloud(ctx context.Context, name, url, ca string, replace bool) (cloud.Account, error) {
	list, err := r.Accounts()
	if err != nil {
		return cloud.Account{}, err
	}
	if !target.IsCloudWord(name) {
		return cloud.Account{}, world.Usage("the name of an account has letters, digits, . _ and -, such as fellside")
	}
	a := cloud.Account{Name: name}
	if a.Origin, err = cloud.ParseOrigin(url); err != nil {
		return a, world.Usage("%v", err)
	}
	if ca != "" {
		a.CA = r.Path(ca)
	}
	before, err := list.Load(name)
	if err == nil && !replace {
		return a, world.Wrong("there is a cloud account %s already, for %s; --replace overwrites it", name, before.Origin)
	} else if world.OfSystem(err) {
		return a, world.Doing("note the cloud account", err)
	} else if err != nil && !errors.Is(err, cloud.ErrNoAccount) && !replace {
		return a, world.Wrong("%v; --replace overwrites it", err)
	}
	c, err := r.ClientOf(a)
	if err != nil {
		return a, err
	}
	if err := c.Discover(ctx); err != nil {
		return a, Word(err)
	}
	if err := list.Save(a); err != nil {
		return a, world.Doing("note the cloud account", err)
	}
	return a, nil
}

// RemoveCloud takes an account away. One that is signed in is signed out first.
func (r Clouds) RemoveCloud(ctx context.Context, name string) error {
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
	list, err := r.Accounts()
	if err != nil {
		return err
	}
	if err := list.Remove(name); err != nil {
		return world.Doing("remove the cloud account", err)
	}
	return nil
}

// SignIn signs a person in. Asked is called with what the person has to do, Told while the cloud
// is asked whether it was done. It gives who is signed in, and where the key is kept.
func (r Clouds) SignIn(ctx context.Context, name string, asked func(*cloud.Asked) error,
	told func(cloud.Waiting)) (signed cloud.Signed, where string, err error) {
	c, err := r.CloudClient(name)
	if err != nil {
		return signed, "", err
	}
	if err := c.Discover(ctx); err != nil {
		return signed, "", Word(err)
	}
	// The key comes first: a person confirms nothing that could not be kept.
	key, where, err := r.keyFor(ctx, c.Account)
	if err != nil {
		return signed, "", err
	}
	a, err := c.Ask(ctx)
	if err != nil {
		return signed, "", Word(err)
	}
	if err := asked(a); err != nil {
		return signed, "", err
	}
	tokens, err := c.Wait(ctx, a, told, nil)
	switch {
	case errors.Is(err, cloud.ErrDenied):
		return signed, "", world.Error{Code: finding.ExitSecret,
			Message: "the sign-in was denied on the page; nobody is signed in by it"}
	case errors.Is(err, cloud.ErrTooLate):
		return signed, "", world.Error{Code: finding.ExitSecret,
			Message: "nobody confirmed the code in time; run the same command again for a new one"}
	case err != nil:
		return signed, "", Word(err)
	}
	signed, err = c.Session.Keep(ctx, c, key, tokens)
	if err != nil {
		if p, _ := finding.AsProblem(err); p != nil {
			return signed, "", Word(err)
		}
		return signed, "", world.Wrong("the sign-in could not be stored: %v", err)
	}
	return signed, where, nil
}

// SignOut ends a sign-in, here and at the cloud.
func (r Clouds) SignOut(ctx context.Context, name string) error {
	c, err := r.CloudClient(name)
	if err != nil {
		return err
	}
	if _, in, err := c.Session.Who(); err == nil && !in {
		return world.Wrong("nobody is signed in to %s", c.Account.Name)
	}
	err = c.Session.End(ctx, c)
	if p, other := finding.AsProblem(err); p != nil {
		return world.Error{Code: finding.ExitMixed,
			Message: "signed out of " + c.Account.Name +
				" here; the cloud could not be told, so the sign-in is valid there until it ends by itself: " +
				finding.Make(p.Code, finding.About{Facts: p.Facts}).Cause}
	} else if other != nil {
		return other
	}
	return nil
}
