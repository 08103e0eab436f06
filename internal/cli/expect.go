package cli

import (
	"context"
	"flag"
	"fmt"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
)

var expectCommand = command{
	name: "expect", synopsis: "NAME --from-test", about: "write what a test shows into a profile as expectations",
	text: `The profile is tested. When it passes, the server's version and identity, the account, its rights and the encryption
are written into its file, to be trimmed by hand. Single ones are set with change: gharbor change NAME --expect
superuser=false --expect "can=select on booking".`,
	examples: []string{"gharbor expect huts/staging --from-test", `gharbor test huts/staging --expect superuser=false --expect "cannot=delete on hut"`},
	connects: true,
	options:  of[expectOptions],
}

type expectOptions struct{ fromTest bool }

func (o *expectOptions) flags(fs *flag.FlagSet, _ *harbor.Run) {
	fs.BoolVar(&o.fromTest, "from-test", false, "test now, and expect what the test shows")
}

func (o *expectOptions) run(ctx context.Context, c *call) error {
	p, err := c.existing()
	if err != nil {
		return err
	}
	if !o.fromTest {
		return usage("expect wants --from-test; single expectations are set with gharbor change %s --expect superuser=false", p.Name)
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
