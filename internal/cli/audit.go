package cli

import (
	"context"
	"fmt"
	"strings"

	"gentle-harbor/internal/audit"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
)

var auditCommand = command{
	name: "audit", about: "look over files, references and passwords for what is unsafe",
	text: `It looks at modes and owners of all files of yours, passwords in clear where there is a better place, profiles that send one
without encryption to another machine, certificates that end within 30 days, references that lead nowhere, wallet entries that
no profile uses, weak passwords (empty, the account's name, easy to guess, the same at several
places), and anything like a password in a profile's file. Passwords are judged and never shown; those that a program would
print or a keyring would give are not fetched for it. Of many findings of a kind the first three are listed, and the others
counted; --all lists each. Exit code 1 when something serious is left.`,
	examples: []string{"gharbor audit", "gharbor audit --fix", "gharbor audit --all --json"},
	json:     true,
	options:  optionsOf[auditOptions],
}

type auditOptions struct{ fix, all bool }

func (o *auditOptions) flags(fs flagSet, run *harbor.Run) {
	fs.onFlag("fix", &o.fix)
	fs.onFlag("all", &o.all)
	walletFlags(fs, run)
}

func (o *auditOptions) run(ctx context.Context, c *call) error {
	if len(c.names) > 0 {
		return usage("audit takes no name: gharbor audit")
	}
	a, err := c.Audit(ctx, o.fix, o.all)
	if err != nil {
		return err
	}
	if c.json {
		list := a.Findings
		if list == nil {
			list = []audit.Finding{}
		}
		err = report.JSON(c.Stdout, map[string]any{"checked": a.Looked, "problems": list,
			"serious": a.Left[audit.Serious], "warnings": a.Left[audit.Warning],
			"advice": a.Left[audit.Advice], "fixed": a.Fixed})
	} else {
		c.printAudit(a)
	}
	if err == nil && a.Left[audit.Serious] > 0 {
		return world.Error{Code: finding.ExitMixed}
	}
	return err
}

func (c *call) printAudit(a harbor.Audited) {
	list := a.Findings
	colours := map[audit.Severity]string{audit.Serious: bad, audit.Warning: strong, audit.Advice: faint}
	for i, f := range list {
		word := fmt.Sprintf("%-8s", f.Severity)
		repair := "fix: " + outside.Cell(f.Fix)
		colour := colours[f.Severity]
		if f.Fixed {
			word, colour, repair = "fixed   ", good, "done: "+outside.Cell(f.Fix)
		}
		if i > 0 {
			fmt.Fprintln(c.Stdout)
		}
		report.Wrapped(c.Stdout, paint(c.Stdout, colour, word)+"  ", strings.Repeat(" ", 10),
			outside.Cell(f.Place)+": "+outside.Cell(f.What))
		report.Wrapped(c.Stdout, "          ", strings.Repeat(" ", 16), repair)
		if f.More > 0 {
			fmt.Fprintf(c.Stdout, "          and %d more of this kind; to list them all: gharbor audit --all\n", f.More)
		}
	}
	if len(list) > 0 {
		fmt.Fprintln(c.Stdout)
	}
	fmt.Fprintf(c.Stdout, "Looked at %d files, profiles and entries. Serious: %d; warnings: %d; advice: %d",
		a.Looked, a.Left[audit.Serious], a.Left[audit.Warning], a.Left[audit.Advice])
	if a.Fixed > 0 {
		fmt.Fprintf(c.Stdout, "; fixed: %d", a.Fixed)
	}
	fmt.Fprintln(c.Stdout, ".")
	if !files.Checked {
		fmt.Fprintln(c.Stderr, "note: this system has no modes; who else can read these files was not checked")
	}
}
