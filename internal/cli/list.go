package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/person"
	"gentle-harbor/internal/profile"
)

var listCommand = command{
	name: "list", synopsis: "[WORD]", about: "list the profiles, by group",
	text:     "A WORD keeps those in whose name, place, database, user, labels or note it stands.",
	examples: []string{"gharbor list", "gharbor list staging --flat", "gharbor list --label season=winter --json"},
	json:     true,
	flags: func(fs *flag.FlagSet, c *call) {
		fs.BoolVar(&c.flat, "flat", false, "a full name a line, not a tree")
		fs.Func("label", "only profiles with the label NAME=VALUE, or NAME; may be repeated", func(text string) error {
			c.label = append(c.label, text)
			return nil
		})
	},
	run: runList,
}

// listed is a profile's row; Broken says why its file cannot be read.
type listed struct {
	Profile  string            `json:"profile"`
	Engine   string            `json:"engine"`
	Where    string            `json:"where"`
	Database string            `json:"database"`
	User     string            `json:"user"`
	Secret   string            `json:"secret"`
	Layer    string            `json:"layer"`
	Labels   map[string]string `json:"labels,omitempty"`
	Note     string            `json:"note,omitempty"`
	Last     *lastTest         `json:"last,omitempty"`
	Broken   string            `json:"broken,omitempty"`
}

// lastTest is how the newest test of a profile went.
type lastTest struct {
	OK   bool      `json:"ok"`
	Code string    `json:"code,omitempty"`
	When time.Time `json:"when"`
}

func runList(_ context.Context, c *call) error {
	if len(c.names) > 1 {
		return usage("list takes one word to search for at most")
	}
	library, err := c.Library()
	if err != nil {
		return err
	}
	entries, err := library.List()
	if err != nil {
		return wrong("the profiles in %s cannot be listed: %v", library.Mine.Dir, err)
	}
	library = library.Remembering()
	tests := c.lastTests()
	all := make([]listed, len(entries))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	const batch = 64
	for from := 0; from < len(entries); from += batch {
		group.Go(func() error {
			for i := from; i < min(from+batch, len(entries)); i++ {
				all[i] = c.row(library, entries[i])
				all[i].Last = tests(library, entries[i].Name)
			}
			return nil
		})
	}
	_ = group.Wait()
	list, broken := []listed{}, 0
	for _, l := range all {
		if c.wanted(l) {
			list = append(list, l)
			if l.Broken != "" {
				broken++
			}
		}
	}
	if c.json {
		return c.afterList(writeJSON(c.Stdout, map[string]any{"profiles": list}), broken)
	}
	switch {
	case len(all) == 0:
		fmt.Fprintln(c.Stdout, "No profiles yet. Make one with: gharbor add NAME")
	case len(list) == 0:
		fmt.Fprintf(c.Stdout, "None of the %d profiles is meant by that.\n", len(all))
	default:
		c.printList(list, library.Project.Dir != "")
	}
	return c.afterList(nil, broken)
}

func (c *call) row(library profile.Library, entry profile.Entry) listed {
	l := listed{Profile: entry.Name, Layer: "mine"}
	if entry.Project {
		l.Layer = "project"
	}
	stack, err := library.Load(entry.Name)
	if err != nil {
		l.Broken, _, _ = strings.Cut(err.Error(), "\n")
		return l
	}
	e := stack.Resolve()
	l.Engine, l.Where, l.Database, l.User, l.Secret = e.Engine, e.Place(), e.Database, e.User, secretWords(e)
	l.Labels, l.Note = e.Labels, e.Note
	return l
}

// lastTests gives the newest test of each profile that has one.
func (c *call) lastTests() func(profile.Library, string) *lastTest {
	state, err := c.State()
	if err != nil {
		return func(profile.Library, string) *lastTest { return nil }
	}
	history := harbor.HistoryIn(state)
	known := history.Known()
	return func(library profile.Library, name string) *lastTest {
		store, bare, err := library.Find(name)
		if err != nil || !known(store.Path(bare)) {
			return nil
		}
		list, err := history.Read(store.Path(bare))
		if err != nil || len(list) == 0 {
			return nil
		}
		last := list[len(list)-1]
		return &lastTest{last.OK, last.Code, last.When}
	}
}

// wanted tells whether a row has the labels and the word that were asked for.
func (c *call) wanted(l listed) bool {
	if !labelled(l.Labels, c.label) {
		return false
	}
	if len(c.names) == 0 {
		return true
	}
	text := strings.Join([]string{l.Profile, l.Engine, l.Where, l.Database, l.User, l.Note}, "\n")
	for name, value := range l.Labels {
		text += "\n" + name + "=" + value
	}
	return strings.Contains(strings.ToLower(text), strings.ToLower(c.names[0]))
}

// labelled tells whether labels have all that are wanted, each NAME=VALUE or NAME.
func labelled(labels map[string]string, wanted []string) bool {
	for _, label := range wanted {
		name, value, valued := strings.Cut(label, "=")
		if got, ok := labels[name]; !ok || valued && got != value {
			return false
		}
	}
	return true
}

