// Package wallet keeps passwords in an encrypted folder, each bound to the user, the endpoint and
// the route that it may be sent on.
//
// The folder has up to four files. "sealed" holds the entries, encrypted with age
// (age-encryption.org/v1) to the wallet's own X25519 key and signed with its own Ed25519 key (RFC
// 8032). "owner" holds both private keys, sealed with the passphrase (age's scrypt).
// "unattended", where it is switched on, holds the reading key alone, so that jobs connect
// without a passphrase. "sealed.previous" is the state before the last write. docs/wallet.md has
// the formats byte for byte.
//
// A wallet is opened whole or not at all: a file that was changed, cut, swapped or is older than
// what this user has seen before is refused with a finding of its own.
package wallet

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
)

// Wallet is a wallet's folder. Its methods keep nothing between calls.
type Wallet struct {
	Dir string
	// Memory remembers the highest version that was seen; its zero value remembers nothing.
	Memory Memory
	// WorkFactor is scrypt's, WorkFactor for 0. Tests alone use another.
	WorkFactor int
	// Patience is how long to wait for another writer; two minutes for 0.
	Patience time.Duration
}

func (w Wallet) path(name string) string { return filepath.Join(w.Dir, name) }

// Exists reports whether there is a wallet in the folder, be it a damaged one. Keys alone are
// none: a Create that was killed leaves them.
func (w Wallet) Exists() bool {
	for _, name := range []string{sealedName, previousName} {
		if _, err := os.Lstat(w.path(name)); err == nil {
			return true
		}
	}
	return false
}

// HasUnattended reports whether there is a key for jobs.
func (w Wallet) HasUnattended() bool {
	_, err := os.Lstat(w.path(unattendedName))
	return err == nil
}

// missing is the problem of a folder without a wallet.
func (w Wallet) missing() *finding.Problem { return Missing(w.Dir) }

// Missing is the problem of a folder in which no wallet is seen: there is none, or this account
// may not look.
func Missing(dir string) *finding.Problem {
	if _, err := os.Lstat(filepath.Join(dir, sealedName)); errors.Is(err, fs.ErrPermission) {
		return secret.NotReadable(dir)
	}
	return &finding.Problem{Code: finding.SecretWalletMissing,
		Facts: finding.Facts{finding.FactDetail: "There is no wallet in " + dir + "."},
		Tried: []string{"wallet: there is none in " + dir}}
}

// open gives the contents with keys that are known. The error is a *finding.Problem.
func (w Wallet) open(name, id string, list []keys) (*Contents, keys, error) {
	f, err := w.read(name, "sealed", maxSealed)
	if err != nil {
		return nil, keys{}, err
	}
	c, k, err := w.unseal(name, f, id, list)
	return c, k, err
}

func (w Wallet) unseal(name string, f frame, id string, list []keys) (*Contents, keys, error) {
	path := w.path(name)
	if f.id != id {
		return nil, keys{}, problem(finding.SecretWalletSwapped, path, "belongs to another wallet than the keys beside it.")
	}
	at := len(f.body) - ed25519.SignatureSize
	if at < 0 {
		return nil, keys{}, problem(finding.SecretWalletDamaged, path, "is damaged: its signature is missing.")
	}
	for _, k := range list {
		if !ed25519.Verify(k.verify, signed(f.id, f.version, f.body[:at]), f.body[at:]) {
			continue
		}
		text, err := decrypt(f.body[:at], maxSealed, k.reading)
		if err != nil {
			return nil, keys{}, problem(finding.SecretWalletDamaged, path, "is signed, but cannot be decrypted.")
		}
		return &Contents{ID: f.id, Version: f.version, text: text, path: path, key: encodedKey(k.verify)}, k, nil
	}
	return nil, keys{}, problem(finding.SecretWalletForged, path,
		"is not signed by this wallet's key: it was written by someone who does not have the passphrase, or "+
			"belongs to other keys of this wallet.")
}

