package stores

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/credentials"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/target"
)

// NoWallet is the problem of a wallet that is not there.
func NoWallet(dir string) *finding.Problem { return wallet.Missing(dir) }

// WalletPassphrase gives the passphrase of a wallet, the one that made it in this run included.
func (r Stores) WalletPassphrase(ctx context.Context, w wallet.Wallet) (secret.Secret, error) {
	if made, _ := r.passphrase.get(nil); made.Given() {
		return made, nil
	}
	return r.Passphrase(ctx, "Passphrase of the wallet "+outside.Cell(w.Dir))
}

// CreateWallet makes a wallet with a new passphrase.
func (r Stores) CreateWallet(ctx context.Context, w wallet.Wallet) error {
	if w.Exists() {
		return world.Wrong("there is a wallet in %s already. To see its entries: gharbor wallet list", w.Dir)
	}
	passphrase, err := r.NewPassphrase(ctx, r.PassphraseFile, "--passphrase-file", "Passphrase for the new wallet")
	if err != nil {
		return err
	}
	if err := w.Create(ctx, passphrase); err != nil {
		return err
	}
	_, err = r.passphrase.get(func() (secret.Secret, error) { return passphrase, nil })
	return err
}

// ChangeWallet asks for the passphrase, opens a wallet, and writes what change makes of its
// contents.
func (r Stores) ChangeWallet(ctx context.Context, w wallet.Wallet, change func(*wallet.Contents) error) error {
	passphrase, err := r.WalletPassphrase(ctx, w)
	if err != nil {
		return err
	}
	return r.changeWith(ctx, w, passphrase, change)
}

func (r Stores) changeWith(ctx context.Context, w wallet.Wallet, passphrase secret.Secret,
	change func(*wallet.Contents) error) error {
	defer r.Busy("Opening and writing the wallet")()
	var written *wallet.Contents
	err := w.Change(ctx, passphrase, func(contents *wallet.Contents) error {
		written = contents
		return change(contents)
	})
	if err == nil {
		r.Wallets.Renew(w.Dir, written)
	}
	return err
}

// write asks for the passphrase and lets work write a wallet, which is opened anew afterwards.
func (r Stores) write(ctx context.Context, w wallet.Wallet, work func(passphrase secret.Secret) error) error {
	passphrase, err := r.WalletPassphrase(ctx, w)
	if err != nil {
		return err
	}
	defer r.Wallets.Forget(w.Dir)
	defer r.Busy("Opening and writing the wallet")()
	return work(passphrase)
}

// OpenWallet asks for the passphrase and opens a wallet.
func (r Stores) OpenWallet(ctx context.Context, w wallet.Wallet) (*wallet.Contents, error) {
	passphrase, err := r.WalletPassphrase(ctx, w)
	if err != nil {
		return nil, err
	}
	return r.openWith(w, passphrase)
}

func (r Stores) openWith(w wallet.Wallet, passphrase secret.Secret) (*wallet.Contents, error) {
	defer r.Busy("Opening the wallet")()
	return w.Open(passphrase)
}

// ErrStored is the error of a store that has an entry for that user and server, and was not told
// to replace it.
var ErrStored = errors.New("an entry for that user and server is stored already")

// Put takes an entry into a wallet. Where one with the same key is there, it takes its place with
// replace, and it is ErrStored without. Was says that there was one.
func (r Stores) Put(ctx context.Context, w wallet.Wallet, e wallet.Entry, replace bool) (was bool, err error) {
	passphrase, err := r.WalletPassphrase(ctx, w)
	if err != nil {
		return false, err
	}
	err = r.changeWith(ctx, w, passphrase, func(contents *wallet.Contents) error {
		if _, is := contents.Get(e.Target); is && !replace {
			return ErrStored
		}
		e.Changed = r.Now()
		was = contents.Put(e)
		return nil
	})
	if errors.Is(err, ErrStored) { // it opened the wallet, and need not be typed again
		_, _ = r.passphrase.get(func() (secret.Secret, error) { return passphrase, nil })
	}
	return was, err
}

// NoEntry is the error of an entry that is not in a wallet; it names one that is near.
func NoEntry(of target.Target, contents *wallet.Contents, dir string) error {
	for _, e := range contents.Entries {
		if e.Target.User == of.User && e.Target.Place() == of.Place() ||
			e.Target.User == of.User && e.Target.Host == of.Host {
			return world.Wrong("the wallet %s has no entry for %s at %s; it has one for %s at %s", dir, of.User,
				of.Endpoint, e.Target.User, e.Target.Endpoint)
		}
	}
	return world.Wrong("the wallet %s has no entry for %s at %s. To see its entries: gharbor wallet list", dir,
		of.User, of.Endpoint)
}

// SetPassphrase changes a wallet's passphrase, and all keys with it.
func (r Stores) SetPassphrase(ctx context.Context, w wallet.Wallet) error {
	if !w.Exists() {
		_, err := w.Open(secret.Secret{})
		return err
	}
	old, err := r.WalletPassphrase(ctx, w)
	if err != nil {
		return err
	}
	if r.Who.Here() && r.NewPassphraseFile == "" { // a wrong one is told before a new one is thought of
		if _, err := r.openWith(w, old); err != nil {
			return err
		}
	}
	fresh, err := r.NewPassphrase(ctx, r.NewPassphraseFile, "--new-passphrase-file", "New passphrase")
	if err != nil {
		return err
	}
	defer r.Wallets.Forget(w.Dir)
	defer r.Busy("Making new keys")()
	return w.SetPassphrase(ctx, old, fresh)
}

