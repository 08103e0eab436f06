package cli

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/stores"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/target"
)

// hostKeyFlag makes the flag that accepts a hop's host key by its fingerprint, as ssh-keygen
// prints it.
func hostKeyFlag(fs flagSet, run *harbor.Run) {
	fs.eachFlag("accept-host-key", func(text string) error {
		sum, ok := strings.CutPrefix(text, "SHA256:")
		if hash, err := base64.RawStdEncoding.Strict().DecodeString(sum); !ok || err != nil || len(hash) != sha256.Size {
			return errors.New("a fingerprint is SHA256: and then 43 letters, digits, + and /, as ssh-keygen -lf prints it")
		}
		run.AcceptedKeys = append(run.AcceptedKeys, text)
		return nil
	})
}

// secretFlags makes the flags that stand in for a person who would be asked, and that name a
// wallet.
func secretFlags(fs flagSet, run *harbor.Run) {
	fs.textFlag("secret-file", &run.SecretFile)
	hostKeyFlag(fs, run)
	walletFlags(fs, run)
}

// walletFlags makes the flags that name a wallet and its passphrase.
func walletFlags(fs flagSet, run *harbor.Run) {
	fs.textFlag("passphrase-file", &run.PassphraseFile)
	fs.textFlag("wallet", &run.WalletPath)
}

// storeFlag makes the flag that answers where to keep a typed password.
func storeFlag(fs flagSet, run *harbor.Run) {
	fs.wordFlag("store", stores.Places, "", &run.Keep)
}

// consent is the flag that says yes to what would be asked.
type consent struct{ yes bool }

func (o *consent) flags(fs flagSet, _ *harbor.Run) {
	fs.onFlag("yes", &o.yes)
}

// binding is the flags that name a user of a server.
type binding struct{ harbor.Binding }

func (o *binding) flags(fs flagSet, _ *harbor.Run) {
	fs.textFlag("server", &o.Server)
	fs.listFlag("via", &o.Via)
	fs.textFlag("user", &o.User)
}

// removal is the flags of what removes the stored password of a user of a server.
type removal struct {
	binding
	consent
}

func (o *removal) flags(fs flagSet, run *harbor.Run) {
	o.binding.flags(fs, run)
	o.consent.flags(fs, run)
}

// agreed asks whether a password is to be removed from where it is stored, and says in words what
// is removed. Command is the one that asks.
func (o *removal) agreed(ctx context.Context, c *call, to target.Target, command, from string) (what string,
	yes bool, err error) {
	what = fmt.Sprintf("the password of %s for %s", outside.Cell(to.User), outside.Cell(to.Endpoint.String()))
	yes, err = c.Consent(ctx, o.yes, "Remove "+what+" from "+from+"?", command+" would remove "+what)
	return what, yes, err
}

// named takes the profile from the words of a command.
func (o *binding) named(names []string) {
	if len(names) == 1 {
		o.Profile = names[0]
	}
}

// profileName names the profile whose target a stored secret is for, "" for none.
func (o *binding) profileName() string { return o.Profile }

// aliasFilesFlag makes the flag that names files of aliases.
func aliasFilesFlag(fs flagSet, run *harbor.Run) {
	fs.listFlag("aliases", &run.AliasFiles)
}

// declareSettings makes a flag of each setting that a command takes; its value goes into a layer.
func declareSettings(fs flagSet, cmd *command, into profile.Layer) {
	shared := map[string]bool{}
	for _, s := range profile.Settings {
		if !cmd.takesSetting(s) || shared[s.Flag] {
			continue
		}
		if len(profile.Flagged(s.Flag)) > 1 {
			shared[s.Flag] = true
			fs.settingFlag(s, func(text string) error { return takeKeyed(into, s.Flag, text) })
			continue
		}
		fs.settingFlag(s, func(text string) error {
			return harbor.Take(into, s, text, profile.Origin{Layer: profile.LayerFlag, Name: "--" + s.Flag})
		})
	}
}

// takeKeyed reads KEY=VALUE for a flag that several settings share; a list's items are between
// commas, or in flags of their own.
func takeKeyed(layer profile.Layer, flag, text string) error {
	key, value, ok := strings.Cut(text, "=")
	var keys []string
	for _, s := range profile.Flagged(flag) {
		_, own, _ := strings.Cut(s.Name, ".")
		keys = append(keys, own)
		if !ok || own != strings.TrimSpace(key) {
			continue
		}
		origin := profile.Origin{Layer: profile.LayerFlag, Name: "--" + flag}
		if !s.IsList() {
			return harbor.Take(layer, s, value, origin)
		}
		for item := range strings.SplitSeq(value, ",") {
			if err := harbor.Take(layer, s, strings.TrimSpace(item), origin); err != nil {
				return err
			}
		}
		return nil
	}
	return fmt.Errorf("write NAME=VALUE, where NAME is one of %s", strings.Join(keys, ", "))
}
