package clouds

import (
	"context"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/stores"
	"gentle-harbor/internal/secret"
)

// keys keeps the keys of sign-ins in the use case's wallets, or in the keyring.
type keys struct{ in stores.Stores }

// Key looks for the key of an account. The error is a *finding.Problem, or that of asking a person.
func (k keys) Key(ctx context.Context, a cloud.Account) (secret.Secret, error) {
	s, _, err := k.look(ctx, a)
	return s, err
}

func (k keys) look(ctx context.Context, a cloud.Account) (secret.Secret, string, error) {
	var first error
	for _, dir := range k.in.WalletDirs() {
		keeper := k.in.Keeper(dir)
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
	if ring := k.in.Keyring(); ring.Session() == "" {
		s, _, err := ring.Look(ctx, a.Place(), secret.Named)
		if err == nil {
			return s, "keyring", nil
		}
		if ctx.Err() != nil {
			return s, "", ctx.Err()
		}
	}
	if first == nil {
		first = &finding.Problem{Code: finding.SecretNotKept,
			Facts: finding.Facts{finding.FactDetail: "No wallet and no keyring here stores the key."}}
	}
	return secret.Secret{}, "", first
}
