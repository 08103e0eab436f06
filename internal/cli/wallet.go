package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/target"
)

// walletAction makes an action of the command wallet. All of them take --wallet, --called and --passphrase-file.
func walletAction(name, synopsis, about, text string, examples []string, flags func(*flag.FlagSet, *call), run func(context.Context, *call, wallet.Wallet) error) *command {
	return &command{
		name: "wallet " + name, synopsis: synopsis, about: about, text: text, examples: examples,
		json: name == "list" || name == "check",
		flags: func(fs *flag.FlagSet, c *call) {
			fs.StringVar(&c.WalletPath, "wallet", "", "the folder of a wallet that lies elsewhere (or GHARBOR_WALLET)")
			fs.StringVar(&c.named, "called", "", "a wallet of your own with a name, as secret: wallet:NAME means it")
			fs.StringVar(&c.PassphraseFile, "passphrase-file", "", "a file with the passphrase; - reads standard input")
			if flags != nil {
				flags(fs, c)
			}
		},
		run: func(ctx context.Context, c *call) error {
			if c.named != "" && !secret.CheckWalletName(c.named) {
				return usage("--called takes a name of letters, digits, - and _")
			}
			if c.named != "" && c.WalletPath != "" {
				return usage("--wallet and --called both say which wallet; keep one of them")
			}
			if err := c.Inputs(); err != nil {
				return err
			}
			if most := map[string]int{"unattended": 1, "absorb": 1}[name]; len(c.names) > most {
				return usage("wallet %s takes no %q", name, clip(c.names[most]))
			}
			if ref := c.refOf(c.way.profile); c.named == "" && c.WalletPath == "" && ref.Kind == secret.Wallet {
				c.named = ref.Of // the wallet that the profile names
			}
			dir, err := c.WalletDir(c.named)
			if err != nil {
				return err
			}
			err = run(ctx, c, c.WalletAt(dir))
			var p *finding.Problem
			if errors.As(err, &p) && p.Facts["wallet"] == "" {
				p.Set("wallet", dir)
			}
			return c.failed(err)
		},
	}
}

func yesFlag(fs *flag.FlagSet, c *call) {
	fs.BoolVar(&c.yes, "yes", false, "agree to what would be asked")
}

var walletCommand = command{
	name: "wallet", synopsis: "ACTION", about: "keep passwords encrypted, each bound to its user and place",
	text: `A wallet is a folder of encrypted files. Each password in it is bound to a user, a place and the weakest encryption that
it may travel with, and is never sent on another way. A profile finds its password there without being told to (or with
secret: wallet); it opens with your passphrase, or, once you have switched that on, without it for jobs of your own account.
docs/wallet.md has the format, and what a wallet protects from and what not.`,
	examples: []string{"gharbor wallet create", "gharbor wallet put --profile huts/staging", "gharbor wallet put --for db.fellside.example:5432 --user reader", "gharbor wallet list"},
}

