package cli

import (
	"context"
	"flag"
	"fmt"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
)

var hopsCommand = command{
	name: "hops", synopsis: "[HOP]", about: "list the host keys of hops that were accepted here, or forget one",
	text: `The keys in your own known_hosts files, and in the system's, count too; they are not listed here and never changed.
A hop behind others is one with that route: the same address behind two gates is two hops.
HOP is a hop as it is listed, or as a profile says it, such as a Host of your SSH configuration.`,
	examples: []string{"gharbor hops", "gharbor hops ops@gate.fellside.example", "gharbor hops --forget ops@gate.fellside.example", "gharbor hops --json"},
	json:     true,
	options:  of[hopsOptions],
}

type hopsOptions struct{ forget string }

func (o *hopsOptions) flags(fs *flag.FlagSet, _ *harbor.Run) {
	fs.StringVar(&o.forget, "forget", "", "the `HOP` whose keys are to be forgotten, as it is listed or as a profile says it")
}

func (o *hopsOptions) run(ctx context.Context, c *call) error {
	hop := ""
	switch {
	case len(c.names) > 1:
		return usage("hops takes one hop at most")
	case len(c.names) == 1 && o.forget != "":
		return usage("hops lists a hop, or forgets one with --forget HOP; not both in one command")
	case len(c.names) == 1:
		hop = c.names[0]
	}
	if o.forget != "" {
		gone, err := c.ForgetHop(ctx, o.forget)
		if err != nil {
			return err
		}
		if c.json {
			return report.JSON(c.Stdout, map[string]any{"forgotten": gone})
		}
		fmt.Fprintf(c.Stdout, "Forgot %d keys of %s. The next test shows its key and asks.\n", gone, outside.Cell(o.forget))
		return nil
	}
	list, err := c.KnownHops(hop)
	if err != nil {
		return err
	}
	if c.json {
		return report.JSON(c.Stdout, map[string]any{"hops": list})
	}
	if len(list) == 0 {
		fmt.Fprintln(c.Stdout, "No host key was accepted here yet.")
		return nil
	}
	var rows [][]string
	for _, each := range list {
		rows = append(rows, []string{outside.Cell(each.Hop), outside.Cell(each.Type), outside.Cell(each.Fingerprint), outside.Cell(each.Note)})
	}
	report.WholeTable(c.Stdout, []string{"hop", "type", "fingerprint", "since"}, rows) // a fingerprint is compared whole
	return nil
}
