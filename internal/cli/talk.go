package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/talk"
)

var talkCommand = command{
	name: "talk", synopsis: "NAME", about: "a prompt in a session, that says where you are",
	text: `A semicolon ends a statement, and Enter runs what is whole; else the next line says what is still to come. Results are printed as run
prints them. The prompt has the profile, the database and the user, and says superuser, guarded, live (the label) and in a transaction where
that is so.

Words for the session come after the word gharbor: gharbor survey, run, load, meaning, history, show and help work on this session and need no
name; gharbor as FORM prints results in another form, gharbor database NAME opens another database, and gharbor leave ends.

Ctrl-C gives up what was typed, or ends the statement that runs, at the server too. Ctrl-D leaves. When the connection is lost, what went with it is
said, and the next statement opens it anew, with all checks; nothing is sent twice.

What was typed is remembered for each profile, in a file of yours: not what begins with a space, and nothing with a word that comes before a password.

talk.yaml in your folder of gharbor has your settings; --show-settings lists them. No file of another program has a part in it.`,
	examples: []string{"gharbor talk huts/local", "gharbor talk huts/local --took", "gharbor talk --show-settings"},
	settings: true, connects: true,
	options: optionsOf[talkOptions],
}

type talkOptions struct {
	took         bool
	showSettings bool
}

func (o *talkOptions) flags(f flagSet, _ *harbor.Run) {
	f.onFlag("took", &o.took)
	f.onFlag("show-settings", &o.showSettings)
}

func (o *talkOptions) run(ctx context.Context, c *call) error {
	path, settings, err := talkSettings(c)
	if err != nil {
		return err
	}
	if o.showSettings {
		return showTalkSettings(c, path, settings)
	}
	name, err := c.profile()
	if err != nil {
		return err
	}
	for _, stream := range []any{c.Stdin, c.Stdout, c.Stderr} {
		if _, is := terminal(stream); !is {
			return usage("talk needs a terminal. To run statements from a file or a pipe: gharbor run %s --from -", clip(name))
		}
	}
	if strings.HasSuffix(name, "/") {
		return usage("talk is with one server; to run statements in a group: gharbor run %s \"select 1\"", clip(name))
	}
	debug.SetGCPercent(100) // it stays, unlike other runs
	t := &talker{call: c, name: name, settings: settings, form: "table", took: o.took || settings.Took}
	return t.all(ctx)
}

// talkSettings reads the person's settings.
func talkSettings(c *call) (path string, settings talk.Settings, err error) {
	home, err := c.Home()
	if err != nil {
		return "", talk.Usual(), err
	}
	path = filepath.Join(home, "talk.yaml")
	data, err := files.ReadOwn(path, talk.MostSettings)
	if errors.Is(err, fs.ErrNotExist) {
		return path, talk.Usual(), nil
	}
	if err != nil {
		return path, talk.Usual(), world.Doing("read the settings of talk", err)
	}
	settings, err = talk.ParseSettings(data, path)
	if err != nil {
		return path, settings, world.Doing("read the settings of talk", err)
	}
	return path, settings, nil
}

// showTalkSettings lists the settings.
func showTalkSettings(c *call, path string, settings talk.Settings) error {
	var rows [][]string
	for _, each := range settings.List() {
		rows = append(rows, []string{each.Name, each.Value, each.About})
	}
	report.Table(c.Stdout, []string{"setting", "value", "what it is for"}, rows, nil)
	if _, err := os.Stat(path); err != nil {
		fmt.Fprintf(c.Stdout, "\nThere is no %s; these are the usual values.\n", path)
		return nil
	}
	fmt.Fprintf(c.Stdout, "\nThey are in %s\n", path)
	return nil
}
