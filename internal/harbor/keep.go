package harbor

import (
	"context"
	"path/filepath"
	"strings"

	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
)

// Stores are the answers to where a typed password is to be kept.
var Stores = []string{"wallet", "credentials", "keyring", "no"}

// OfferKeeping asks, after a good test with a typed password, where to keep it; Keep answers. Nothing is asked for a
// profile that wants its password typed each time. Known is the password of a connection string.
func (r *Run) OfferKeeping(ctx context.Context, e profile.Effective, known secret.Secret) error {
	e = r.found(e)
	s, typed := r.Typed.Of(e.Target())
	if known.Given() && e.Secret.Kind == secret.Search {
		s, typed = known, true
	}
	if !typed || !s.Given() || e.Secret.Kind != secret.Search && r.Keep == "" || r.Keep == "no" {
		return nil
	}
	if known.Given() && r.Keep != "" && r.Keep != "wallet" {
		return Usage("a connection string's password is kept in a wallet or nowhere")
	}
	store := r.Keep
	if store == "" {
		var err error
		if store, err = r.askStore(ctx, known); store == "" {
			return err
		}
	}
	return r.keepIn(ctx, store, e, s)
}

// askStore asks where to keep a password; "" is nowhere.
func (r *Run) askStore(ctx context.Context, known secret.Secret) (string, error) {
	if !r.Who.Here() || r.SecretFile != "" {
		return "", nil
	}
	choices := []string{"wallet", "credentials"}
	if known.Given() {
		choices = choices[:1]
	} else if r.Keyring().Session() == "" {
		choices = append(choices, "keyring")
	}
	for {
		answer, err := r.Who.Ask(ctx, "Keep this password, so that it need not be typed again? ("+strings.Join(append(choices, "no"), ", ")+") [no] ")
		if err != nil || answer == "" || answer == "no" || answer == "n" {
			return "", err
		}
		for _, each := range choices {
			if strings.HasPrefix(each, answer) {
				return each, nil
			}
		}
		r.Who.Say("  wallet: encrypted, the best store; credentials: a file in clear that you alone can read; keyring: the desktop's.")
	}
}

// keepIn keeps a profile's secret in a store, and makes the profile look there when it would not.
func (r *Run) keepIn(ctx context.Context, store string, e profile.Effective, s secret.Secret) error {
	to, err := r.Target(ctx, e)
	if err != nil {
		return err
	}
	to.Database = ""
	where := ""
	switch store {
	case "wallet":
		w, err := r.walletFor(ctx, e.Secret)
		if err != nil {
			return err
		}
		if _, err := r.Put(ctx, w, wallet.Entry{Target: to, Secret: s}); err != nil {
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
		if _, err := r.AddCredential(ctx, path, to, s); err != nil {
			return err
		}
		where = path + ", in clear, readable by you alone"
	case "keyring":
		if err := r.Keyring().Put(ctx, to, s); err != nil {
			return err
		}
		where = "the desktop's keyring"
	}
	r.tell("Kept for %s at %s in %s.", outside.Cell(to.User), outside.Cell(to.Place()), where)
	if r.SecretFile != "" && r.SecretFile != "-" {
		r.Note("the file %s still holds the password in clear; remove it when nothing else needs it", r.Path(r.SecretFile))
	}
	if store == "keyring" && e.Secret.Kind != secret.Keyring || store != "keyring" && e.Secret.Kind != secret.Search && string(e.Secret.Kind) != store {
		return r.pointTo(ctx, e, store)
	}
	return nil
}

// walletFor gives the wallet that a profile's secret is kept in, making it when there is none.
func (r *Run) walletFor(ctx context.Context, ref secret.Reference) (wallet.Wallet, error) {
	name := ""
	if ref.Kind == secret.Wallet {
		name = ref.Of
	}
	dir, err := r.WalletDir(name)
	if err != nil {
		return wallet.Wallet{}, err
	}
	return r.WalletAt(dir), r.EnsureWallet(ctx, r.WalletAt(dir))
}

// EnsureWallet makes a wallet when it is not there.
func (r *Run) EnsureWallet(ctx context.Context, w wallet.Wallet) error {
	if w.Exists() {
		return nil
	}
	r.tell("There is no wallet yet; this makes one in %s.", w.Dir)
	if err := r.CreateWallet(ctx, w); err != nil {
		return err
	}
	r.tell("%s", MadeWallet(w.Dir))
	return nil
}

// MadeWallet is what is said of a new wallet.
func MadeWallet(dir string) string {
	return "Made the wallet " + dir + ". Keep its passphrase safe: without it nobody opens it."
}

// pointTo makes a saved profile of the user's own take its password from a store.
func (r *Run) pointTo(ctx context.Context, e profile.Effective, store string) error {
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
		return Written(name, err)
	}
	r.tell("Changed %s: its secret is %s now.", name, store)
	return nil
}
