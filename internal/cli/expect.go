package cli

import (
	"context"
	"flag"
	"fmt"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/profile"
)

var expectCommand = command{
	name: "expect", synopsis: "NAME --from-now", about: "write the present facts into a profile as expectations",
	text: `The profile is tested; when it passes, the server's version and identity, the account, its powers and the encryption
are written into its file, to be trimmed by hand. Single ones are set with change: gharbor change NAME --expect
superuser=false --expect "can=select on booking".`,
	examples: []string{"gharbor expect huts/staging --from-now", `gharbor test huts/staging --expect superuser=false --expect "cannot=delete on hut"`},
	flags: func(fs *flag.FlagSet, c *call) {
		fs.BoolVar(&c.now, "from-now", false, "test now, and expect what the test shows")
	},
	connects: true,
	run:      runExpect,
}

func runExpect(ctx context.Context, c *call) error {
	library, store, name, err := c.one(1)
	if err != nil {
		return err
	}
	if !c.now {
		return usage("expect wants --from-now; single expectations are set with gharbor change %s --expect superuser=false", name)
	}
	to, err := c.Aim(ctx, c.given(name), false)
	if err != nil {
		return err
	}
	for setting := range to.Values { // the old expectations are not what is asked about
		if s, _ := profile.Find(setting); s.Flag == "expect" {
			delete(to.Values, setting)
		}
	}
	report, err := c.Test(ctx, to, nil)
	if err != nil {
		return err
	}
	if !report.OK {
		printReport(c.Stderr, to.Effective, report)
		return exit{Code: report.Exit, Message: name + " was not changed, since its test failed"}
	}
	agreed := c.agreedNow(library, store, name)
	layer := checkup.FromNow(report)
	err = store.Update(ctx, name, func(data []byte, path string) ([]byte, error) {
		return profile.Change(data, path, layer, nil)
	})
	if err != nil {
		return written(name, err)
	}
	fmt.Fprintf(c.Stdout, "Written into %s:\n", store.Path(name))
	for _, setting := range layer.Names() {
		fmt.Fprintf(c.Stdout, "  %s: %s\n", setting, layer[setting].Text)
	}
	return c.afterWrite(ctx, library, store, name, agreed)
}

// given gives the profile's name as it was given, or the one that was found.
func (c *call) given(found string) string {
	if len(c.names) > 0 {
		return c.names[0]
	}
	return found
}
