// Package stores is what a use case does with the places where secrets are kept: wallets,
// credential files, the desktop's keyring, and whoever types a password or the file that is read
// instead. A [Stores] value is what one use case was told of them.
package stores

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/credentials"
	"gentle-harbor/internal/secret/keep/keyring"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/target"
)

// Stores is what a use case was told of secrets, over what is in reach of it.
type Stores struct {
	world.Reach
	// Files that stand in for a person who would be asked; "-" is standard input.
	SecretFile, PassphraseFile, NewPassphraseFile string
	// WalletPath is the folder of a wallet that is elsewhere, and Keep where a typed password is
	// to be kept; "" for the usual.
	WalletPath, Keep string

	passphrase *passphrase
}

// Of gives the stores of a use case.
func Of(w *world.World) Stores { return Stores{Reach: world.ReachOf(w), passphrase: &passphrase{}} }

// passphrase is the one that was read or made in a use case. It is read once: standard input has
// it once.
type passphrase struct {
	mu sync.Mutex
	is secret.Secret
}

func (p *passphrase) get(read func() (secret.Secret, error)) (secret.Secret, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.is.Given() || read == nil {
		return p.is, nil
	}
	var err error
	p.is, err = read()
	return p.is, err
}

// FromFile reads what a person would type from a file, or from standard input. What comes from a
// file must be safe there.
func (r Stores) FromFile(ctx context.Context, path, what string) (secret.Secret, error) {
	var text []byte
	var err error
	if info, e := os.Stat(r.Path(path)); path != "-" && e == nil && info.Mode()&os.ModeNamedPipe != 0 {
		// as a shell makes one for the output of a program
		if text, err = files.ReadNamed(ctx, r.Path(path), secret.MaxSize+2); ctx.Err() != nil {
			return secret.Secret{}, ctx.Err()
		}
	} else if path == "-" {
		text, err = io.ReadAll(io.LimitReader(r.Stdin, secret.MaxSize+3))
	} else {
		return secret.ReadFile(r.Path(path))
	}
	if err != nil || len(text) > secret.MaxSize+2 || bytes.IndexByte(text, 0) >= 0 {
		return secret.Secret{}, world.Error{Code: finding.ExitSecret,
			Message: "what was read from " + map[bool]string{true: "standard input",
				false: path}[path == "-"] + " is no " + what}
	}
	return secret.New(secret.TrimNewline(string(text))), nil
}

// Passphrase gives a wallet's passphrase: from --passphrase-file, or typed.
func (r Stores) Passphrase(ctx context.Context, prompt string) (secret.Secret, error) {
	if r.PassphraseFile != "" {
		return r.passphrase.get(func() (secret.Secret, error) { return r.FromFile(ctx, r.PassphraseFile, "passphrase") })
	}
	if !r.Who.Here() {
		return secret.Secret{}, world.Usage("the wallet's passphrase is needed, and there is no terminal to " +
			"type it at. Read it from a file or from standard input, such as --passphrase-file -")
	}
	text, err := r.Who.Hidden(ctx, prompt)
	return secret.New(text), err
}

// WalletAt gives the wallet in a folder.
func (r Stores) WalletAt(dir string) wallet.Wallet {
	w := wallet.Wallet{Dir: dir, WorkFactor: r.World.WalletWork}
	if state, err := r.State(); err == nil {
		w.Memory.File = filepath.Join(state, "wallets.json")
	}
	return w
}

// WalletDir gives the folder of a wallet by its name; "" is the usual one, or the one that
// --wallet or GHARBOR_WALLET names.
func (r Stores) WalletDir(name string) (string, error) {
	if name == "" {
		if r.WalletPath != "" {
			return r.Path(r.WalletPath), nil
		}
		if path, ok := r.Env("GHARBOR_WALLET"); ok && path != "" {
			return r.Path(path), nil
		}
	}
	home, err := r.Home()
	if err != nil {
		return "", err
	}
	if name == "" {
		return filepath.Join(home, "wallet"), nil
	}
	return filepath.Join(home, "wallets", name), nil
}

// Keeper gives the wallet in a folder as a place to look for secrets. It is opened once, and anew
// after it was changed here.
func (r Stores) Keeper(dir string) *wallet.Keeper {
	return r.Wallets.Keeper(dir, r.PassphraseFile, func() *wallet.Keeper {
		k := &wallet.Keeper{Wallet: r.WalletAt(dir)}
		if r.PassphraseFile != "" || r.Who.Here() {
			k.Passphrase = func(ctx context.Context, how secret.How, again bool) (secret.Secret, error) {
				return r.toOpen(ctx, dir, how, again)
			}
		}
		return k
	})
}

// toOpen asks for the passphrase of a wallet that a secret is looked for in.
func (r Stores) toOpen(ctx context.Context, dir string, how secret.How, again bool) (secret.Secret, error) {
	if again {
		if r.PassphraseFile != "" {
			return secret.Secret{}, &finding.Problem{Code: finding.SecretWalletPassphrase,
				Facts: finding.Facts{finding.FactDetail: filepath.Join(dir, "owner") +
					" does not open with this passphrase."}}
		}
		r.Who.Say("That is not its passphrase.")
	}
	prompt := "Passphrase of the wallet " + outside.Cell(dir)
	if how == secret.Searched {
		prompt += " (Enter alone leaves it closed)"
	}
	defer r.Typed.OneAtATime()()
	s, err := r.Passphrase(ctx, prompt)
	if err == nil && s.Reveal() == "" && how == secret.Searched {
		s = secret.Secret{}
	}
	return s, err
}

