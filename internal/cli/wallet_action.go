package cli

import (
	"context"
	"errors"
	"flag"
	"strings"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
)

// namedWallet is the wallet that a command is about; name is "" for the usual one.
type namedWallet struct {
	wallet.Wallet
	name string
}

// walletWork is an action of the command wallet: its own flags, and what it does.
type walletWork interface {
	flags(fs *flag.FlagSet, run *harbor.Run)
	work(ctx context.Context, c *call, w namedWallet) error
}

// walletOptions are the options of an action of the command wallet. They have the flags that say which wallet.
type walletOptions struct {
	of   walletWork
	name string
}

// walletAction makes an action of the command wallet.
func walletAction[T any, P interface {
	*T
	walletWork
}](name, synopsis, about, text string, examples ...string) *command {
	return &command{
		name: "wallet " + name, synopsis: synopsis, about: about, text: text, examples: examples,
		json:    name == "list" || name == "check",
		options: func() options { return &walletOptions{of: P(new(T))} },
	}
}

func (o *walletOptions) flags(fs *flag.FlagSet, run *harbor.Run) {
	walletFlags(fs, run)
	fs.StringVar(&o.name, "name", "", "a wallet of your own with this name, as in secret: wallet:NAME")
	o.of.flags(fs, run)
}

func (o *walletOptions) run(ctx context.Context, c *call) error {
	if o.name != "" && !secret.CheckWalletName(o.name) {
		return usage("--name takes a name of letters, digits, - and _")
	}
	if o.name != "" && c.WalletPath != "" {
		return usage("--wallet and --name both say which wallet; keep one of them")
	}
	if err := c.Inputs(); err != nil {
		return err
	}
	if most := len(strings.Fields(c.command.synopsis)); len(c.names) > most {
		return usage("%s takes no %q", c.command.name, clip(c.names[most]))
	}
	if b, ok := o.of.(interface{ profileName() string }); ok {
		c.about = b.profileName()
	}
	if ref := c.Reference(c.about); o.name == "" && c.WalletPath == "" && ref.Kind == secret.Wallet {
		o.name = ref.Of // the wallet that the profile names
	}
	dir, err := c.WalletDir(o.name)
	if err != nil {
		return err
	}
	err = o.of.work(ctx, c, namedWallet{c.WalletAt(dir), o.name})
	var p *finding.Problem
	if errors.As(err, &p) && p.Facts[finding.FactWallet] == "" {
		p.Set(finding.FactWallet, dir)
	}
	return c.failed(err)
}
