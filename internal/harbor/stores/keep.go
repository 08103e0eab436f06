package stores

import (
	"context"
	"strings"

	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
)

// Places are the answers to where a typed password is to be kept.
var Places = []string{"wallet", "credentials", "keyring", "no"}

// AskStore asks where to keep a password; "" is nowhere.
func (r Stores) AskStore(ctx context.Context, known secret.Secret) (string, error) {
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
		answer, err := r.Who.Ask(ctx,
			"Store this password, so that it need not be typed again? ("+strings.Join(append(choices, "no"),
				", ")+") [no] ")
		if err != nil || answer == "" || answer == "no" || answer == "n" {
			return "", err
		}
		for _, each := range choices {
			if strings.HasPrefix(each, answer) {
				return each, nil
			}
		}
		r.Who.Say("  wallet: encrypted, the best store; credentials: a file in clear that you alone can read; " +
			"keyring: the desktop's.")
	}
}

// WalletFor gives the wallet that a profile's secret is kept in, making it when there is none.
func (r Stores) WalletFor(ctx context.Context, ref secret.Reference) (wallet.Wallet, error) {
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
func (r Stores) EnsureWallet(ctx context.Context, w wallet.Wallet) error {
	if w.Exists() {
		return nil
	}
	r.Tell("There is no wallet yet; this makes one in %s.", w.Dir)
	if err := r.CreateWallet(ctx, w); err != nil {
		return err
	}
	r.Tell("%s", MadeWallet(w.Dir))
	return nil
}

// MadeWallet is what is said of a new wallet.
func MadeWallet(dir string) string {
	return "Made the wallet " + dir + ". Keep its passphrase safe: without it nobody opens it."
}