// known opens the wallet and refuses what is another one or an older state than this user has
// seen; it remembers a newer one. What was seen is read before the wallet is: a writer remembers
// after it has written, so that a job that reads meanwhile is never told of an older state.
// Proved says that the passphrase shows whose keys they are; without it, the key must be the one
// that was seen before, or one that follows it.
func (w Wallet) known(proved bool, open func() (*Contents, keys, error)) (*Contents, keys, error) {
	all, err := w.Memory.read()
	if err != nil {
		return nil, keys{}, &finding.Problem{Code: finding.SecretWalletMemory,
			Facts: finding.Facts{finding.FactDetail: "What is remembered of wallets cannot be read: " +
				err.Error() + "."}}
	}
	was := all.at(w.Dir)
	c, k, err := open()
	if err != nil {
		return nil, keys{}, err
	}
	trusted := all.trusted(w.Dir, c.ID)
	switch {
	case was.ID != "" && was.ID != c.ID:
		return nil, keys{}, problem(finding.SecretWalletReplaced, w.Dir,
			"is another wallet than the one that was here before.")
	case c.Version < was.Version:
		return nil, keys{}, problem(finding.SecretWalletOlder, w.path(sealedName),
			"is older than what was seen here before: version %d, and %d was seen.", c.Version, was.Version)
	case !proved && len(trusted) > 0 && !w.follows(c.ID, trusted, c.key):
		return nil, keys{}, problem(finding.SecretWalletUntrusted, w.path(unattendedName),
			"has another key than the one that was seen before, and nothing shows that who made it knows the passphrase.")
	case c.Version > was.Version || c.key != was.Key:
		// A job that may not write here is let in all the same; a later one that may will remember.
		_ = w.Memory.note(w.Dir, c.ID, c.Version, c.key)
	}
	return c, k, nil
}

// note remembers what was just written.
func (w Wallet) note(c *Contents) error {
	if err := w.Memory.note(w.Dir, c.ID, c.Version, c.key); err != nil {
		return fmt.Errorf("the wallet was written, but that version %d was seen could not be remembered: %w", c.Version, err)
	}
	return nil
}

// OpenUnattended opens the wallet with the key for jobs and reads all entries. The error is a
// *finding.Problem; its code is secret.wallet-locked when there is no such key.
func (w Wallet) OpenUnattended() (*Contents, error) {
	c, err := w.unlockUnattended()
	if err == nil {
		err = c.load()
	}
	return c, err
}

// unlockUnattended is OpenUnattended without reading the entries, which not everybody needs all of.
func (w Wallet) unlockUnattended() (*Contents, error) {
	if !w.Exists() {
		return nil, w.missing()
	}
	if !w.HasUnattended() {
		return nil, &finding.Problem{Code: finding.SecretWalletLocked,
			Facts: finding.Facts{finding.FactDetail: "The wallet in " + w.Dir + " opens only with its passphrase."}}
	}
	c, _, err := w.known(false, func() (*Contents, keys, error) {
		key, err := w.read(unattendedName, "unattended", maxKeys)
		for err == nil {
			var c *Contents
			if c, err = w.openUnattended(key); err == nil {
				return c, keys{}, nil
			}
			again, e := w.read(unattendedName, "unattended", maxKeys)
			if e != nil || bytes.Equal(again.body, key.body) {
				break
			}
			key, err = again, nil // new keys came in between
		}
		return nil, keys{}, err
	})
	return c, err
}

func (w Wallet) openUnattended(f frame) (*Contents, error) {
	list, err := readKeys(f.body, false)
	if err != nil || f.version != 0 {
		return nil, problem(finding.SecretWalletDamaged, w.path(unattendedName), "is damaged.")
	}
	c, _, err := w.open(sealedName, f.id, list)
	if c != nil {
		c.Unattended = true
	}
	return c, err
}

// Open opens the wallet with its passphrase. The error is a *finding.Problem.
func (w Wallet) Open(passphrase secret.Secret) (*Contents, error) {
	c, _, err := w.openKnown(passphrase)
	return c, err
}

