package cli

import (
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/stores"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/target"
)

// number makes a flag that takes a number from least to most; usual is what holds without it, 0 for nothing to say.
func number(fs *flag.FlagSet, name, about string, least, most, usual int, into *int) {
	about += fmt.Sprintf(", a `NUMBER` from %d to %d", least, most)
	if usual != 0 {
		about += fmt.Sprintf(" (default %d)", usual)
	}
	fs.Func(name, about, func(text string) error {
		n, err := strconv.Atoi(text)
		if err != nil || n < least || n > most {
			return fmt.Errorf("%s--%s takes a number from %d to %d", world.FlagMark, name, least, most)
		}
		*into = n
		return nil
	})
}

// size makes a flag that takes a number of bytes, with KB, MB or GB after it.
func size(fs *flag.FlagSet, name, about string, into *int) {
	fs.Func(name, about+fmt.Sprintf(", a `SIZE` such as 200MB (default %s; at most %s)", engine.Size(engine.UsualLargest), engine.Size(engine.MostLargest)), func(text string) error {
		digits, unit := text, 1
		for suffix, times := range map[string]int{"KB": 1 << 10, "MB": 1 << 20, "GB": 1 << 30} {
			if before, is := strings.CutSuffix(strings.ToUpper(text), suffix); is {
				digits, unit = before, times
			}
		}
		n, err := strconv.Atoi(digits)
		if err != nil || n < 1 || n > engine.MostLargest/unit {
			return fmt.Errorf("%s--%s takes a size up to %s, such as 200MB", world.FlagMark, name, engine.Size(engine.MostLargest))
		}
		*into = n * unit
		return nil
	})
}

// word is the value of a flag that takes one of some words. Completion offers them.
type word struct {
	name  string
	words []string
	into  *string
}

func (w *word) String() string { return "" }

// Set takes a word that is one of them.
func (w *word) Set(text string) error {
	if !slices.Contains(w.words, text) {
		return errors.New(world.FlagMark + "--" + w.name + " takes " + profile.Or(w.words))
	}
	*w.into = text
	return nil
}

// oneOf makes a flag that takes one of some words.
func oneOf(fs *flag.FlagSet, name, about string, words []string, into *string) {
	fs.Var(&word{name, words, into}, name, about)
}

// several makes a flag that may be repeated.
func several(fs *flag.FlagSet, name, about string, into *[]string) {
	fs.Func(name, about, func(text string) error {
		*into = append(*into, text)
		return nil
	})
}

// hostKeyFlag makes the flag that accepts a hop's host key by its fingerprint, as ssh-keygen prints it.
func hostKeyFlag(fs *flag.FlagSet, run *harbor.Run) {
	fs.Func("accept-host-key", "the `FINGERPRINT` (SHA256:…) of a hop's host key that you have compared; may be repeated", func(text string) error {
		sum, ok := strings.CutPrefix(text, "SHA256:")
		if hash, err := base64.RawStdEncoding.Strict().DecodeString(sum); !ok || err != nil || len(hash) != sha256.Size {
			return errors.New(world.FlagMark + "--accept-host-key takes a fingerprint as ssh-keygen -lf prints it: SHA256: and then 43 letters, digits, + and /")
		}
		run.AcceptedKeys = append(run.AcceptedKeys, text)
		return nil
	})
}

// secretFlags makes the flags that stand in for a person who would be asked, and that name a wallet.
func secretFlags(fs *flag.FlagSet, run *harbor.Run) {
	fs.StringVar(&run.SecretFile, "secret-file", "", "a `FILE` with the password that would be asked for; - reads standard input")
	hostKeyFlag(fs, run)
	walletFlags(fs, run)
}

// walletFlags makes the flags that name a wallet and its passphrase.
func walletFlags(fs *flag.FlagSet, run *harbor.Run) {
	fs.StringVar(&run.PassphraseFile, "passphrase-file", "", "a `FILE` with the wallet's passphrase; - reads standard input")
	fs.StringVar(&run.WalletPath, "wallet", "", "the `FOLDER` of another wallet than your own (or GHARBOR_WALLET)")
}

