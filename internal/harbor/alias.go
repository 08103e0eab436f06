package harbor

import (
	"context"
	"fmt"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret/keep/credentials"
	"gentle-harbor/internal/secret/keep/wallet"
)

// ConfirmAlias lets what the user's wallet, or a credential file, keeps for an alias go where the
// alias leads now. It says how many entries changed.
func (r Run) ConfirmAlias(ctx context.Context, name string, w wallet.Wallet, path string) (int, error) {
	e, err := r.AliasTarget(name, nil)
	if err != nil {
		return 0, err
	}
	if e.SRV != "" {
		if e, err = r.seen(ctx, e); err != nil {
			return 0, err
		}
	}
	now, changed := e.Target().Defined, 0
	if path != "" {
		err = r.ChangeCredentials(ctx, path, func(data []byte) (text []byte, err error) {
			text, changed, err = credentials.Confirm(data, path, e.Alias, now)
			return text, err
		})
	} else {
		err = r.ChangeWallet(ctx, w, func(contents *wallet.Contents) error {
			changed = len(contents.Confirm(e.Alias, now))
			return nil
		})
	}
	return changed, err
}

// ExportNames writes aliases as files of their engine's names have them.
func (r Run) ExportNames(list []string) (string, error) {
	book, _, err := r.Aliases()
	if err != nil {
		return "", err
	}
	if len(list) == 0 {
		list = book.Names()
	}
	var b strings.Builder
	for _, name := range list {
		e, err := r.AliasTarget(name, nil)
		if err != nil {
			return "", err
		}
		text, left, ok := e.Description()
		if !ok {
			return "", world.Wrong("the alias %s cannot be written as a description: only an alias of an engine "+
				"with a listener can, that says addresses and a service or an instance. As JSON: gharbor alias export %s",
				name, name)
		}
		if len(left) > 0 {
			r.Note("%s: a description cannot carry %s", name, strings.Join(left, ", "))
		}
		fmt.Fprintf(&b, "%s = %s\n", name, text)
	}
	return b.String(), nil
}

// ProbeAliases asks each address of some aliases whether a server greets there, all side by side,
// count times each.
func (r Run) ProbeAliases(ctx context.Context, names []string, count, parallel int,
	timeout time.Duration) ([]checkup.Answers, error) {
	library, err := r.Library()
	if err != nil {
		return nil, err
	}
	list := make([]checkup.Answers, len(names))
	var group errgroup.Group
	for i, name := range names {
		e, _, err := r.edits().Alias(name)
		if err != nil {
			return nil, err
		}
		if e.Source.Layer() == "project" {
			return nil, world.Wrong("the alias %s comes from the project, and nothing is connected to for it; "+
				"test a profile that names it and that you have agreed to",
				e.Name)
		}
		layer := profile.Layer{"alias": {Text: name, Origin: profile.Origin{Layer: profile.LayerFlag}},
			"user":        {Text: "nobody", Origin: profile.Origin{Layer: profile.LayerDefault}},
			"timeout.leg": {Text: timeout.String()}, "secret": {Text: "none"}}
		admitted, err := agree.Own(library, "", layer)
		if err != nil {
			return nil, world.Doing("go by the alias "+name, err)
		}
		if problems := admitted.Profile().Problems; len(problems) > 0 {
			return nil, world.Wrong("the alias %s: %s", e.Name, strings.TrimSuffix(world.LowerFirst(problems[0].Text), "."))
		}
		checker := r.Checker(Aim{})
		group.Go(func() error {
			found, report, err := checker.Probe(ctx, admitted, count, parallel)
			list[i] = checkup.Answers{Alias: e.Name, Engine: admitted.Profile().Engine, Addresses: found,
				Finding: report.Finding}
			return err
		})
	}
	return list, group.Wait()
}
