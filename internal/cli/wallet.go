package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/stores"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/target"
)

var walletCommand = command{
	name: "wallet", synopsis: "ACTION", about: "store passwords encrypted, each bound to its user and server",
	text: `A wallet is a folder of encrypted files. Each password in it is bound to a user, a server and the weakest encryption that
it may travel with, and is never sent otherwise. A profile finds its password there without being told to (or with
secret: wallet). It opens with your passphrase, or, once you have switched that on, without it for jobs of your own account.
docs/wallet.md has the format, and what a wallet protects against and what it does not.`,
	examples: []string{"gharbor wallet create", "gharbor wallet add huts/staging",
		"gharbor wallet add --server db.fellside.example:5432 --user reader", "gharbor wallet list"},
	subs: []*command{
		actionOf[ofWallet, walletCreate, namedWallet]("wallet create", "", "make a new wallet",
			"It asks for a passphrase twice. Nobody can open the wallet without it, and nothing brings it back.",
			"gharbor wallet create", "gharbor wallet create --passphrase-file phrase.txt"),
		actionOf[ofWallet, walletAdd, namedWallet]("wallet add", "[NAME]", "add a password, or change it",
			`A profile's NAME says user, address and encryption; without one, --server and --user do. It asks for the password twice. An
entry for the same user and server is replaced when you say so, or with --replace; the state before can be brought back with
gharbor wallet recover.`,
			"gharbor wallet add huts/staging",
			"gharbor wallet add --server db.fellside.example:5432/bunkhouse --user reader --secret-file - "+
				"--passphrase-file phrase.txt",
			"gharbor wallet add huts/local --secret env:HUT_WARDEN_PW"),
		actionOf[ofWallet, walletList, namedWallet]("wallet list", "", "show the entries, never the passwords",
			"It needs no passphrase where the wallet is open to jobs (unattended).",
			"gharbor wallet list", "gharbor wallet list --json"),
		actionOf[ofWallet, walletRemove, namedWallet]("wallet remove", "[NAME]", "remove a password", "",
			"gharbor wallet remove --server db.fellside.example:5432 --user reader"),
		actionOf[ofWallet, walletConfirm, namedWallet]("wallet confirm", "ALIAS",
			"let what is stored for an alias go where it leads now",
			"A password that is stored for an alias is not sent when an address is new, or its encryption, "+
				"authority or hops have changed.",
			"gharbor wallet confirm bookings"),
		actionOf[ofWallet, walletReveal, namedWallet]("wallet reveal", "[NAME]",
			"show one password, at a terminal, after the passphrase",
			"This is the only command that shows a password. It shows it nowhere but at a terminal.",
			"gharbor wallet reveal huts/staging"),
		actionOf[ofWallet, walletPassphrase, namedWallet]("wallet passphrase", "",
			"change the passphrase, and all keys with it", "",
			"gharbor wallet passphrase", "gharbor wallet passphrase --passphrase-file old.txt --new-passphrase-file new.txt"),
		actionOf[ofWallet, walletUnattended, namedWallet]("wallet unattended", "on|off",
			"let jobs open the wallet without the passphrase, or no longer",
			unattendedMeaning+`

Switching it off makes new keys: a copy of the old one opens nothing that is written from then on.`,
			"gharbor wallet unattended on", "gharbor wallet unattended off"),
		actionOf[ofWallet, walletImport, namedWallet]("wallet import", "CREDENTIAL-FILE",
			"add all entries of a credential file",
			"Then the file can be removed: it asks, or --remove with --yes says so. It is removed only after "+
				"each entry was read back.",
			"gharbor wallet import ~/.config/gentle-harbor/credentials"),
		actionOf[ofWallet, walletTrust, namedWallet]("wallet trust", "", "accept the keys that a wallet has now",
			`A wallet's keys are remembered, and new ones are accepted when the old ones signed them. Where that is not so, such as after
a restore, its passphrase proves them.`,
			"gharbor wallet trust"),
		actionOf[ofWallet, walletCheck, namedWallet]("wallet check", "", "check each of the wallet's files",
			"With the passphrase, or where the wallet is open to jobs, signature, version and content are checked too.",
			"gharbor wallet check"),
		actionOf[ofWallet, walletRecover, namedWallet]("wallet recover", "",
			"bring back the state before the last change, under a higher version",
			`--state sealed instead accepts the state that is there now, such as a backup that was brought back on purpose: an older
or another wallet is refused until then.`,
			"gharbor wallet recover", "gharbor wallet recover --state sealed"),
	},
}

// unattendedMeaning says what the switch does.
const unattendedMeaning = `With this, jobs of your account connect without the passphrase. The key is then in the file "unattended" in
the wallet's folder: whoever can read that file can read every entry of the wallet. With it alone, no entry can be
changed, added or shown.`