func (w Wallet) openKnown(passphrase secret.Secret) (*Contents, keys, error) {
	return w.known(true, func() (*Contents, keys, error) { return w.openWith(passphrase) })
}

func (w Wallet) openWith(passphrase secret.Secret) (*Contents, keys, error) {
	if !w.Exists() {
		return nil, keys{}, w.missing()
	}
	// The frame shows damage before the passphrase costs a second. It is read before the keys
	// are, which are both there, old and new, while others put new ones in.
	f, err := w.read(sealedName, "sealed", maxSealed)
	if err != nil {
		return nil, keys{}, err
	}
	id, list, err := w.openOwner(passphrase)
	if err != nil {
		return nil, keys{}, err
	}
	c, k, err := w.unseal(sealedName, f, id, list)
	var p *finding.Problem
	if errors.As(err, &p) && p.Code == finding.SecretWalletForged { // all of the keys may have changed meanwhile
		if again, e := w.read(sealedName, "sealed", maxSealed); e == nil && !bytes.Equal(again.body, f.body) {
			c, k, err = w.unseal(sealedName, again, id, list)
		}
	}
	if err == nil {
		err = c.load()
	}
	return c, k, err
}

// seal makes the file sealed.
func seal(c *Contents, k keys) ([]byte, error) {
	text, err := encode(c.Entries)
	if err != nil {
		return nil, err
	}
	body, err := encrypt(text, k.reading.Recipient())
	if err != nil {
		return nil, err
	}
	body = append(body, ed25519.Sign(k.signing, signed(c.ID, c.Version, body))...)
	return frame{"sealed", c.ID, c.Version, body}.bytes(), nil
}

// lock takes the wallet for writing, before any costly work with keys, and clears away what a
// writer that was killed has left.
func (w Wallet) lock(ctx context.Context) (func(), error) {
	if p := secret.GuardFolder(w.Dir); p != nil {
		return nil, p
	}
	patience := w.Patience
	if patience == 0 {
		patience = 2 * time.Minute
	}
	unlock, err := files.LockFor(ctx, w.path(".lock"), patience)
	if err != nil {
		return nil, err
	}
	left, _ := filepath.Glob(w.path(".new-*"))
	for _, path := range left {
		_ = os.Remove(path)
	}
	return unlock, nil
}

// write puts a file of the wallet in its place in one step.
func (w Wallet) write(name string, data []byte) error {
	if err := files.Write(w.path(name), data, 0o600); err != nil {
		return fmt.Errorf("%s could not be written, and stands as it was: %w", w.path(name), err)
	}
	return nil
}

// Create makes a new wallet. It refuses a folder that has one.
func (w Wallet) Create(ctx context.Context, passphrase secret.Secret) error {
	if passphrase.Reveal() == "" {
		return errors.New("a wallet's passphrase cannot be empty")
	}
	if err := os.MkdirAll(w.Dir, 0o700); err != nil {
		return err
	}
	unlock, err := w.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	if w.Exists() {
		return fmt.Errorf("there is a wallet in %s already", w.Dir)
	}
	random := make([]byte, 16)
	if _, err := rand.Read(random); err != nil {
		return err
	}
	k, err := newKeys()
	if err != nil {
		return err
	}
	c := &Contents{ID: hex.EncodeToString(random), Version: 1, key: encodedKey(k.verify)}
	owner, err := w.sealOwner(c.ID, []keys{k}, passphrase)
	if err != nil {
		return err
	}
	sealed, err := seal(c, k)
	if err != nil {
		return err
	}
	_ = os.Remove(w.path(unattendedName))
	if err := w.write(ownerName, owner); err != nil {
		return err
	}
	if err := w.write(sealedName, sealed); err != nil {
		return err
	}
	return w.note(c)
}