func init() {
	walletCommand.subs = []*command{
		walletAction("create", "", "make a new wallet",
			"It asks for a passphrase twice. Nobody can open the wallet without it, and nothing brings it back.",
			[]string{"gharbor wallet create", "gharbor wallet create --passphrase-file phrase.txt"}, nil, walletCreate),
		walletAction("put", "", "take a password in, or change it",
			`--profile takes user, place and encryption from a profile; --for and --user say them. It asks for the password twice. An
entry for the same user and place is changed; the state before can be brought back with gharbor wallet recover.`,
			[]string{"gharbor wallet put --profile huts/staging", "gharbor wallet put --for db.fellside.example:5432/bunkhouse --user reader --secret-file - --passphrase-file phrase.txt", "gharbor wallet put --profile huts/local --secret env:HUT_WARDEN_PW"},
			func(fs *flag.FlagSet, c *call) {
				c.declareWay(fs)
				c.declareNew(fs)
				fs.BoolVar(&c.first, "first", false, "a profile without a user logs in as this one, where several are kept for its place")
			}, walletPut),
		walletAction("list", "", "show for what and for whom passwords are kept, never which",
			"It needs no passphrase where the wallet is open to jobs (unattended).",
			[]string{"gharbor wallet list", "gharbor wallet list --json"}, nil, walletList),
		walletAction("remove", "", "take a password out", "",
			[]string{"gharbor wallet remove --for db.fellside.example:5432 --user reader"},
			func(fs *flag.FlagSet, c *call) { c.declareWay(fs); yesFlag(fs, c) }, walletRemove),
		walletAction("reveal", "", "show one password, at a terminal, after the passphrase",
			"This is the only command that shows a password. It shows it nowhere but at a terminal.",
			[]string{"gharbor wallet reveal --profile huts/staging"},
			func(fs *flag.FlagSet, c *call) { c.declareWay(fs) }, walletReveal),
		walletAction("passphrase", "", "change the passphrase, and all keys with it", "",
			[]string{"gharbor wallet passphrase", "gharbor wallet passphrase --passphrase-file old.txt --new-passphrase-file new.txt"},
			func(fs *flag.FlagSet, c *call) {
				fs.StringVar(&c.NewPassphraseFile, "new-passphrase-file", "", "a file with the new passphrase; - reads standard input")
			}, walletPassphrase),
		walletAction("unattended", "on|off", "let jobs in without the passphrase, or no longer",
			unattendedMeaning+`

Switching it off makes new keys: a copy of the old one opens nothing that is written from then on.`,
			[]string{"gharbor wallet unattended on", "gharbor wallet unattended off"}, yesFlag, walletUnattended),
		walletAction("absorb", "CREDENTIAL-FILE", "take all entries of a credential file in",
			"Then the file can be removed: it asks, or --remove with --yes says so. It is removed only after each entry was read back.",
			[]string{"gharbor wallet absorb ~/.config/gentle-harbor/credentials"},
			func(fs *flag.FlagSet, c *call) {
				fs.BoolVar(&c.replace, "replace", false, "let the file's password win where the wallet has another one")
				fs.BoolVar(&c.undo, "remove", false, "remove the file afterwards")
				yesFlag(fs, c)
			}, walletAbsorb),
		walletAction("check", "", "tell how each of the wallet's files is",
			"With the passphrase, or where the wallet is open to jobs, signature, version and content are checked too.",
			[]string{"gharbor wallet check"}, nil, walletCheck),
		walletAction("recover", "", "bring the state before back, under a higher version",
			`--from sealed instead accepts the state that stands there, such as a backup that was brought back on purpose: an older
or another wallet is refused until then.`,
			[]string{"gharbor wallet recover", "gharbor wallet recover --from sealed"},
			func(fs *flag.FlagSet, c *call) {
				fs.Func("from", "previous (the state before the last write) or sealed (what stands there now)", func(text string) error {
					if text != "previous" && text != "sealed" {
						return errors.New(harbor.FlagMark + "--from takes previous or sealed")
					}
					c.to = text
					return nil
				})
				yesFlag(fs, c)
			}, walletRecover),
	}
}

// unattendedMeaning says in plain words what the switch does.
const unattendedMeaning = `With this, jobs of your account connect without the passphrase. The key then lies in the file "unattended" in
the wallet's folder: whoever can read that file could read every entry of the wallet. The tool will not change, add or
reveal an entry with it.`

func walletCreate(ctx context.Context, c *call, w wallet.Wallet) error {
	if w.Exists() {
		return wrong("there is a wallet in %s already; gharbor wallet list shows what it keeps", w.Dir)
	}
	passphrase, err := c.twice(ctx, c.PassphraseFile, "--passphrase-file", "Passphrase for the new wallet")
	if err != nil {
		return err
	}
	if err := w.Create(ctx, passphrase); err != nil {
		return err
	}
	c.PassphraseRead = passphrase
	fmt.Fprintf(c.Stdout, "Made the wallet %s. Keep its passphrase safe: without it nobody opens it.\n", w.Dir)
	return nil
}

// opened gives the contents for a command that only looks.
func (c *call) opened(ctx context.Context, w wallet.Wallet) (*wallet.Contents, error) {
	k := c.Keeper(w.Dir)
	return k.Open(ctx, secret.Named)
}

