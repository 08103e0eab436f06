package cli

import (
	"context"
	"fmt"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
)

var hopsCommand = command{
	name: "hops", synopsis: "ACTION", about: "the host keys of hops that were accepted here",
	text: `The keys in your own known_hosts files, and in the system's, count too; they are not listed here and never changed.
A hop behind others is one with that route: the same address behind two gates is two hops.
HOP is a hop as it is listed, or as a profile says it, such as a Host of your SSH configuration.`,
	examples: []string{"gharbor hops list", "gharbor hops forget ops@gate.fellside.example"},
	subs: []*command{
		actionOf[ofHops, hopsList, struct{}]("hops list", "[HOP]", "list the keys, or those of one hop", "",
			"gharbor hops list", "gharbor hops list ops@gate.fellside.example", "gharbor hops list --json"),
		actionOf[ofHops, hopsForget, struct{}]("hops forget", "HOP",
			"forget the keys of a hop; the next test shows its key and asks", "",
			"gharbor hops forget ops@gate.fellside.example"),
	},
}

// ofHops is what the actions of the command hops have in common: nothing.
type ofHops struct{}

func (ofHops) flags(flagSet, *harbor.Run, any) {}

func (ofHops) about(*call, any) (none struct{}, err error) { return none, nil }

func (ofHops) failed(c *call, _ struct{}, err error) error { return c.failed(err) }

type hopsForget struct {
	noFlags
	inJSON
}

func (hopsForget) work(ctx context.Context, c *call, _ struct{}) error {
	gone, err := c.ForgetHop(ctx, c.names[0])
	if err != nil {
		return err
	}
	if c.json {
		return report.JSON(c.Stdout, map[string]any{"forgotten": gone})
	}
	fmt.Fprintf(c.Stdout, "Forgot %s of %s. The next test shows its key and asks.\n",
		report.Count(int64(gone), "key"), outside.Cell(c.names[0]))
	return nil
}

type hopsList struct {
	noFlags
	inJSON
}

func (hopsList) work(_ context.Context, c *call, _ struct{}) error {
	hop := ""
	if len(c.names) == 1 {
		hop = c.names[0]
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
		rows = append(rows, []string{outside.Cell(each.Hop), outside.Cell(each.Type),
			outside.Cell(each.Fingerprint), outside.Cell(each.Note)})
	}
	report.WholeTable(c.Stdout, []string{"hop", "type", "fingerprint", "since"}, rows) // a fingerprint is compared whole
	return nil
}