// Change opens the wallet with its passphrase, lets change do its work on the contents, and
// writes them as the next version; the state before is kept. An error of change is given back and
// nothing is written.
func (w Wallet) Change(ctx context.Context, passphrase secret.Secret, change func(*Contents) error) error {
	return w.held(ctx, passphrase, func(c *Contents, k keys) error {
		if err := change(c); err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return w.store(c, k)
	})
}

// held takes the wallet for writing, opens it, and hands it to work.
func (w Wallet) held(ctx context.Context, passphrase secret.Secret, work func(*Contents, keys) error) error {
	if !w.Exists() {
		return w.missing()
	}
	unlock, err := w.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	c, k, err := w.openKnown(passphrase)
	if err != nil {
		return err
	}
	return work(c, k)
}

// store writes the contents as the next version.
func (w Wallet) store(c *Contents, k keys) error {
	c.Version++
	c.key = encodedKey(k.verify)
	data, err := seal(c, k)
	if err != nil {
		return err
	}
	before, err := os.ReadFile(w.path(sealedName))
	if err != nil {
		return err
	}
	if err := w.write(previousName, before); err != nil {
		return err
	}
	if err := w.write(sealedName, data); err != nil {
		return err
	}
	return w.note(c)
}

// SetUnattended makes or takes away the key for jobs. Taking it away makes new keys in any case,
// so that whoever has a copy of it can read nothing that is written from then on. It reports
// whether that changed anything.
func (w Wallet) SetUnattended(ctx context.Context, passphrase secret.Secret, on bool) (changed bool, err error) {
	err = w.held(ctx, passphrase, func(c *Contents, k keys) error {
		changed = true
		if !on {
			// Also when there is none: one that was killed may have come no further, and a copy
			// may be anywhere.
			if err := os.Remove(w.path(unattendedName)); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
			return w.rekey(ctx, c, k, passphrase, false)
		}
		data := frame{"unattended", c.ID, 0, writeKeys([]keys{k}, false)}.bytes()
		if before, err := os.ReadFile(w.path(unattendedName)); err == nil && bytes.Equal(before, data) {
			changed = false
			return nil
		}
		return w.write(unattendedName, data)
	})
	return changed && err == nil, err
}

// SetPassphrase makes new keys, sealed with a new passphrase.
func (w Wallet) SetPassphrase(ctx context.Context, old, passphrase secret.Secret) error {
	if passphrase.Reveal() == "" {
		return errors.New("a wallet's passphrase cannot be empty")
	}
	return w.held(ctx, old, func(c *Contents, k keys) error { return w.rekey(ctx, c, k, passphrase, w.HasUnattended()) })
}

