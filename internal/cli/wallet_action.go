package cli

import (
	"errors"

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

// ofWallet is what the actions of the command wallet have in common: the wallet that they are
// about.
type ofWallet struct{ name string }

func (o *ofWallet) flags(fs flagSet, run *harbor.Run, _ any) {
	walletFlags(fs, run)
	fs.textFlag("name", &o.name)
}

func (o *ofWallet) about(c *call, own any) (w namedWallet, err error) {
	if o.name != "" && !secret.CheckWalletName(o.name) {
		return w, usage("--name takes a name of letters, digits, - and _, such as --name work")
	}
	if o.name != "" && c.WalletPath != "" {
		return w, usage("--wallet and --name both say which wallet; write one of them")
	}
	if err := c.Inputs(); err != nil {
		return w, err
	}
	if b, ok := own.(interface{ profileName() string }); ok {
		c.about = b.profileName()
	}
	if ref := c.Reference(c.about); o.name == "" && c.WalletPath == "" && ref.Kind == secret.Wallet {
		o.name = ref.Of // the wallet that the profile names
	}
	dir, err := c.WalletDir(o.name)
	return namedWallet{c.WalletAt(dir), o.name}, err
}

// failed says of which wallet a problem is.
func (*ofWallet) failed(c *call, w namedWallet, err error) error {
	var p *finding.Problem
	if errors.As(err, &p) && p.Facts[finding.FactWallet] == "" {
		p.Set(finding.FactWallet, w.Dir)
	}
	return c.failed(err)
}
