package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/target"
)

// keepPlaces are the places where a typed password can be kept.
var keepPlaces = []string{"wallet", "credentials", "keyring", "no"}

// offerKeeping asks, after a good test with a typed password, where to keep it; --keep answers. Nothing is asked for a
// profile that wants its password typed each time.
func (c *call) offerKeeping(ctx context.Context, e profile.Effective, known secret.Secret) error {
	s, typed := c.Typed.Of(e.Target())
	if known.Given() && e.Secret.Kind == secret.Search {
		s, typed = known, true
	}
	if !typed || !s.Given() || e.Secret.Kind != secret.Search && c.Keep == "" || c.Keep == "no" {
		return nil
	}
	place := c.Keep
	if known.Given() && place != "" && place != "wallet" {
		return usage("a connection string's password is kept in a wallet or nowhere")
	}
	if place == "" {
		if !c.Who.Here() || c.SecretFile != "" {
			return nil
		}
		choices := []string{"wallet", "credentials"}
		if known.Given() {
			choices = choices[:1]
		} else if c.Keyring().Session() {
			choices = append(choices, "keyring")
		}
		for {
			answer, err := c.Who.Ask(ctx, "Keep this password, so that it need not be typed again? ("+strings.Join(append(choices, "no"), ", ")+") [no] ")
			if err != nil {
				return err
			}
			if answer == "" || answer == "no" || answer == "n" {
				return nil
			}
			if place = nearestChoice(answer, choices); place != "" {
				break
			}
			fmt.Fprintln(c.Stderr, "  wallet: encrypted, the best place; credentials: a file in clear that you alone can read; keyring: the desktop's.")
		}
	}
	way := e.Target()
	way.Database = ""
	c.about = e.Name
	return c.failed(c.keepIn(ctx, place, e, way, s))
}

func nearestChoice(answer string, choices []string) string {
	for _, each := range choices {
		if answer != "" && strings.HasPrefix(each, answer) {
			return each
		}
	}
	return ""
}

func (c *call) keepIn(ctx context.Context, place string, e profile.Effective, way target.Target, s secret.Secret) error {
	where := ""
	switch place {
	case "wallet":
		name := ""
		if e.Secret.Kind == secret.Wallet {
			name = e.Secret.Of
		}
		dir, err := c.WalletDir(name)
		if err != nil {
			return err
		}
		w := c.WalletAt(dir)
		if !w.Exists() {
			fmt.Fprintf(c.Stderr, "There is no wallet yet; this makes one in %s.\n", dir)
			if err := walletCreate(ctx, c, w); err != nil {
				return err
			}
		}
		if _, err := c.put(ctx, w, wallet.Entry{Way: way, Secret: s}); err != nil {
			return err
		}
		where = "the wallet " + dir
		if !w.HasUnattended() {
			where += "; gharbor wallet unattended on opens it without its passphrase"
		}
	case "credentials":
		home, err := c.Home()
		if err != nil {
			return err
		}
		path := filepath.Join(home, "credentials")
		if _, err := c.addCredential(ctx, path, way, s); err != nil {
			return err
		}
		where = path + ", in clear, readable by you alone"
	case "keyring":
		if err := c.Keyring().Put(ctx, way, s); err != nil {
			return err
		}
		where = "the desktop's keyring"
	}
	fmt.Fprintf(c.Stderr, "Kept for %s at %s in %s.\n", way.User, way.Place(), where)
	if place == "keyring" && e.Secret.Kind != secret.Keyring || place != "keyring" && e.Secret.Kind != secret.Search && string(e.Secret.Kind) != place {
		return c.pointTo(ctx, e, place)
	}
	return nil
}

// pointTo makes a saved profile of the user's own name the place where its password is kept now.
func (c *call) pointTo(ctx context.Context, e profile.Effective, place string) error {
	library, err := c.Library()
	if err != nil {
		return err
	}
	store, name, err := library.Find(e.Name)
	if err != nil || store.Project {
		fmt.Fprintf(c.Stderr, "note: to use it, a profile says secret: %s\n", place)
		return nil
	}
	err = store.Update(ctx, name, func(data []byte, path string) ([]byte, error) {
		return profile.Change(data, path, profile.Layer{"secret": {Text: place}}, nil)
	})
	if err != nil {
		return written(name, err)
	}
	fmt.Fprintf(c.Stderr, "Changed %s: its secret is %s now.\n", name, place)
	return nil
}
