package cli

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/person"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/shell"
	"gentle-harbor/internal/wallet"
)

// declareSecrets makes the flags that stand in for a person who would be asked, and that name a wallet.
func (c *call) declareSecrets(fs *flag.FlagSet) {
	fs.StringVar(&c.secretFile, "secret-file", "", "a file with the password that would be asked for; - reads standard input")
	fs.StringVar(&c.passphraseFile, "passphrase-file", "", "a file with the wallet's passphrase; - reads standard input")
	fs.StringVar(&c.walletPath, "wallet", "", "the folder of a wallet that lies elsewhere (or GHARBOR_WALLET)")
}

// declareKeep makes the flag that answers where to keep a typed password.
func (c *call) declareKeep(fs *flag.FlagSet) {
	fs.Func("keep", "after a good test, keep the password that was typed or given: wallet, credentials, keyring or no", func(text string) error {
		if !slices.Contains(keepPlaces, text) {
			return errors.New(flagMark + "--keep takes " + strings.Join(keepPlaces, ", "))
		}
		c.keep = text
		return nil
	})
}

// inputs refuses two flags that would both read standard input.
func (c *call) inputs(more ...string) error {
	from := 0
	for _, file := range append([]string{c.secretFile, c.passphraseFile, c.newPassphraseFile}, more...) {
		if file == "-" {
			from++
		}
	}
	if from > 1 {
		return usage("only one of the things to be read can come from standard input")
	}
	return nil
}

// path makes a path of the command line's absolute.
func (c *call) path(path string) string {
	if c.Dir != "" && !filepath.IsAbs(path) {
		path = filepath.Join(c.Dir, path)
	}
	if absolute, err := filepath.Abs(path); err == nil {
		return absolute
	}
	return path
}

// fromFile reads what a person would type from a file, or from standard input. What comes from a file must be
// safe there.
func (c *call) fromFile(ctx context.Context, path, what string) (secret.Secret, error) {
	var text []byte
	var err error
	if info, e := os.Stat(c.path(path)); path != "-" && e == nil && info.Mode()&os.ModeNamedPipe != 0 {
		// as a shell makes one for the output of a program
		if text, err = files.ReadNamed(ctx, c.path(path), secret.MaxSize+2); ctx.Err() != nil {
			return secret.Secret{}, ctx.Err()
		}
	} else if path == "-" {
		text, err = io.ReadAll(io.LimitReader(c.Stdin, secret.MaxSize+3))
	} else {
		s, err := secret.ReadFile(c.path(path))
		var problem *finding.Problem
		if errors.As(err, &problem) {
			return s, c.problem(problem)
		}
		return s, err
	}
	if err != nil || len(text) > secret.MaxSize+2 || bytes.IndexByte(text, 0) >= 0 {
		return secret.Secret{}, exit{4, "what was read from " + map[bool]string{true: "standard input", false: path}[path == "-"] + " is no " + what}
	}
	return secret.New(secret.TrimNewline(string(text))), nil
}

// problem prints what keeps a secret from being had as a finding, and gives the exit code.
func (c *call) problem(p *finding.Problem) error {
	about := map[string]string{"detail": p.Facts["detail"], "mend": p.Facts["mend"], "wallet": p.Facts["wallet"], "subject": c.about, "profile": c.about}
	if c.about != "" && c.command.name != "wallet put" && c.command.name != "credentials add" {
		about["keep"] = "gharbor wallet put --profile " + shell.Word(c.about)
		if strings.HasPrefix(c.command.name, "credentials") {
			about["keep"] = "gharbor credentials add --profile " + shell.Word(c.about)
		}
	}
	if c.about == "" {
		delete(about, "subject")
		delete(about, "profile")
	}
	about["detail"] = outside.Text(p.Facts["detail"])
	if len(p.Tried) == 1 {
		p.Tried = nil // it says what the detail says
	}
	tried := make([]string, len(p.Tried))
	for i, line := range p.Tried {
		tried[i] = outside.Text(line)
	}
	f := finding.Make(p.Code, about, tried...)
	if c.json {
		_ = writeJSON(c.Stdout, map[string]any{"finding": f, "exit": 4})
	}
	printFinding(c.Stderr, f, c.about)
	return exit{code: 4}
}