// Quiet gives a finder that looks where secrets are kept, and asks nobody.
func (r Stores) Quiet() secret.Finder {
	f := secret.Finder{Env: r.Env, Environ: r.Environ}
	home, err := r.Home()
	if err == nil {
		f.CredentialFile = func(path string) secret.Keeper {
			if path == "" {
				path = filepath.Join(home, "credentials")
			}
			return credentials.File(path)
		}
	}
	f.Wallet = func(name string) secret.Keeper {
		dir, err := r.WalletDir(name)
		if err != nil {
			return missingPlace{err}
		}
		return r.Keeper(dir)
	}
	dirs := r.WalletDirs()
	for _, dir := range dirs {
		f.Wallets = append(f.Wallets, r.Keeper(dir))
	}
	f.Keyring = r.Keyring()
	return f
}

// Finder follows references in this run.
func (r Stores) Finder(known secret.Secret) secret.Finder {
	f := r.Quiet()
	f.Known = known
	switch {
	case r.SecretFile != "":
		// Whoever gives a file means it, and nothing else is looked at.
		f.Wallets, f.CredentialFile, f.AskSaw = nil, nil, "from the file that was given with --secret-file"
		f.Ask = r.Typed.Asking(func(ctx context.Context, _ target.Target) (secret.Secret, error) {
			return r.FromFile(ctx, r.SecretFile, "password")
		}, nil)
	case r.Who.Here():
		f.Ask = r.Typed.Asking(func(ctx context.Context, dest target.Target) (secret.Secret, error) {
			return world.Secret(ctx, r.Who, secret.Prompt(dest))
		}, r.offerTyped)
	}
	return f
}

// WalletDirs lists the wallets that are searched: the usual one, then those with names.
func (r Stores) WalletDirs() []string {
	usual, err := r.WalletDir("")
	if err != nil {
		return nil
	}
	dirs := []string{usual}
	home, err := r.Home()
	if err != nil {
		return dirs
	}
	entries, _ := os.ReadDir(filepath.Join(home, "wallets"))
	for _, each := range entries {
		if each.IsDir() && secret.CheckWalletName(each.Name()) {
			dirs = append(dirs, filepath.Join(home, "wallets", each.Name()))
		}
	}
	return dirs
}

// missingPlace is a place that cannot be looked at.
type missingPlace struct{ err error }

func (m missingPlace) Look(context.Context, target.Target, secret.How) (secret.Secret, secret.Source, error) {
	return secret.Secret{}, secret.Source{}, &finding.Problem{Code: finding.SecretWalletMissing,
		Facts: finding.Facts{finding.FactDetail: world.UpperFirst(m.err.Error()) + "."}}
}

// Keyring gives the desktop's secret service.
func (r Stores) Keyring() keyring.Desktop {
	k := keyring.Desktop{Session: func() string {
		if runtime.GOOS == "darwin" || runtime.GOOS == "windows" {
			return "" // the system's own, without a bus
		}
		address, _ := r.Env("DBUS_SESSION_BUS_ADDRESS")
		return keyring.Session(address)
	}}
	if state, err := r.State(); err == nil {
		k.Index = filepath.Join(state, "keyring.json")
	}
	return k
}

// Unread gives standard input where nothing else of this command is read from it, else nil. more
// are words of the command that stand for standard input when they are "-".
func (r Stores) Unread(more ...string) io.Reader {
	if slices.Contains(append([]string{r.SecretFile, r.PassphraseFile, r.NewPassphraseFile}, more...), "-") {
		return nil
	}
	return r.Stdin
}

// Inputs refuses two flags that would both read standard input.
func (r Stores) Inputs(more ...string) error {
	from := 0
	for _, file := range append([]string{r.SecretFile, r.PassphraseFile, r.NewPassphraseFile}, more...) {
		if file == "-" {
			from++
		}
	}
	if from > 1 {
		return world.Usage("only one thing can be read from standard input; name a file for the others")
	}
	return nil
}

// offerTyped asks whether a password that was typed for one target may be used for another.
func (r Stores) offerTyped(ctx context.Context, typed, now target.Target) (bool, error) {
	described := func(dest target.Target) string {
		text := dest.Place()
		if dest.Database != "" {
			text += ", database " + dest.Database
		}
		return text + ", " + target.Travel[dest.TLS]
	}
	return world.Yes(ctx, r.Who, fmt.Sprintf("The password of %s was typed for %s.\nUse it for %s too?",
		now.User, described(typed), described(now)), true)
}

// ReadAll reads standard input to its end, up to limit bytes.
func (r Stores) ReadAll(limit int64) (string, error) {
	data, err := io.ReadAll(bufio.NewReader(io.LimitReader(r.Stdin, limit+1)))
	return string(data), err
}