type walletCreate struct{ noFlags }

func (walletCreate) work(ctx context.Context, c *call, w namedWallet) error {
	if err := c.CreateWallet(ctx, w.Wallet); err != nil {
		return err
	}
	fmt.Fprintln(c.Stdout, stores.MadeWallet(w.Dir))
	return nil
}

type walletConfirm struct{ noFlags }

func (walletConfirm) work(ctx context.Context, c *call, w namedWallet) error {
	n, err := c.ConfirmAlias(ctx, c.names[0], w.Wallet, "")
	return c.confirmed(n, err)
}

// confirmed says how many entries were confirmed.
func (c *call) confirmed(n int, err error) error {
	switch {
	case err != nil:
		return err
	case n == 0:
		fmt.Fprintf(c.Stdout, "Nothing was blocked for the alias %s.\n", outside.Cell(c.names[0]))
	default:
		fmt.Fprintf(c.Stdout, "What is stored for the alias %s may go where it leads now: %s.\n",
			outside.Cell(c.names[0]), report.Count(int64(n), "entry"))
	}
	return nil
}

type walletAdd struct {
	fresh
	defaultUser bool
}

func (o *walletAdd) flags(fs flagSet, run *harbor.Run) {
	o.fresh.flags(fs, run)
	fs.onFlag("default-user", &o.defaultUser)
}

func (o *walletAdd) work(ctx context.Context, c *call, w namedWallet) error {
	to, err := c.Bind(ctx, c.command.name, o.Binding)
	if err != nil {
		return err
	}
	if !w.Exists() {
		if !c.Who.Here() {
			return stores.NoWallet(w.Dir)
		}
		if err := c.EnsureWallet(ctx, w.Wallet); err != nil {
			return err
		}
	}
	s, err := c.NewSecret(ctx, to, o.from)
	if err != nil {
		return err
	}
	was, err := o.stored(ctx, c, to, func(replace bool) (bool, error) {
		return c.Put(ctx, w.Wallet, wallet.Entry{Target: to, First: o.defaultUser, Secret: s}, replace)
	})
	if err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "%s the password of %s for %s in the wallet %s.\n", kept(was), outside.Cell(to.User),
		outside.Cell(to.Endpoint.String()), w.Dir)
	o.notes(c, w, to, s)
	return nil
}

// kept says what was done with an entry.
func kept(was bool) string {
	if was {
		return "Changed"
	}
	return "Stored"
}

// notes says what the user may not expect of the new entry.
func (o *walletAdd) notes(c *call, w namedWallet, to target.Target, s secret.Secret) {
	if !s.Given() {
		c.Note("it says that this account has no password, and none is sent")
	}
	if to.TLS == "off" && to.Socket == "" && !target.Literal(to.Host) {
		c.Note("it may travel to %s without encryption, where anyone on the network between can read it",
			outside.Cell(to.Place()))
	}
	if to.Port == 0 && to.Host != "" { // an alias, a container and a cloud say the port themselves
		c.Note("it may be sent to any port of %s; a port in --server narrows that", outside.Cell(to.Host))
	}
	if ref := c.Reference(o.Profile); ref.Kind != secret.Search && ref.Kind != secret.Wallet {
		c.Note("%s takes its password from another source (%s); to have it use the wallet: gharbor change %s --secret wallet",
			o.Profile, outside.Cell(ref.String()), o.Profile)
	}
	if !w.HasUnattended() {
		c.Note("the wallet opens with its passphrase only; gharbor wallet unattended on lets your jobs open it")
	}
}

type walletRemove struct{ removal }

func (o *walletRemove) work(ctx context.Context, c *call, w namedWallet) error {
	to, err := c.Bind(ctx, c.command.name, o.Binding)
	if err != nil {
		return err
	}
	what, yes, err := o.agreed(ctx, c, to, "wallet remove", "the wallet")
	if err != nil || !yes {
		return err
	}
	err = c.ChangeWallet(ctx, w.Wallet, func(contents *wallet.Contents) error {
		if !contents.Remove(to) {
			return stores.NoEntry(to, contents, w.Dir)
		}
		return nil
	})
	if err == nil {
		fmt.Fprintf(c.Stdout, "Removed %s from the wallet %s; gharbor wallet recover brings it back until the next change.\n",
			what, w.Dir)
	}
	return err
}

type walletReveal struct{ binding }