// failed makes an error of the core one for the command line: a problem of secrets becomes a finding.
func (c *call) failed(err error) error {
	var p *finding.Problem
	var e exit
	switch {
	case err == nil, errors.As(err, &e), errors.Is(err, context.Canceled), errors.Is(err, person.ErrLeft):
		return err
	case errors.As(err, &p):
		return c.problem(p)
	}
	return wrong("%v", err)
}

// passphrase gives a wallet's passphrase: from --passphrase-file, or typed.
func (c *call) passphrase(ctx context.Context, prompt string) (secret.Secret, error) {
	if c.passphraseFile != "" {
		if !c.passphraseRead.Given() {
			var err error
			if c.passphraseRead, err = c.fromFile(ctx, c.passphraseFile, "passphrase"); err != nil {
				return secret.Secret{}, err
			}
		}
		return c.passphraseRead, nil
	}
	if !c.who.Here() {
		return secret.Secret{}, usage("the wallet's passphrase is needed, and there is no terminal to type it at: --passphrase-file FILE (- reads standard input)")
	}
	text, err := c.who.Hidden(ctx, prompt)
	return secret.New(text), err
}

// twice gives a new passphrase: from a file, or typed two times.
func (c *call) twice(ctx context.Context, file, flag, prompt string) (secret.Secret, error) {
	if file != "" {
		s, err := c.fromFile(ctx, file, "passphrase")
		if err == nil && s.Reveal() == "" {
			err = usage("a wallet's passphrase cannot be empty")
		}
		c.weak(s)
		return s, err
	}
	if !c.who.Here() {
		return secret.Secret{}, usage("a passphrase is needed, and there is no terminal to type it at: %s FILE (- reads standard input)", flag)
	}
	for {
		text, err := c.who.Hidden(ctx, prompt)
		if err != nil {
			return secret.Secret{}, err
		}
		if text == "" {
			fmt.Fprintln(c.Stderr, "It cannot be empty. A sentence of some words is good.")
			continue
		}
		same, err := person.Again(ctx, c.who, text)
		if err != nil {
			return secret.Secret{}, err
		}
		if same {
			s := secret.New(text)
			c.weak(s)
			return s, nil
		}
	}
}

// weak tells of a passphrase that can be guessed.
func (c *call) weak(passphrase secret.Secret) {
	if n := len([]rune(passphrase.Reveal())); n > 0 && n < 12 {
		fmt.Fprintln(c.Stderr, "note: a passphrase of fewer than 12 characters can be guessed by whoever gets hold of the wallet's files")
	}
}

// walletAt gives the wallet in a folder.
func (c *call) walletAt(dir string) wallet.Wallet {
	w := wallet.Wallet{Dir: dir}
	if state, err := c.state(); err == nil {
		w.Memory.File = filepath.Join(state, "wallets.json")
	}
	return w
}

// walletDir gives the folder of a wallet by its name; "" is the usual one, or the one that --wallet or
// GHARBOR_WALLET names.
func (c *call) walletDir(name string) (string, error) {
	if name == "" {
		if c.walletPath != "" {
			return c.path(c.walletPath), nil
		}
		if path, ok := c.env("GHARBOR_WALLET"); ok && path != "" {
			return c.path(path), nil
		}
	}
	home, err := c.home()
	if err != nil {
		return "", err
	}
	if name == "" {
		return filepath.Join(home, "wallet"), nil
	}
	return filepath.Join(home, "wallets", name), nil
}

// keeper gives the wallet in a folder as a place to look for secrets; it is opened once in a run.
func (c *call) keeper(dir string) *wallet.Keeper {
	c.keepersMu.Lock()
	defer c.keepersMu.Unlock()
	if k, ok := c.keepers[dir]; ok {
		return k
	}
	k := &wallet.Keeper{Wallet: c.walletAt(dir)}
	if c.passphraseFile != "" || c.who.Here() {
		k.Passphrase = func(ctx context.Context, how secret.How, again bool) (secret.Secret, error) {
			return c.toOpen(ctx, dir, how, again)
		}
	}
	if c.keepers == nil {
		c.keepers = map[string]*wallet.Keeper{}
	}
	c.keepers[dir] = k
	return k
}