// SetUnattended lets jobs of the account open a wallet without its passphrase, or no longer.
// Changed says that it was otherwise before.
func (r Stores) SetUnattended(ctx context.Context, w wallet.Wallet, on bool) (changed bool, err error) {
	passphrase, err := r.WalletPassphrase(ctx, w)
	if err != nil {
		return false, err
	}
	defer r.Wallets.Forget(w.Dir)
	defer r.Busy("Opening the wallet")()
	return w.SetUnattended(ctx, passphrase, on)
}

// Recover brings a state of a wallet back, under a higher version.
func (r Stores) Recover(ctx context.Context, w wallet.Wallet, from wallet.Source) (contents *wallet.Contents,
	err error) {
	err = r.write(ctx, w, func(passphrase secret.Secret) error {
		contents, err = w.Recover(ctx, passphrase, from)
		return err
	})
	return contents, err
}

// CheckedWallet is what a look at a wallet's files found. Contents is nil when it was not opened,
// and Problem says why when that was tried.
type CheckedWallet struct {
	Files    []wallet.Condition
	Contents *wallet.Contents
	Problem  *finding.Problem
}

// CheckWallet looks at each of a wallet's files. The content is checked too where the wallet
// opens without its passphrase, or a person or a file gives it.
func (r Stores) CheckWallet(ctx context.Context, w wallet.Wallet) (CheckedWallet, error) {
	checked := CheckedWallet{Files: w.Check()}
	if w.HasUnattended() {
		var err error
		if checked.Contents, err = w.OpenUnattended(); err != nil {
			if checked.Problem, err = finding.AsProblem(err); err != nil {
				return checked, err
			}
		}
	}
	if r.PassphraseFile == "" && (!r.Who.Here() || w.HasUnattended()) {
		return checked, nil
	}
	passphrase, err := r.Passphrase(ctx, "Passphrase (Enter alone checks only what can be checked without it)")
	if err != nil || passphrase.Reveal() == "" {
		return checked, err
	}
	if checked.Contents, err = r.openWith(w, passphrase); err != nil {
		checked.Problem, err = finding.AsProblem(err)
	}
	return checked, err
}

// Imported is the result of taking a credential file into a wallet: how many entries were new,
// changed, or there already.
type Imported struct{ New, Changed, Same int }

// ImportCredentials takes all entries of a credential file into a wallet. With replace, the
// file's password is taken where the wallet has another one. The second result removes the file:
// only when the wallet, opened anew, holds each of its entries, and the file is still what was
// read.
func (r Stores) ImportCredentials(ctx context.Context, w wallet.Wallet, path string, replace bool) (Imported,
	func() error, error) {
	var n Imported
	list, err := credentials.Read(path)
	if err != nil {
		return n, nil, err
	}
	if len(list) == 0 {
		return n, nil, world.Wrong("%s has no entries", path)
	}
	if !w.Exists() {
		return n, nil, NoWallet(w.Dir)
	}
	var remove func() error
	err = r.write(ctx, w, func(passphrase secret.Secret) error {
		remove = func() error { return removeImported(w, passphrase, path, list) }
		return w.Change(ctx, passphrase, func(contents *wallet.Contents) error {
			n, err = taken(ctx, contents, list, path, replace, r.Now())
			return err
		})
	})
	return n, remove, err
}

// taken puts entries of a credential file into a wallet's contents.
func taken(ctx context.Context, contents *wallet.Contents, list []credentials.Entry, path string, replace bool,
	now time.Time) (n Imported, err error) {
	seen := map[string]int{}
	for _, each := range list {
		if ctx.Err() != nil {
			return n, ctx.Err()
		}
		if before, twice := seen[each.Target.Key()]; twice {
			return n, &finding.Problem{Code: finding.SecretCredentialsTie,
				Facts: finding.Facts{finding.FactDetail: fmt.Sprintf("%s has two entries for %s at %s, in the lines %d and %d.",
					path, each.Target.User, each.Target.Endpoint, before, each.Line)}}
		}
		seen[each.Target.Key()] = each.Line
		kept, there := contents.Get(each.Target)
		switch {
		case there && kept.Secret.Same(each.Secret) && kept.Target.TLS == each.Target.TLS:
			n.Same++
			continue
		case there && !replace:
			return n, world.Wrong("the wallet has another password or another encryption for %s at %s than line "+
				"%d of %s says; --replace lets the file win",
				each.Target.User, each.Target.Endpoint, each.Line, path)
		case there:
			n.Changed++
		default:
			n.New++
		}
		contents.Put(wallet.Entry{Target: each.Target, Secret: each.Secret, Changed: now})
	}
	return n, nil
}

func removeImported(w wallet.Wallet, passphrase secret.Secret, path string, list []credentials.Entry) error {
	contents, err := w.Open(passphrase)
	if err != nil {
		return err
	}
	now, err := credentials.Read(path)
	if err != nil {
		return err
	}
	if len(now) != len(list) {
		return world.Wrong("%s has changed meanwhile, and was left as it is", path)
	}
	for _, each := range now {
		if kept, there := contents.Get(each.Target); !there || !kept.Secret.Same(each.Secret) {
			return world.Wrong("line %d of %s is not in the wallet; the file was left as it is", each.Line, path)
		}
	}
	if err := files.Erase(path); err != nil {
		return world.Wrong("%s could not be removed: %v", path, err)
	}
	return nil
}
