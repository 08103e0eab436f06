package cli

import (
	"context"
	"fmt"
	"os/exec"
	"strings"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/edits"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
)

var changeCommand = command{
	name: "change", synopsis: "NAME", about: "change settings of a profile",
	text: `What the flags name is put into the profile's file, and the rest of the file stays as it is: comments, order, blank
lines, line ends. --unset SETTING takes one out; so does an empty value.`,
	examples: []string{"gharbor change huts/local --port 6021 --unset note",
		"gharbor change huts/staging --tls verify --tls-ca certs/fellside-ca.pem"},
	settings: true,
	options:  optionsOf[changeOptions],
}

type changeOptions struct{ unset []string }

func (o *changeOptions) flags(fs flagSet, _ *harbor.Run) {
	fs.eachFlag("unset", func(text string) error {
		name, ok := settingNamed(text)
		if !ok {
			return fmt.Errorf("there is no setting %q. To see them all: gharbor help settings", clip(text))
		}
		o.unset = append(o.unset, name)
		return nil
	})
}

func (o *changeOptions) run(ctx context.Context, c *call) error {
	p, err := c.existing()
	if err != nil {
		return err
	}
	return c.edits().Change(ctx, p, c.Set, o.unset, func() { c.changed(p) })
}

// settingNamed finds a setting by its flag or its name in the file. The name of a map stands for
// all that is in it, and ends in a dot.
func settingNamed(text string) (string, bool) {
	if of := profile.Flagged(text); len(of) == 1 && of[0].Type != profile.Map {
		return of[0].Name, true
	}
	if len(profile.InMap(text)) > 0 {
		return text + ".", true
	}
	text = strings.ReplaceAll(text, " ", ".")
	s, ok := profile.Find(text)
	return text, ok && !strings.HasSuffix(text, ".") && s.Name != ""
}

// existing gives the one profile that a command is about.
func (c *call) existing() (edits.Place, error) {
	name, err := c.profile()
	if err != nil {
		return edits.Place{}, err
	}
	return c.edits().Existing(name)
}

func (c *call) changed(p edits.Place) { fmt.Fprintf(c.Stdout, "Changed %s in %s\n", p.Name, p.File()) }

var copyCommand = command{
	name: "copy", synopsis: "NAME NEW-NAME", about: "copy a profile",
	text:     "A name with project: before it stands for the project's layer, one with mine: for your own.",
	examples: []string{"gharbor copy huts/local huts/winter", "gharbor copy huts/local project:huts/local"},
	options:  optionsOf[copyOptions],
}

type copyOptions struct{ replace bool }

func (o *copyOptions) flags(fs flagSet, _ *harbor.Run) {
	fs.onFlag("replace", &o.replace)
}

func (o *copyOptions) run(ctx context.Context, c *call) error {
	if len(c.names) != 2 {
		return usage("copy needs a profile's name and a new one: gharbor copy huts/local huts/test")
	}
	_, _, err := c.edits().Copy(ctx, c.names[0], c.names[1], o.replace)
	if err == nil {
		fmt.Fprintf(c.Stdout, "Copied %s to %s\n", c.names[0], c.names[1])
	}
	return err
}

var renameCommand = command{
	name: "rename", synopsis: "NAME NEW-NAME", about: "give a profile another name",
	text:     "Profiles that have it as their base are named; --everywhere changes them too.",
	examples: []string{"gharbor rename huts/local huts/home --everywhere"},
	options:  optionsOf[renameOptions],
}

type renameOptions struct {
	copyOptions
	references bool
}

func (o *renameOptions) flags(fs flagSet, run *harbor.Run) {
	o.copyOptions.flags(fs, run)
	fs.onFlag("everywhere", &o.references)
}

func (o *renameOptions) run(ctx context.Context, c *call) error {
	if len(c.names) != 2 {
		return usage("rename needs a profile's name and a new one: gharbor rename huts/local huts/home")
	}
	renamed := func() { fmt.Fprintf(c.Stdout, "Renamed %s to %s\n", c.names[0], c.names[1]) }
	return c.edits().Rename(ctx, c.names[0], c.names[1], o.replace, o.references, renamed, func(name, base string) {
		fmt.Fprintf(c.Stdout, "Changed the base of %s to %s\n", name, base)
	})
}

var removeCommand = command{
	name: "remove", synopsis: "NAME… | GROUP/…", about: "remove profiles",
	text: `A name that ends in / stands for all of your own profiles in a group. At a terminal it asks first, and says how many there
are; without one, --yes confirms.`,
	examples: []string{"gharbor remove huts/old --yes", "gharbor remove huts/summer/"},
	options:  optionsOf[removeOptions],
}

type removeOptions struct{ consent }

func (o *removeOptions) run(ctx context.Context, c *call) error {
	if len(c.names) == 0 {
		return usage("remove needs the name of a profile. To see them all: gharbor list")
	}
	names, err := c.ToRemove(c.names)
	if err != nil {
		return err
	}
	what := strings.Join(names[:min(len(names), 10)], ", ")
	if len(names) > 10 {
		what += fmt.Sprintf(" and %d more", len(names)-10)
	}
	if len(names) > 1 {
		what = report.Count(int64(len(names)), "profile") + ": " + what
	}
	meant, err := c.Consent(ctx, o.yes, "Remove "+what+"?", "remove would delete "+what)
	if err != nil {
		return err
	}
	if !meant {
		fmt.Fprintln(c.Stderr, "Nothing was removed.")
		return nil
	}
	return c.edits().Remove(ctx, names, func(name string) { fmt.Fprintf(c.Stdout, "Removed %s.\n", name) })
}

var editCommand = command{
	name: "edit", synopsis: "NAME", about: "edit a profile's file in your editor",
	text: `$VISUAL or $EDITOR is started on a copy. When it ends, the copy is checked; what is wrong is shown, and you can go
back to it. Only a good copy is put in the profile's place.`,
	examples: []string{"gharbor edit huts/local"},
	options:  without(runEdit),
}

func runEdit(ctx context.Context, c *call) error {
	p, err := c.existing()
	if err != nil {
		return err
	}
	editor, _ := c.Env("VISUAL")
	if editor == "" {
		editor, _ = c.Env("EDITOR")
	}
	words := strings.Fields(editor)
	if len(words) == 0 {
		return wrong("neither VISUAL nor EDITOR says which editor to start; the file is %s", p.File())
	}
	how, draft, err := c.edits().Edit(ctx, p, func(path string) error {
		cmd := exec.Command(words[0], append(words[1:], path)...)
		cmd.Env = c.Environ
		c.handOver(cmd)
		if err := cmd.Run(); err != nil {
			return fmt.Errorf("the editor %s failed (%w)", words[0], err)
		}
		return nil
	}, func() { c.changed(p) })
	switch {
	case err != nil:
		return err
	case how == edits.Unchanged:
		fmt.Fprintf(c.Stdout, "%s is as it was.\n", p.Name)
	case how == edits.Left:
		return world.Error{Code: exitSettings, Message: p.Name + " was not changed; what you wrote is in " + draft}
	}
	return nil
}