func walletPut(ctx context.Context, c *call, w wallet.Wallet) error {
	way, err := c.bound(ctx)
	if err != nil {
		return err
	}
	if !w.Exists() {
		if !c.Who.Here() {
			return &finding.Problem{Code: "secret.wallet-missing", Facts: map[string]string{"detail": "There is no wallet in " + w.Dir + "."}}
		}
		fmt.Fprintf(c.Stderr, "There is no wallet yet; this makes one in %s.\n", w.Dir)
		if err := walletCreate(ctx, c, w); err != nil {
			return err
		}
	}
	s, err := c.newSecret(ctx, way)
	if err != nil {
		return err
	}
	was, err := c.put(ctx, w, wallet.Entry{Way: way, First: c.first, Secret: s})
	if err != nil {
		return err
	}
	word := "Kept"
	if was {
		word = "Changed"
	}
	fmt.Fprintf(c.Stdout, "%s the password of %s for %s in the wallet %s.\n", word, outside.Cell(way.User), outside.Cell(way.Endpoint.String()), w.Dir)
	if !s.Given() {
		fmt.Fprintln(c.Stderr, "note: it says that this account has no password, and none is sent")
	}
	if way.TLS == "off" && way.Socket == "" && !target.Literal(way.Host) {
		fmt.Fprintf(c.Stderr, "note: it may travel to %s without encryption, where anyone on the way can read it\n", outside.Cell(way.Host))
	}
	if way.Port == 0 && way.Socket == "" {
		fmt.Fprintf(c.Stderr, "note: it may be sent to any port of %s; a port in --for narrows that\n", outside.Cell(way.Host))
	}
	for _, u := range c.users() {
		if u.name == c.way.profile && u.ref.Kind != secret.Search && u.ref.Kind != secret.Wallet {
			fmt.Fprintf(c.Stderr, "note: %s takes its password from elsewhere (%s); to have it use the wallet: gharbor change %s --secret wallet\n", u.name, outside.Cell(u.ref.String()), u.name)
		}
	}
	if !w.HasUnattended() {
		fmt.Fprintln(c.Stderr, "note: the wallet opens with its passphrase only; gharbor wallet unattended on lets your jobs in")
	}
	return nil
}

// put asks for the passphrase and takes an entry in.
func (c *call) put(ctx context.Context, w wallet.Wallet, entries ...wallet.Entry) (was bool, err error) {
	passphrase, err := c.passphraseOf(ctx, w)
	if err != nil {
		return false, err
	}
	err = c.working(ctx, "Opening and writing the wallet", func() error {
		return w.Change(ctx, passphrase, func(contents *wallet.Contents) error {
			for _, e := range entries {
				e.Changed = time.Now()
				was = contents.Put(e)
			}
			return nil
		})
	})
	return was, err
}

// passphraseOf gives the passphrase of a wallet, the one that made it in this run included.
func (c *call) passphraseOf(ctx context.Context, w wallet.Wallet) (secret.Secret, error) {
	if c.PassphraseRead.Given() {
		return c.PassphraseRead, nil
	}
	return c.Passphrase(ctx, "Passphrase of the wallet "+outside.Cell(w.Dir))
}

// working says at a terminal what takes its time.
func (c *call) working(_ context.Context, what string, work func() error) error {
	_, isTerminal := terminal(c.Stderr)
	if isTerminal {
		fmt.Fprint(c.Stderr, what+" …")
		defer fmt.Fprint(c.Stderr, "\r\x1b[K")
	}
	return work()
}

// missingEntry is the error for an entry that is not there.
func missingEntry(way target.Target, contents *wallet.Contents, dir string) error {
	for _, e := range contents.Entries {
		if e.Way.User == way.User && e.Way.Place() == way.Place() || e.Way.User == way.User && e.Way.Host == way.Host {
			return wrong("the wallet %s keeps nothing for %s at %s; it does for %s at %s", dir, way.User, way.Endpoint, e.Way.User, e.Way.Endpoint)
		}
	}
	return wrong("the wallet %s keeps nothing for %s at %s; gharbor wallet list shows what it keeps", dir, way.User, way.Endpoint)
}

func walletRemove(ctx context.Context, c *call, w wallet.Wallet) error {
	way, err := c.bound(ctx)
	if err != nil {
		return err
	}
	what := fmt.Sprintf("the password of %s for %s", outside.Cell(way.User), outside.Cell(way.Endpoint.String()))
	yes, err := c.agreed(ctx, "Remove "+what+" from the wallet?", "wallet remove would take out "+what)
	if err != nil || !yes {
		return err
	}
	passphrase, err := c.passphraseOf(ctx, w)
	if err != nil {
		return err
	}
	err = c.working(ctx, "Opening and writing the wallet", func() error {
		return w.Change(ctx, passphrase, func(contents *wallet.Contents) error {
			if !contents.Remove(way) {
				return missingEntry(way, contents, w.Dir)
			}
			return nil
		})
	})
	if err == nil {
		fmt.Fprintf(c.Stdout, "Removed %s from the wallet %s; gharbor wallet recover brings it back until the next change.\n", what, w.Dir)
	}
	return err
}

