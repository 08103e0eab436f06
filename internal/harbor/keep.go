package harbor

import (
	"context"
	"path/filepath"

	"gentle-harbor/internal/harbor/edits"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
)

// OfferKeeping asks, after a good test with a typed password, where to keep it; Keep answers.
// Nothing is asked for a profile whose password is typed each time. Known is the password of a
// connection string.
func (r Run) OfferKeeping(ctx context.Context, e profile.Effective, known secret.Secret) error {
	e = r.clouds().Found(e)
	s, typed := r.Typed.Of(e.Target())
	if known.Given() && e.Secret.Kind == secret.Search {
		s, typed = known, true
	}
	if !typed || !s.Given() || e.Secret.Kind != secret.Search && r.Keep == "" || r.Keep == "no" {
		return nil
	}
	if known.Given() && r.Keep != "" && r.Keep != "wallet" {
		return world.Usage("the password of a connection string can be stored in a wallet only, such as --store wallet")
	}
	store := r.Keep
	if store == "" {
		var err error
		if store, err = r.AskStore(ctx, known); store == "" {
			return err
		}
	}
	return r.keepIn(ctx, store, e, s)
}

// keepIn keeps a profile's secret in a store, and makes the profile look there when it would not.
func (r Run) keepIn(ctx context.Context, store string, e profile.Effective, s secret.Secret) error {
	to, err := r.Target(ctx, e)
	if err != nil {
		return err
	}
	to = e.ToStore(to)
	where := ""
	switch store {
	case "wallet":
		w, err := r.WalletFor(ctx, e.Secret)
		if err != nil {
			return err
		}
		if _, err := r.Put(ctx, w, wallet.Entry{Target: to, Secret: s}, true); err != nil {
			return err
		}
		where = "the wallet " + w.Dir
		if !w.HasUnattended() {
			where += "; gharbor wallet unattended on opens it without its passphrase"
		}
	case "credentials":
		home, err := r.Home()
		if err != nil {
			return err
		}
		path := filepath.Join(home, "credentials")
		if _, err := r.AddCredential(ctx, path, to, s, true); err != nil {
			return err
		}
		where = path + ", in clear, readable by you alone"
	case "keyring":
		if err := r.Keyring().Put(ctx, to, s); err != nil {
			return err
		}
		where = "the desktop's keyring"
	}
	r.Tell("Stored for %s at %s in %s.", outside.Cell(to.User), outside.Cell(to.Place()), where)
	if r.SecretFile != "" && r.SecretFile != "-" {
		r.Note("the file %s still has the password in clear; remove it when nothing else needs it", r.Path(r.SecretFile))
	}
	if store == "keyring" && e.Secret.Kind != secret.Keyring ||
		store != "keyring" && e.Secret.Kind != secret.Search && string(e.Secret.Kind) != store {
		return r.pointTo(ctx, e, store)
	}
	return nil
}

// pointTo makes a saved profile of the user's own take its password from a store.
func (r Run) pointTo(ctx context.Context, e profile.Effective, store string) error {
	library, err := r.Library()
	if err != nil {
		return err
	}
	in, name, err := library.Find(e.Name)
	if err != nil || in.Project {
		r.Note("to use it, a profile says secret: %s", store)
		return nil
	}
	err = in.Update(ctx, name, func(data []byte, path string) ([]byte, error) {
		return profile.Change(data, path, profile.Layer{"secret": {Text: store}}, nil)
	})
	if err != nil {
		return edits.Written(name, err)
	}
	r.Tell("Changed %s: its secret is %s now.", name, store)
	return nil
}