// toOpen asks for the passphrase of a wallet that a secret is looked for in.
func (c *call) toOpen(ctx context.Context, dir string, how secret.How, again bool) (secret.Secret, error) {
	if again {
		if c.passphraseFile != "" {
			return secret.Secret{}, &finding.Problem{Code: "secret.wallet-passphrase", Facts: map[string]string{"detail": filepath.Join(dir, "owner") + " does not open with this passphrase."}}
		}
		fmt.Fprintln(c.Stderr, "That is not its passphrase.")
	}
	prompt := "Passphrase of the wallet " + outside.Cell(dir)
	if how == secret.Searched {
		prompt += " (Enter alone leaves it closed)"
	}
	defer c.typed.OneAtATime()()
	s, err := c.passphrase(ctx, prompt)
	if err == nil && s.Reveal() == "" && how == secret.Searched {
		s = secret.Secret{}
	}
	return s, err
}

// finder follows references in this run.
func (c *call) finder(known secret.Secret) secret.Finder {
	f := secret.Finder{Env: c.env, Environ: c.Environ, Known: known}
	home, err := c.home()
	if err == nil {
		f.Credentials = filepath.Join(home, "credentials")
	}
	f.Wallet = func(name string) secret.Keeper {
		dir, err := c.walletDir(name)
		if err != nil {
			return missingPlace{err}
		}
		return c.keeper(dir)
	}
	dirs := c.walletDirs()
	for _, dir := range dirs {
		f.Wallets = append(f.Wallets, c.keeper(dir))
	}
	f.Keyring = c.keyring()
	switch {
	case c.secretFile != "":
		// Whoever gives a file means it, and nothing else is looked at.
		f.Wallets, f.Credentials, f.AskSaw = nil, "", "from the file that was given with --secret-file"
		f.Ask = c.typed.Asking(func(ctx context.Context, _ secret.Way) (secret.Secret, error) {
			return c.fromFile(ctx, c.secretFile, "password")
		}, nil)
	case c.who.Here():
		f.Ask = c.typed.Asking(func(ctx context.Context, way secret.Way) (secret.Secret, error) {
			return person.Secret(ctx, c.who, secret.Prompt(way))
		}, c.offerTyped)
	}
	return f
}

// walletDirs lists the wallets that are searched: the usual one, then those with names.
func (c *call) walletDirs() []string {
	usual, err := c.walletDir("")
	if err != nil {
		return nil
	}
	dirs := []string{usual}
	home, err := c.home()
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

func (m missingPlace) Look(context.Context, secret.Way, secret.How) (secret.Secret, string, error) {
	return secret.Secret{}, "", &finding.Problem{Code: "secret.wallet-missing", Facts: map[string]string{"detail": upperFirst(m.err.Error()) + "."}}
}

func upperFirst(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

func (c *call) keyring() secret.DesktopKeyring {
	k := secret.DesktopKeyring{Session: func() bool {
		address, ok := c.env("DBUS_SESSION_BUS_ADDRESS")
		return ok && address != "" || runtime.GOOS == "darwin" || runtime.GOOS == "windows"
	}}
	if state, err := c.state(); err == nil {
		k.Index = filepath.Join(state, "keyring.json")
	}
	return k
}

// userFromWallet gives whom a profile without a user logs in as, where a wallet knows; "" where none does.
func (c *call) userFromWallet(ctx context.Context, e profile.Effective) (user, from string, err error) {
	dirs := c.walletDirs()
	switch e.Secret.Kind {
	case secret.Search:
	case secret.Wallet:
		dir, err := c.walletDir(e.Secret.Of)
		if err != nil {
			return "", "", nil
		}
		dirs = []string{dir}
	default:
		return "", "", nil
	}
	for _, dir := range dirs {
		k := c.keeper(dir)
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
		case errors.As(err, &p) && p.Code == "secret.wallet-locked":
			continue
		case err != nil:
			return "", "", err
		}
		user, all := contents.User(e.Way())
		if user != "" {
			return user, dir, nil
		}
		if len(all) > 1 {
			return "", "", wrong("the profile says no user, and the wallet %s keeps %d for %s (%s); say --user NAME, or mark one: gharbor wallet put --for %s --user NAME --first",
				dir, len(all), e.Place(), outside.Cell(strings.Join(all, ", ")), e.Way().Place())
		}
	}
	return "", "", nil
}
