package cli

import (
	"context"
	"slices"
	"strings"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/profile"
)

// action is an action of a command that has several: its own flags, and what it does with what
// the actions of that command are about.
type action[A any] interface {
	flags(fs flagSet, run *harbor.Run)
	work(ctx context.Context, c *call, about A) error
}

// common is what the actions of one command have in common, for one call: flags, what they are
// about, and how a failure is said. Own is the action itself.
type common[A any] interface {
	flags(fs flagSet, run *harbor.Run, own any)
	about(c *call, own any) (A, error)
	failed(c *call, about A, err error) error
}

// actionOf makes an action of a command, by the two words of its name. One that reports embeds
// inJSON.
func actionOf[S, T, A any, C interface {
	*S
	common[A]
}, P interface {
	*T
	action[A]
}](name, synopsis, about, text string, examples ...string) *command {
	_, json := any(P(new(T))).(interface{ printsJSON() })
	return &command{name: name, synopsis: synopsis, about: about, text: text, examples: examples, json: json,
		options: func() options { return &acting[A]{C(new(S)), P(new(T))} }}
}

// acting is the options of an action.
type acting[A any] struct {
	common common[A]
	own    action[A]
}

func (o *acting[A]) flags(fs flagSet, run *harbor.Run) {
	o.common.flags(fs, run, o.own)
	o.own.flags(fs, run)
}

func (o *acting[A]) run(ctx context.Context, c *call) error {
	_, profile := o.own.(interface{ ofProfile() })
	if err := c.enough(profile); err != nil {
		return err
	}
	if of, is := o.own.(interface{ named(names []string) }); is {
		of.named(c.names)
	}
	of, err := o.common.about(c, o.own)
	if err != nil {
		return err
	}
	return o.common.failed(c, of, o.own.work(ctx, c, of))
}

// enough refuses too few and too many words, by what the synopsis of an action says: in brackets
// for those that may be left out, with … for several. A profile may be named by the environment,
// too.
func (c *call) enough(profile bool) error {
	synopsis := c.command.synopsis
	words := strings.Fields(strings.NewReplacer("[", "", "]", "").Replace(synopsis))
	many := len(words) > 0 && strings.HasSuffix(words[0], "…")
	switch {
	case len(c.names) < len(words) && !strings.HasPrefix(synopsis, "[") && !profile:
		return usage("%s needs %s: %s", c.command.name, strings.ToUpper(synopsis), c.command.examples[0])
	case len(c.names) > len(words) && !many:
		return usage("%s takes no %q: %s", c.command.name, clip(c.names[len(words)]), c.command.examples[0])
	}
	return nil
}

// action gives the action that a word names, and what is behind it; a command without actions is
// that itself.
func (cmd *command) action(args []string) (*command, []string, error) {
	if len(cmd.subs) == 0 {
		return cmd, args, nil
	}
	if sub := cmd.sub(args[0]); sub != nil {
		return sub, args[1:], nil
	}
	near := profile.Nearest(args[0], cmd.actions())
	for _, action := range cmd.actions() {
		if slices.Contains(strings.Fields(otherActions[action]), args[0]) {
			near = action
		}
	}
	if near != "" {
		return nil, nil, usage("%s has no action %q; did you mean %s?", cmd.name, clip(args[0]), near)
	}
	return nil, nil, usage("%s has no action %q, and the action follows the command. To see them all: gharbor help %s",
		cmd.name, clip(args[0]), cmd.name)
}

// inJSON is for an action that prints JSON too.
type inJSON struct{}

func (inJSON) printsJSON() {}

// noFlags is for an action without flags of its own.
type noFlags struct{}

func (noFlags) flags(flagSet, *harbor.Run) {}
