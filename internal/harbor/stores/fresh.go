package stores

import (
	"context"
	"fmt"

	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// NewSecret gives the secret of a new entry of a store: from the file of SecretFile, from another
// source (a reference, "" for none), or typed twice.
func (r Stores) NewSecret(ctx context.Context, to target.Target, from string) (secret.Secret, error) {
	if r.SecretFile != "" {
		return r.FromFile(ctx, r.SecretFile, "password")
	}
	if from != "" {
		ref, err := secret.ParseReference(from)
		if err != nil {
			return secret.Secret{}, world.Usage("--secret: %v", err)
		}
		if ref.Kind == secret.Wallet || ref.Kind == secret.Ask || ref.Kind == secret.Container {
			return secret.Secret{}, world.Usage("--secret takes the password from another source; %s is none", ref.Kind)
		}
		s, _, err := r.Finder(secret.Secret{}).Find(ctx, secret.Want{Ref: ref, Target: to})
		return s, err
	}
	if !r.Who.Here() {
		return secret.Secret{}, world.Usage("the password is needed, and there is no terminal to type it at. " +
			"Read it from a file or from standard input, such as --secret-file -")
	}
	prompt := fmt.Sprintf("Password of %s at %s", to.User, to.Endpoint)
	for {
		s, err := world.Secret(ctx, r.Who, prompt)
		if err != nil || s.Reveal() == "" {
			return s, err
		}
		same, err := world.Again(ctx, r.Who, s.Reveal())
		if err != nil || same {
			return s, err
		}
	}
}

// NewPassphrase gives a new passphrase: from a file, or typed twice. Flag is the flag that names
// the file. One that can be guessed is noted.
func (r Stores) NewPassphrase(ctx context.Context, file, flag, prompt string) (secret.Secret, error) {
	if file != "" {
		s, err := r.FromFile(ctx, file, "passphrase")
		if err == nil && s.Reveal() == "" {
			err = world.Usage("a wallet's passphrase cannot be empty")
		}
		r.weak(s)
		return s, err
	}
	if !r.Who.Here() {
		return secret.Secret{}, world.Usage("a passphrase is needed, and there is no terminal to type it at. "+
			"Read it from a file or from standard input, such as %s -",
			flag)
	}
	for {
		text, err := r.Who.Hidden(ctx, prompt)
		if err != nil {
			return secret.Secret{}, err
		}
		if text == "" {
			r.Who.Say("It cannot be empty. A sentence of some words is good.")
			continue
		}
		same, err := world.Again(ctx, r.Who, text)
		if err != nil {
			return secret.Secret{}, err
		}
		if same {
			s := secret.New(text)
			r.weak(s)
			return s, nil
		}
	}
}

func (r Stores) weak(passphrase secret.Secret) {
	if n := len([]rune(passphrase.Reveal())); n > 0 && n < 12 {
		r.Note("a passphrase of fewer than 12 characters can be guessed by whoever gets hold of the wallet's files")
	}
}
