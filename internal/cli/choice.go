package cli

import (
	"gentle-harbor/internal/harbor"
)

// choice is the flags that choose profiles.
type choice struct {
	harbor.Choice
	parallel int
}

func (o *choice) flags(fs flagSet, _ *harbor.Run) {
	fs.onFlag("all", &o.All)
	fs.onFlag("project", &o.Project)
	fs.listFlag("labelled", &o.Labels)
	fs.numberFlag("parallel", 1, 256, 8, &o.parallel)
}

// chosen gives the words of what a command is about.
func (c *call) chosen(o choice) ([]string, error) {
	if len(c.names) == 0 && !o.All && len(o.Labels) == 0 {
		return c.profiles()
	}
	return c.Choose(c.names, o.Choice)
}