// keepFlag makes the flag that answers where to keep a typed password.
func keepFlag(fs *flag.FlagSet, run *harbor.Run) {
	oneOf(fs, "keep", "after a good test, keep the password that was typed or given: wallet, credentials, keyring or no", stores.Places, &run.Keep)
}

// consent is the flag that says yes to what would be asked.
type consent struct{ yes bool }

func (o *consent) flags(fs *flag.FlagSet, _ *harbor.Run) {
	fs.BoolVar(&o.yes, "yes", false, "agree to what would be asked")
}

// binding is the flags that name a user of a server.
type binding struct{ harbor.Binding }

func (o *binding) flags(fs *flag.FlagSet, _ *harbor.Run) {
	fs.StringVar(&o.Profile, "profile", "", "for the user, the address and the encryption of this `PROFILE`")
	fs.StringVar(&o.For, "for", "", "for this `SERVER`: a profile's name, or HOST[:PORT][/DATABASE], or a socket's path, or ssh:HOST[:PORT] for a hop, or cloud-key:HOST:PORT for the key of a cloud account; *.SUFFIX is every host below a suffix")
	several(fs, "via", "the `HOP` on the way to it, as a profile says it; may be repeated", &o.Via)
	fs.StringVar(&o.User, "user", "", "the `USER` whose password it is")
}

// profileName names the profile whose target a kept secret is for, "" for none.
func (o *binding) profileName() string { return o.Profile }

// fresh is the flags of a new entry of a store.
type fresh struct {
	binding
	from string
}

func (o *fresh) flags(fs *flag.FlagSet, run *harbor.Run) {
	o.binding.flags(fs, run)
	fs.Func("tls", "the weakest encryption that it may travel with, a `MODE`: off, encrypt or verify (default: the profile's; else off on this machine, verify to any other)", func(text string) error {
		if target.Travel[text] == "" {
			return errors.New(world.FlagMark + "--tls takes off, encrypt or verify")
		}
		o.TLS = text
		return nil
	})
	fs.StringVar(&o.from, "secret", "", "take it from another `SOURCE` now: none, empty, env:VARIABLE, file:PATH, credentials, keyring or command: [PROGRAM]")
	fs.StringVar(&run.SecretFile, "secret-file", "", "a `FILE` with the password; - reads standard input")
}

// aliasFilesFlag makes the flag that names files of aliases.
func aliasFilesFlag(fs *flag.FlagSet, run *harbor.Run) {
	several(fs, "aliases", "a `FILE` of aliases that counts before the usual ones; may be repeated (or GHARBOR_ALIASES)", &run.AliasFiles)
}

// declareSettings makes a flag of each setting that a command takes; its value goes into a layer.
func declareSettings(fs *flag.FlagSet, cmd *command, into profile.Layer) {
	shared := map[string]bool{}
	for _, s := range profile.Settings {
		if !cmd.takes(s) || shared[s.Flag] {
			continue
		}
		if len(profile.Flagged(s.Flag)) > 1 {
			shared[s.Flag] = true
			fs.Func(s.Flag, "a fact that a test must show, as `NAME=VALUE` (superuser=false); may be repeated", func(text string) error {
				if err := takeKeyed(into, s.Flag, text); err != nil {
					return fmt.Errorf("%s--%s: %v", world.FlagMark, s.Flag, err)
				}
				return nil
			})
			continue
		}
		fs.Func(s.Flag, "`"+s.Value+"` "+s.About, func(text string) error {
			if err := harbor.Take(into, s, text, profile.Origin{Layer: profile.LayerFlag, Name: "--" + s.Flag}); err != nil {
				return fmt.Errorf("%s--%s: %v", world.FlagMark, s.Flag, err)
			}
			return nil
		})
	}
}

// takeKeyed reads KEY=VALUE for a flag that several settings share; a list's items are between commas, or in flags of their
// own.
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
	return fmt.Errorf("wants NAME=VALUE, NAME being one of %s", strings.Join(keys, ", "))
}
