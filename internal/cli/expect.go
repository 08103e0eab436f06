package cli

import (
	"context"
	"fmt"

	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
)

var expectCommand = command{
	name: "expect", synopsis: "NAME", about: "write what a test shows into a profile as expectations",
	text: `The profile is tested. When it passes, the server's version and identity, the account, its rights and the encryption
are written into its file, to be trimmed by hand. Single ones are set with change: gharbor change NAME --expect
superuser=false --expect "can=select on booking".`,
	examples: []string{"gharbor expect huts/staging",
		`gharbor test huts/staging --expect superuser=false --expect "cannot=delete on hut"`},
	connects: true,
	options:  without(runExpect),
}

func runExpect(ctx context.Context, c *call) error {
	p, err := c.existing()
	if err != nil {
		return err
	}
	word, err := c.profile()
	if err != nil {
		return err
	}
	to, tested, err := c.Expect(ctx, word, p, func(layer profile.Layer) {
		fmt.Fprintf(c.Stdout, "Written into %s:\n", p.File())
		for _, setting := range layer.Names() {
			fmt.Fprintf(c.Stdout, "  %s: %s\n", setting, layer[setting].Text)
		}
	})
	if err != nil || tested.OK {
		return err
	}
	report.Test(c.Stderr, to.Effective, tested)
	return world.Error{Code: tested.Exit, Message: p.Name + " was not changed, since its test failed"}
}
