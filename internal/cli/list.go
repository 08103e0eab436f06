package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"

	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
)

var listCommand = command{
	name: "list", about: "list the profiles",
	examples: []string{"gharbor list", "gharbor list --json"},
	json:     true,
	run:      runList,
}

// listed is a profile's row; Broken says why its file cannot be read.
type listed struct {
	Profile  string `json:"profile"`
	Engine   string `json:"engine"`
	Where    string `json:"where"`
	Database string `json:"database"`
	User     string `json:"user"`
	Secret   string `json:"secret"`
	Broken   string `json:"broken,omitempty"`
}

func runList(_ context.Context, c *call) error {
	if len(c.names) > 0 {
		return usage("list takes no names")
	}
	store, err := c.store()
	if err != nil {
		return err
	}
	names, err := store.Names()
	if err != nil {
		return wrong("the profiles in %s cannot be listed: %v", store.Dir, err)
	}
	list := make([]listed, len(names))
	broken := 0
	for i, name := range names {
		layer, err := store.Load(name)
		if err != nil {
			first, _, _ := strings.Cut(err.Error(), "\n")
			list[i] = listed{Profile: name, Broken: first}
			broken++
			continue
		}
		e := profile.Resolve(name, layer)
		list[i] = listed{name, e.Engine, e.Place(), e.Database, e.User, secretWords(e), ""}
	}
	if c.json {
		return c.afterList(writeJSON(c.Stdout, map[string]any{"profiles": list}), broken)
	}
	if len(list) == 0 {
		fmt.Fprintln(c.Stdout, "No profiles yet. Make one with: gharbor add NAME")
		return nil
	}
	rows := make([][]string, 0, len(list))
	for _, l := range list {
		if l.Broken != "" {
			rows = append(rows, []string{l.Profile, "(broken)", "see below", "", "", ""})
			continue
		}
		row := []string{l.Profile, l.Engine, l.Where, l.Database, l.User, l.Secret}
		for i := range row {
			row[i] = outside.Cell(row[i])
		}
		rows = append(rows, row)
	}
	rowsTable(c.Stdout, []string{"name", "engine", "where", "database", "user", "secret"}, rows, nil)
	for _, l := range list {
		if l.Broken != "" {
			fmt.Fprintf(c.Stderr, "gharbor: %s is broken: %s\n", l.Profile, l.Broken)
		}
	}
	return c.afterList(nil, broken)
}

func (c *call) afterList(err error, broken int) error {
	if err == nil && broken > 0 {
		return exit{code: exitSettings}
	}
	return err
}

// secretWords says where a profile's secret comes from.
func secretWords(e profile.Effective) string {
	if text := e.Secret.String(); text != "" {
		return text
	}
	if e.Socket != "" || e.TLS.Cert != "" {
		return "(none needed)"
	}
	return "(asked for)"
}

var showCommand = command{
	name: "show", synopsis: "NAME", about: "show each setting of a profile, and where it comes from",
	examples: []string{"gharbor show huts/local", "gharbor show huts/local --json"},
	settings: true, json: true,
	run: runShow,
}

func runShow(_ context.Context, c *call) error {
	names, err := c.profiles()
	if err != nil {
		return err
	}
	if len(names) != 1 {
		return usage("show takes one name")
	}
	e, err := c.load(names[0], false)
	if err != nil {
		return err
	}
	type setting struct {
		Name     string `json:"name"`
		Value    any    `json:"value"`
		Layer    string `json:"layer"`
		File     string `json:"file,omitempty"`
		Line     int    `json:"line,omitempty"`
		From     string `json:"from,omitempty"`
		original string
	}
	settings := []setting{}
	for _, name := range e.Values.Names() {
		v := e.Values[name]
		s := setting{Name: name, Value: v.Text, Layer: v.Origin.Layer, File: v.Origin.File, Line: v.Origin.Line, From: v.Origin.Name, original: v.Origin.String()}
		if name == "port" {
			s.Value = e.Port
		}
		settings = append(settings, s)
	}
	if c.json {
		return writeJSON(c.Stdout, map[string]any{"profile": e.Name, "settings": settings})
	}
	fmt.Fprintf(c.Stdout, "%s\n\n", c.paint(c.Stdout, strong, e.Name))
	var rows [][]string
	for _, s := range settings {
		rows = append(rows, []string{strings.ReplaceAll(s.Name, ".", " "), outside.Cell(e.Values[s.Name].Text), s.original})
	}
	rowsTable(c.Stdout, []string{"setting", "value", "from"}, rows, nil)
	for _, problem := range e.Problems {
		fmt.Fprintln(c.Stderr, "note: "+problem.Text)
	}
	return nil
}

var removeCommand = command{
	name: "remove", synopsis: "NAME…", about: "remove profiles",
	text:     "At a terminal it asks first; without one, --yes says that it is meant.",
	examples: []string{"gharbor remove huts/old --yes"},
	flags:    func(fs *flag.FlagSet, c *call) { fs.BoolVar(&c.yes, "yes", false, "do not ask") },
	run:      runRemove,
}

func runRemove(ctx context.Context, c *call) error {
	if len(c.names) == 0 {
		return usage("remove wants the name of a profile; gharbor list shows those there are")
	}
	store, err := c.store()
	if err != nil {
		return err
	}
	names, err := store.Names()
	if err != nil {
		return wrong("the profiles in %s cannot be listed: %v", store.Dir, err)
	}
	for _, name := range c.names {
		if !contains(names, name) {
			return c.loadError(store, name, profile.ErrUnknown)
		}
	}
	if !c.yes {
		if !c.interactive() {
			return usage("remove would delete %s; say --yes when that is meant", strings.Join(c.names, ", "))
		}
		answer, err := c.ask(ctx, "Remove "+strings.Join(c.names, ", ")+"? (yes, no) [no] ")
		if err != nil {
			return err
		}
		if answer != "yes" && answer != "y" {
			fmt.Fprintln(c.Stderr, "Nothing was removed.")
			return nil
		}
	}
	for _, name := range c.names {
		if err := store.Remove(ctx, name); errors.Is(err, profile.ErrUnknown) {
			return c.loadError(store, name, err)
		} else if err != nil {
			return wrong("%s could not be removed: %v", name, err)
		}
		fmt.Fprintf(c.Stdout, "Removed %s.\n", name)
	}
	return nil
}

func contains(list []string, word string) bool {
	for _, item := range list {
		if item == word {
			return true
		}
	}
	return false
}