func walletReveal(ctx context.Context, c *call, w wallet.Wallet) error {
	if _, isTerminal := terminal(c.Stdout); !isTerminal || !c.Who.Here() {
		return usage("a password is shown only at a terminal; a program gets it by itself from the wallet, with secret: wallet")
	}
	way, err := c.bound(ctx)
	if err != nil {
		return err
	}
	passphrase, err := c.passphraseOf(ctx, w)
	if err != nil {
		return err
	}
	var contents *wallet.Contents
	err = c.working(ctx, "Opening the wallet", func() (err error) { contents, err = w.Open(passphrase); return })
	if err != nil {
		return err
	}
	e, found := contents.Get(way)
	if !found {
		return missingEntry(way, contents, w.Dir)
	}
	switch {
	case !e.Secret.Given():
		fmt.Fprintln(c.Stdout, "(this account has no password)")
	case e.Secret.Reveal() == "":
		fmt.Fprintln(c.Stdout, "(the password is empty)")
	default:
		fmt.Fprintln(c.Stdout, outside.Text(e.Secret.Reveal()))
		if outside.Text(e.Secret.Reveal()) != e.Secret.Reveal() {
			fmt.Fprintln(c.Stderr, "note: it holds characters that cannot be shown; they are written as escapes")
		}
	}
	return nil
}

func walletPassphrase(ctx context.Context, c *call, w wallet.Wallet) error {
	if !w.Exists() {
		_, err := w.Open(secret.Secret{})
		return err
	}
	old, err := c.passphraseOf(ctx, w)
	if err != nil {
		return err
	}
	if c.Who.Here() && c.NewPassphraseFile == "" { // a wrong one is told before a new one is thought of
		if err := c.working(ctx, "Opening the wallet", func() error { _, err := w.Open(old); return err }); err != nil {
			return err
		}
	}
	fresh, err := c.twice(ctx, c.NewPassphraseFile, "--new-passphrase-file", "New passphrase")
	if err != nil {
		return err
	}
	err = c.working(ctx, "Making new keys", func() error { return w.SetPassphrase(ctx, old, fresh) })
	if err == nil {
		fmt.Fprintf(c.Stdout, "The wallet %s has a new passphrase and new keys.\n", w.Dir)
	}
	return err
}

func walletUnattended(ctx context.Context, c *call, w wallet.Wallet) error {
	if len(c.names) != 1 || c.names[0] != "on" && c.names[0] != "off" {
		return usage("wallet unattended wants on or off")
	}
	if !w.Exists() {
		_, err := w.OpenUnattended()
		return err
	}
	on := c.names[0] == "on"
	if on {
		fmt.Fprintln(c.Stderr, strings.ReplaceAll(unattendedMeaning, "the wallet's folder", w.Dir))
		yes, err := c.agreed(ctx, "Is that what you want?", "this puts the reading key beside the wallet, in "+filepath.Join(w.Dir, "unattended"))
		if err != nil || !yes {
			return err
		}
	}
	passphrase, err := c.passphraseOf(ctx, w)
	if err != nil {
		return err
	}
	var changed bool
	err = c.working(ctx, "Opening the wallet", func() (err error) { changed, err = w.SetUnattended(ctx, passphrase, on); return })
	switch {
	case err != nil:
	case !changed:
		fmt.Fprintf(c.Stdout, "It was %s already.\n", c.names[0])
	case on:
		fmt.Fprintf(c.Stdout, "Jobs of this account now open the wallet %s without its passphrase.\n", w.Dir)
	default:
		fmt.Fprintf(c.Stdout, "The wallet %s opens with its passphrase only, and has new keys.\n", w.Dir)
	}
	return err
}

func walletRecover(ctx context.Context, c *call, w wallet.Wallet) error {
	from, what := wallet.Previous, "the state before the last write"
	if c.to == "sealed" {
		from, what = wallet.Current, "the state that stands there"
	}
	yes, err := c.agreed(ctx, "Bring back "+what+" of the wallet "+w.Dir+"?", "wallet recover would bring back "+what)
	if err != nil || !yes {
		return err
	}
	passphrase, err := c.passphraseOf(ctx, w)
	if err != nil {
		return err
	}
	var contents *wallet.Contents
	err = c.working(ctx, "Opening and writing the wallet", func() (err error) { contents, err = w.Recover(ctx, passphrase, from); return })
	if err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "The wallet %s is open again: version %d, %d entries.\n", w.Dir, contents.Version, len(contents.Entries))
	if _, err := os.Lstat(filepath.Join(w.Dir, "sealed.damaged")); err == nil && from == wallet.Previous {
		fmt.Fprintf(c.Stderr, "note: what stood there and did not open is kept as %s\n", filepath.Join(w.Dir, "sealed.damaged"))
	}
	return nil
}