// printList prints rows, as a tree by group or flat. A column for the layer is there when there is a project.
func (c *call) printList(list []listed, layered bool) {
	headings := []string{"name", "engine", "where", "database", "user", "secret"}
	if layered {
		headings = append(headings, "layer")
	}
	tested := slices.ContainsFunc(list, func(l listed) bool { return l.Last != nil })
	if tested {
		headings = append(headings, "last test")
	}
	var rows [][]string
	var above []string
	for _, l := range list {
		name := l.Profile
		if !c.flat {
			layer, bare := profile.SplitLayer(l.Profile)
			parts := strings.Split(bare, "/")
			groups := parts[:len(parts)-1]
			same := 0
			for same < len(groups) && same < len(above) && groups[same] == above[same] {
				same++
			}
			for depth := same; depth < len(groups); depth++ {
				rows = append(rows, append([]string{strings.Repeat("  ", depth) + groups[depth] + "/"}, make([]string, len(headings)-1)...))
			}
			above = groups
			name = strings.Repeat("  ", len(groups)) + parts[len(parts)-1]
			if layer != "" {
				name += " (" + layer + ":)"
			}
		}
		row := []string{name, l.Engine, l.Where, l.Database, l.User, l.Secret}
		if l.Broken != "" {
			row = []string{name, "(broken)", "see below", "", "", ""}
		}
		if layered {
			row = append(row, l.Layer)
		}
		if tested {
			text := ""
			if l.Last != nil {
				text = "ok"
				if !l.Last.OK {
					text = l.Last.Code
				}
				text += ", " + age(time.Since(l.Last.When)) + " ago"
			}
			row = append(row, text)
		}
		for i := range row {
			row[i] = outside.Cell(row[i])
		}
		rows = append(rows, row)
	}
	rowsTable(c.Stdout, headings, rows, nil)
	for _, l := range list {
		if l.Broken != "" {
			fmt.Fprintf(c.Stderr, "gharbor: %s is broken: %s\n", l.Profile, l.Broken)
		}
	}
}

func (c *call) afterList(err error, broken int) error {
	if err == nil && broken > 0 {
		return exit{Code: exitSettings}
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
	return "(searched for)"
}

var showCommand = command{
	name: "show", synopsis: "NAME", about: "show each setting of a profile, and where it comes from",
	text:     "With --all, the values that others hide are shown under them, the nearest first.",
	examples: []string{"gharbor show huts/local", "gharbor show huts/staging --all", "gharbor show huts/local --json"},
	settings: true, json: true,
	flags: func(fs *flag.FlagSet, c *call) {
		fs.BoolVar(&c.all, "all", false, "show the values that others hide too")
	},
	run: runShow,
}

// shown is a setting as show reports it.
type shown struct {
	Name   string  `json:"name"`
	Value  any     `json:"value"`
	Layer  string  `json:"layer"`
	File   string  `json:"file,omitempty"`
	Line   int     `json:"line,omitempty"`
	From   string  `json:"from,omitempty"`
	Hidden []shown `json:"hidden,omitempty"`
	value  profile.Value
}

func show(name string, v profile.Value) shown {
	s := shown{Name: name, Value: v.Text, Layer: v.Origin.Layer, File: v.Origin.File, Line: v.Origin.Line, From: v.Origin.Name, value: v}
	switch {
	case v.List != nil:
		s.Value = v.List
	case name == "port":
		if n, err := strconv.Atoi(v.Text); err == nil {
			s.Value = n
		}
	}
	return s
}

func runShow(ctx context.Context, c *call) error {
	names, err := c.profiles()
	if err != nil {
		return err
	}
	if len(names) != 1 {
		return usage("show takes one name")
	}
	e, err := c.Load(ctx, names[0], false)
	if err != nil {
		return err
	}
	every := maps.Clone(e.Values)
	for name := range e.Under {
		if _, ok := every[name]; !ok && c.all {
			every[name] = profile.Value{}
		}
	}
	settings := []shown{}
	for _, name := range every.Names() {
		s := show(name, every[name])
		if every[name].Text == "" {
			s.Layer, s.Value = "none", ""
		}
		for _, v := range e.Under[name] {
			if c.all {
				s.Hidden = append(s.Hidden, show(name, v))
			}
		}
		settings = append(settings, s)
	}
	if c.json {
		return writeJSON(c.Stdout, map[string]any{"profile": e.Name, "settings": settings})
	}
	fmt.Fprintf(c.Stdout, "%s\n\n", paint(c.Stdout, strong, e.Name))
	var rows [][]string
	for _, s := range settings {
		rows = append(rows, []string{strings.ReplaceAll(s.Name, ".", " "), outside.Cell(s.value.Text), outside.Cell(s.value.Origin.String())})
		for _, h := range s.Hidden {
			value := outside.Cell(h.value.Text)
			if value == "" {
				value = "(unset)"
			}
			rows = append(rows, []string{"  hides", value, outside.Cell(h.value.Origin.String())})
		}
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
	library, err := c.Library()
	if err != nil {
		return err
	}
	type target struct {
		store profile.Store
		name  string
	}
	var targets []target
	for _, name := range c.names {
		store, bare, err := c.found(library, name)
		if err != nil {
			return err
		}
		targets = append(targets, target{store, bare})
	}
	if !c.yes {
		if !c.Who.Here() {
			return usage("remove would delete %s; say --yes when that is meant", strings.Join(c.names, ", "))
		}
		meant, err := person.Yes(ctx, c.Who, "Remove "+strings.Join(c.names, ", ")+"?", false)
		if err != nil {
			return err
		}
		if !meant {
			fmt.Fprintln(c.Stderr, "Nothing was removed.")
			return nil
		}
	}
	for i, t := range targets {
		references := library.References(t.store, t.name)
		if err := t.store.Remove(ctx, t.name); errors.Is(err, profile.ErrUnknown) {
			return c.LoadError(library, c.names[i], err)
		} else if err != nil {
			return wrong("%s could not be removed: %v", c.names[i], err)
		}
		fmt.Fprintf(c.Stdout, "Removed %s.\n", c.names[i])
		for _, r := range references {
			fmt.Fprintf(c.Stderr, "note: %s:%d says base: %s, which is gone now\n", r.File, r.Line, r.Base)
		}
	}
	return nil
}