func (o *walletReveal) work(ctx context.Context, c *call, w namedWallet) error {
	if _, isTerminal := terminal(c.Stdout); !isTerminal || !c.Who.Here() {
		return usage("a password is shown only at a terminal; a program gets it by itself from the wallet, with " +
			"secret: wallet")
	}
	to, err := c.Bind(ctx, c.command.name, o.Binding)
	if err != nil {
		return err
	}
	contents, err := c.OpenWallet(ctx, w.Wallet)
	if err != nil {
		return err
	}
	e, found := contents.Get(to)
	if !found {
		return stores.NoEntry(to, contents, w.Dir)
	}
	switch {
	case !e.Secret.Given():
		fmt.Fprintln(c.Stdout, "(this account has no password)")
	case e.Secret.Reveal() == "":
		fmt.Fprintln(c.Stdout, "(the password is empty)")
	default:
		fmt.Fprintln(c.Stdout, outside.Text(e.Secret.Reveal()))
		if outside.Text(e.Secret.Reveal()) != e.Secret.Reveal() {
			c.Note("it has characters that cannot be shown; they are written as escapes")
		}
	}
	return nil
}

type walletPassphrase struct{}

func (*walletPassphrase) flags(fs flagSet, run *harbor.Run) {
	fs.textFlag("new-passphrase-file", &run.NewPassphraseFile)
}

func (*walletPassphrase) work(ctx context.Context, c *call, w namedWallet) error {
	err := c.SetPassphrase(ctx, w.Wallet)
	if err == nil {
		fmt.Fprintf(c.Stdout, "The wallet %s has a new passphrase and new keys.\n", w.Dir)
	}
	return err
}

type walletUnattended struct{ consent }

func (o *walletUnattended) work(ctx context.Context, c *call, w namedWallet) error {
	if c.names[0] != "on" && c.names[0] != "off" {
		return usage("wallet unattended needs on or off: gharbor wallet unattended on")
	}
	if !w.Exists() {
		_, err := w.OpenUnattended()
		return err
	}
	on := c.names[0] == "on"
	if on {
		fmt.Fprintln(c.Stderr, strings.ReplaceAll(unattendedMeaning, "the wallet's folder", w.Dir))
		yes, err := c.Consent(ctx, o.yes, "Is that what you want?",
			"this puts the reading key beside the wallet, in "+filepath.Join(w.Dir, "unattended"))
		if err != nil || !yes {
			return err
		}
	}
	changed, err := c.SetUnattended(ctx, w.Wallet, on)
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

type walletImport struct {
	consent
	replace, remove bool
}

func (o *walletImport) flags(fs flagSet, run *harbor.Run) {
	fs.onFlag("replace", &o.replace)
	fs.onFlag("remove", &o.remove)
	o.consent.flags(fs, run)
}

func (o *walletImport) work(ctx context.Context, c *call, w namedWallet) error {
	path := c.Path(c.names[0])
	if o.remove && !o.yes && !c.Who.Here() {
		return usage("--remove would delete %s. To do it, add the flag: --yes", path)
	}
	n, remove, err := c.ImportCredentials(ctx, w.Wallet, path, o.replace)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "Added to the wallet %s: %d new and %d changed entries; %d were there already.\n",
		w.Dir, n.New, n.Changed, n.Same)
	if !o.remove && !c.Who.Here() {
		c.Note("%s still has the passwords in clear; --remove --yes removes it", path)
		return nil
	}
	yes, err := c.Consent(ctx, o.remove && o.yes, "Remove "+path+", which still has them in clear?",
		"--remove would delete "+path)
	if err != nil || !yes {
		return err
	}
	if err := remove(); err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "Removed %s. Backups and snapshots may still have it.\n", path)
	return nil
}

type walletTrust struct{ noFlags }

func (walletTrust) work(ctx context.Context, c *call, w namedWallet) error {
	contents, err := c.OpenWallet(ctx, w.Wallet)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "The keys of the wallet %s are proved by its passphrase and accepted: version %d, %d entries.\n",
		w.Dir, contents.Version, len(contents.Entries))
	return nil
}

type walletRecover struct {
	consent
	from string
}

func (o *walletRecover) flags(fs flagSet, run *harbor.Run) {
	fs.wordFlag("state", []string{"previous", "sealed"}, "previous", &o.from)
	o.consent.flags(fs, run)
}

func (o *walletRecover) work(ctx context.Context, c *call, w namedWallet) error {
	from, what := wallet.Previous, "the state before the last change"
	if o.from == "sealed" {
		from, what = wallet.Current, "the state that is there now"
	}
	yes, err := c.Consent(ctx, o.yes, "Bring back "+what+" of the wallet "+w.Dir+"?",
		"wallet recover would bring back "+what)
	if err != nil || !yes {
		return err
	}
	contents, err := c.Recover(ctx, w.Wallet, from)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "The wallet %s is open again: version %d, %d entries.\n", w.Dir, contents.Version,
		len(contents.Entries))
	if damaged := filepath.Join(w.Dir, "sealed.damaged"); from == wallet.Previous {
		if _, err := os.Lstat(damaged); err == nil {
			c.Note("what was there and did not open was moved to %s", damaged)
		}
	}
	return nil
}