// rekey puts new keys instead of old ones. Several files change, one after the other; each step
// leaves a wallet that opens, since the keys' files hold both old and new keys meanwhile.
func (w Wallet) rekey(ctx context.Context, c *Contents, old keys, passphrase secret.Secret, unattended bool) error {
	fresh, err := newKeys()
	if err != nil {
		return err
	}
	both, one := []keys{fresh, old}, []keys{fresh}
	var owners [2][]byte
	for i, list := range [][]keys{both, one} {
		if owners[i], err = w.sealOwner(c.ID, list, passphrase); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	before, err := seal(c, fresh) // the state before, which the new keys open
	if err != nil {
		return err
	}
	if err := w.succeed(c.ID, old, fresh); err != nil {
		return err
	}
	if unattended {
		if err := w.write(unattendedName, frame{"unattended", c.ID, 0, writeKeys(both, false)}.bytes()); err != nil {
			return err
		}
	}
	if err := w.write(ownerName, owners[0]); err != nil {
		return err
	}
	if err := w.store(c, fresh); err != nil {
		return err
	}
	if err := w.write(previousName, before); err != nil {
		return err
	}
	if unattended {
		if err := w.write(unattendedName, frame{"unattended", c.ID, 0, writeKeys(one, false)}.bytes()); err != nil {
			return err
		}
	}
	return w.write(ownerName, owners[1])
}

// Source is a state that Recover can bring back.
type Source string

// The sources: the state before the last write, and the one that stands there, which may have
// come from a backup.
const (
	Previous Source = previousName
	Current  Source = sealedName
)

// Recover brings a state back under a version higher than all that was seen, and accepts a wallet
// that was put in the place of another. What stood in "sealed" becomes the state before, or
// "sealed.damaged" when it does not open. It gives what it brought back.
func (w Wallet) Recover(ctx context.Context, passphrase secret.Secret, from Source) (*Contents, error) {
	if !w.Exists() {
		return nil, w.missing()
	}
	if _, err := os.Lstat(w.path(string(from))); errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("there is no %s in %s to bring back", from, w.Dir)
	}
	unlock, err := w.lock(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if _, err := w.read(string(from), "sealed", maxSealed); err != nil {
		return nil, err
	}
	id, list, err := w.openOwner(passphrase)
	if err != nil {
		return nil, err
	}
	c, _, err := w.open(string(from), id, list)
	if err == nil {
		err = c.load()
	}
	if err != nil {
		return nil, err
	}
	all, err := w.Memory.read()
	if err != nil {
		return nil, err
	}
	seen := all.at(w.Dir).Version
	if f, err := w.read(sealedName, "sealed", maxSealed); err == nil && f.id == id {
		seen = max(seen, f.version)
	}
	c.Version, c.key = max(c.Version, seen)+1, encodedKey(list[0].verify)
	data, err := seal(c, list[0])
	if err != nil {
		return nil, err
	}
	aside := damagedName
	if _, _, err := w.open(sealedName, id, list); err == nil {
		aside = previousName
	}
	before, err := os.ReadFile(w.path(sealedName))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	if before != nil && aside == damagedName {
		if err := w.write(aside, before); err != nil {
			return nil, err
		}
	}
	if err := w.write(sealedName, data); err != nil {
		return nil, err
	}
	if before != nil && aside == previousName {
		if err := w.write(aside, before); err != nil {
			return nil, err
		}
	}
	if w.HasUnattended() { // it may be of other keys
		if err := w.write(unattendedName, frame{"unattended", id, 0, writeKeys(list[:1], false)}.bytes()); err != nil {
			return nil, err
		}
	}
	return c, w.note(c)
}

// Condition is how one file of a wallet is.
type Condition struct {
	File    string       `json:"file"`
	Version uint64       `json:"version,omitempty"`
	Code    finding.Code `json:"code,omitempty"` // a finding's, "" when nothing is wrong
	Saw     string       `json:"detail"`
}

// Check says how each file is, as far as that can be seen without a key: whole, safe, and which
// version.
func (w Wallet) Check() []Condition {
	var list []Condition
	ids := map[string]bool{}
	for _, each := range []struct {
		name, kind string
		limit      int64
	}{{sealedName, "sealed", maxSealed}, {ownerName, "owner", maxKeys}, {unattendedName, "unattended", maxKeys},
		{previousName, "sealed", maxSealed}} {
		f, err := w.read(each.name, each.kind, each.limit)
		var p *finding.Problem
		switch errors.As(err, &p); {
		case err == nil:
			saw := "whole"
			if each.name == sealedName || each.name == ownerName {
				ids[f.id] = true
			} else if !ids[f.id] {
				p = problem(finding.SecretWalletSwapped, w.path(each.name), "belongs to another wallet.")
				list = append(list, Condition{each.name, f.version, p.Code, p.Facts[finding.FactDetail]})
				continue
			}
			if f.version > 0 {
				saw += fmt.Sprintf(", version %d", f.version)
			}
			list = append(list, Condition{each.name, f.version, "", saw})
		case p.Code == finding.SecretWalletIncomplete && each.name != sealedName && each.name != ownerName:
			list = append(list, Condition{each.name, 0, "", "not there, and it need not be"})
		default:
			list = append(list, Condition{each.name, 0, p.Code, strings.TrimSuffix(p.Facts[finding.FactDetail], ".")})
		}
	}
	return list
}
