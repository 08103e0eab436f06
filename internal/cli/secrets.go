package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/person"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/shell"
)

// declareSecrets makes the flags that stand in for a person who would be asked, and that name a wallet.
func (c *call) declareSecrets(fs *flag.FlagSet) {
	fs.StringVar(&c.SecretFile, "secret-file", "", "a file with the password that would be asked for; - reads standard input")
	fs.StringVar(&c.PassphraseFile, "passphrase-file", "", "a file with the wallet's passphrase; - reads standard input")
	fs.StringVar(&c.WalletPath, "wallet", "", "the folder of a wallet that lies elsewhere (or GHARBOR_WALLET)")
}

// declareKeep makes the flag that answers where to keep a typed password.
func (c *call) declareKeep(fs *flag.FlagSet) {
	fs.Func("keep", "after a good test, keep the password that was typed or given: wallet, credentials, keyring or no", func(text string) error {
		if !slices.Contains(keepPlaces, text) {
			return errors.New(harbor.FlagMark + "--keep takes " + strings.Join(keepPlaces, ", "))
		}
		c.Keep = text
		return nil
	})
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
	return exit{Code: 4}
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

// twice gives a new passphrase: from a file, or typed two times.
func (c *call) twice(ctx context.Context, file, flag, prompt string) (secret.Secret, error) {
	if file != "" {
		s, err := c.FromFile(ctx, file, "passphrase")
		if err == nil && s.Reveal() == "" {
			err = usage("a wallet's passphrase cannot be empty")
		}
		c.weak(s)
		return s, err
	}
	if !c.Who.Here() {
		return secret.Secret{}, usage("a passphrase is needed, and there is no terminal to type it at: %s FILE (- reads standard input)", flag)
	}
	for {
		text, err := c.Who.Hidden(ctx, prompt)
		if err != nil {
			return secret.Secret{}, err
		}
		if text == "" {
			fmt.Fprintln(c.Stderr, "It cannot be empty. A sentence of some words is good.")
			continue
		}
		same, err := person.Again(ctx, c.Who, text)
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
