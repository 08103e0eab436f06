package harbor

import (
	"context"
	"errors"
	"strings"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
)

// userFromWallet gives the user that a profile without a user logs in as, where a wallet knows;
// "" where none does.
func (r Run) userFromWallet(ctx context.Context, e profile.Effective) (user, from string, err error) {
	dirs := r.WalletDirs()
	switch e.Secret.Kind {
	case secret.Search:
	case secret.Wallet:
		dir, err := r.WalletDir(e.Secret.Of)
		if err != nil {
			return "", "", nil
		}
		dirs = []string{dir}
	default:
		return "", "", nil
	}
	if e, err = r.clouds().Located(ctx, e); err != nil {
		if p, _ := finding.AsProblem(err); p != nil {
			return "", "", nil // the leg "cloud" says what is wrong
		}
		return "", "", err
	}
	for _, dir := range dirs {
		k := r.Keeper(dir)
		if !k.Wallet.Exists() {
			continue
		}
		how := secret.Searched
		if e.Secret.Kind == secret.Wallet {
			how = secret.Named
		}
		contents, err := k.Open(ctx, how)
		var p *finding.Problem
		switch {
		case errors.As(err, &p) && p.Code == finding.SecretWalletLocked:
			continue
		case err != nil:
			return "", "", err
		}
		user, all := contents.User(e.Target())
		if user != "" {
			return user, dir, nil
		}
		if len(all) > 1 {
			return "", "", world.Wrong("the profile has no user, and the wallet %s has %d for %s (%s); say "+
				"--user NAME, or mark one: gharbor wallet add --server %s --user NAME --default-user",
				dir, len(all), e.Place(), outside.Cell(strings.Join(all, ", ")), e.Target().Place())
		}
	}
	return "", "", nil
}
