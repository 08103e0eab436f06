package cli

import (
	"flag"

	"gentle-harbor/internal/harbor"
)

// choice is the flags that choose profiles.
type choice struct {
	harbor.Choice
	parallel int
}

func (o *choice) flags(fs *flag.FlagSet, _ *harbor.Run) {
	fs.BoolVar(&o.All, "all", false, "all of your own profiles")
	fs.BoolVar(&o.Project, "project", false, "with --all, the project's profiles too")
	several(fs, "label", "only profiles with this `LABEL`, as NAME=VALUE, or as NAME for any value; may be repeated", &o.Labels)
	number(fs, "parallel", "how many side by side", 1, 256, 8, &o.parallel)
}

// chosen gives the words of what a command is about.
func (c *call) chosen(o choice) ([]string, error) {
	if len(c.names) == 0 && !o.All && len(o.Labels) == 0 {
		return c.profiles()
	}
	return c.Choose(c.names, o.Choice)
}
