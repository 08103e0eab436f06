package wallet

import (
	"context"
	"errors"
	"sync"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Keeper is a wallet as a place where secrets are looked for. It is opened once, however many
// tests ask, with the key for jobs where there is one, else with a passphrase.
type Keeper struct {
	Wallet Wallet
	// Passphrase asks for it, telling why the wallet is opened and whether a passphrase was wrong
	// just now. One that is not Given leaves the wallet closed. Nil where nobody can be asked.
	Passphrase func(ctx context.Context, how secret.How, again bool) (secret.Secret, error)

	mu       sync.Mutex
	contents *Contents
	err      error
}

// tries is how often a passphrase may be wrong.
const tries = 3

// Open gives the contents. The error is a *finding.Problem, or that of Passphrase.
func (k *Keeper) Open(ctx context.Context, how secret.How) (*Contents, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	c, err := k.open(ctx, how)
	if err == nil {
		err = c.load()
	}
	return c, err
}

// Renew gives the keeper what was just written into the wallet, instead of what it has read of
// it. One that is closed stays so.
func (k *Keeper) Renew(c *Contents) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.err = nil; k.contents != nil {
		k.contents = c
	}
}

func (k *Keeper) open(ctx context.Context, how secret.How) (*Contents, error) {
	if k.contents != nil {
		return k.contents, nil
	}
	if k.err != nil {
		return nil, k.err
	}
	contents, err := k.Wallet.unlockUnattended()
	var p *finding.Problem
	if errors.As(err, &p) && p.Code == finding.SecretWalletLocked {
		if how == secret.Quietly {
			return nil, p // and it may be asked for later
		}
		contents, err = k.ask(ctx, how, p)
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		contents = nil
	}
	if errors.As(err, &p) {
		p.Set(finding.FactWallet, k.Wallet.Dir)
	}
	k.contents, k.err = contents, err
	return contents, err
}

func (k *Keeper) ask(ctx context.Context, how secret.How, locked *finding.Problem) (*Contents, error) {
	if k.Passphrase == nil {
		locked.Tried = []string{"wallet " + k.Wallet.Dir +
			": it opens only with its passphrase, and there is no terminal to ask for it at"}
		return nil, locked
	}
	for try := 1; ; try++ {
		passphrase, err := k.Passphrase(ctx, how, try > 1)
		if err != nil {
			return nil, err
		}
		if !passphrase.Given() {
			locked.Tried = []string{"wallet " + k.Wallet.Dir + ": it was left closed"}
			return nil, locked
		}
		contents, err := k.Wallet.Open(passphrase)
		var p *finding.Problem
		if !errors.As(err, &p) || p.Code != finding.SecretWalletPassphrase || try == tries {
			return contents, err
		}
	}
}

// Look gives the entry that serves for a target.
func (k *Keeper) Look(ctx context.Context, dest target.Target, how secret.How) (secret.Secret, secret.Source, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	contents, err := k.open(ctx, how)
	if err != nil {
		return secret.Secret{}, secret.Source{}, err
	}
	where := "the wallet " + k.Wallet.Dir
	some, err := contents.only(dest.User)
	if err != nil {
		return secret.Secret{}, secret.Source{}, err
	}
	entry, err := some.Match(dest, where)
	if err != nil && contents.load() == nil {
		entry, err = contents.Match(dest, where) // all of them, for what is nearest
	}
	var p *finding.Problem
	if errors.As(err, &p) {
		p.Set(finding.FactWallet, k.Wallet.Dir)
	}
	if err != nil {
		return secret.Secret{}, secret.Source{}, err
	}
	saw := "from the wallet " + k.Wallet.Dir + ", stored for " + entry.Target.User + " at " +
		entry.Target.Endpoint.String()
	if !entry.Secret.Given() {
		saw = "none, as the wallet " + k.Wallet.Dir + " says"
	}
	return entry.Secret, secret.Source{Kind: secret.Wallet, Saw: saw, Kept: &entry.Target}, nil
}
