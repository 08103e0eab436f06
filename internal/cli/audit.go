package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"gentle-harbor/internal/audit"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
)

var auditCommand = command{
	name: "audit", about: "look over files, references and passwords for what is unsafe",
	text: `It looks at modes and owners of all files of yours, passwords in clear where there is a better place, profiles that send one
without encryption to another machine, certificates that end within 30 days, references that lead nowhere, wallet entries that
no profile uses, weak passwords (empty, the account's name, on a short list of those that are tried first, the same at several
places), and anything like a password in a profile's file. Passwords are judged and never shown; those that a program would
print or a keyring would give are not fetched for it. Exit code 1 when something serious is left.`,
	examples: []string{"gharbor audit", "gharbor audit --mend", "gharbor audit --json"},
	json:     true,
	flags: func(fs *flag.FlagSet, c *call) {
		fs.BoolVar(&c.undo, "mend", false, "mend the modes of files; all else is yours to decide")
		fs.StringVar(&c.PassphraseFile, "passphrase-file", "", "a file with the wallet's passphrase; - reads standard input")
		fs.StringVar(&c.WalletPath, "wallet", "", "the folder of a wallet that lies elsewhere (or GHARBOR_WALLET)")
	},
	run: runAudit,
}

func runAudit(ctx context.Context, c *call) error {
	if len(c.names) > 0 {
		return usage("audit takes no names")
	}
	scope := audit.Scope{Env: c.Env, Now: time.Now()}
	var err error
	if scope.Home, err = c.Home(); err != nil {
		return err
	}
	if scope.State, err = c.State(); err != nil {
		return err
	}
	if scope.Library, err = c.Library(); err != nil {
		return err
	}
	for i, dir := range c.WalletDirs() {
		o := audit.Opened{Wallet: c.WalletAt(dir)}
		if i > 0 {
			o.Name = filepath.Base(dir)
		}
		if o.Wallet.Exists() {
			o.Contents, o.Err = c.Keeper(dir).Open(ctx, secret.Searched)
			var p *finding.Problem
			if o.Err != nil && !errors.As(o.Err, &p) {
				return o.Err
			}
		}
		scope.Wallets = append(scope.Wallets, o)
	}
	list, looked := scope.Run()
	if c.undo {
		audit.Mend(list)
	}
	left := map[audit.Severity]int{}
	mended := 0
	for _, f := range list {
		if f.Mended {
			mended++
		} else {
			left[f.Severity]++
		}
	}
	if c.json {
		if list == nil {
			list = []audit.Finding{}
		}
		err = writeJSON(c.Stdout, map[string]any{"looked_at": looked, "findings": list, "serious": left[audit.Serious], "warnings": left[audit.Warning], "advice": left[audit.Advice], "mended": mended})
	} else {
		c.printAudit(list, looked, mended, left)
	}
	if err == nil && left[audit.Serious] > 0 {
		return exit{Code: 1}
	}
	return err
}

func (c *call) printAudit(list []audit.Finding, looked, mended int, left map[audit.Severity]int) {
	colours := map[audit.Severity]string{audit.Serious: bad, audit.Warning: strong, audit.Advice: faint}
	for _, f := range list {
		word := fmt.Sprintf("%-8s", f.Severity)
		mend := "mend: " + outside.Cell(f.Mend)
		colour := colours[f.Severity]
		if f.Mended {
			word, colour, mend = "mended  ", good, "done: "+outside.Cell(f.Mend)
		}
		wrapped(c.Stdout, paint(c.Stdout, colour, word)+"  ", strings.Repeat(" ", 10), outside.Cell(f.Place)+": "+outside.Cell(f.What))
		wrapped(c.Stdout, "          ", strings.Repeat(" ", 16), mend)
	}
	if len(list) > 0 {
		fmt.Fprintln(c.Stdout)
	}
	fmt.Fprintf(c.Stdout, "Looked at %d files, profiles and entries. Serious: %d; warnings: %d; advice: %d", looked, left[audit.Serious], left[audit.Warning], left[audit.Advice])
	if mended > 0 {
		fmt.Fprintf(c.Stdout, "; mended: %d", mended)
	}
	fmt.Fprintln(c.Stdout, ".")
	if !secret.Checked {
		fmt.Fprintln(c.Stderr, "note: this system has no modes; who else can read these files was not checked")
	}
}
