package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
)

var listCommand = command{
	name: "list", synopsis: "[WORD]", about: "list the profiles, by group",
	text: `A WORD keeps those that have it in their name, address, database, user, labels or note. Of a GROUP/ only its own
profiles are read.`,
	examples: []string{"gharbor list", "gharbor list staging --flat", "gharbor list --labelled season=winter --json"},
	json:     true,
	options:  optionsOf[listOptions],
}

type listOptions struct {
	flat   bool
	labels []string
}

func (o *listOptions) flags(fs flagSet, _ *harbor.Run) {
	fs.onFlag("flat", &o.flat)
	fs.listFlag("labelled", &o.labels)
}

func (o *listOptions) run(_ context.Context, c *call) error {
	if len(c.names) > 1 {
		return usage("list searches for one word at most: gharbor list staging")
	}
	word := strings.Join(c.names, "")
	group := ""
	if strings.HasSuffix(word, "/") &&
		slices.Contains(profile.Groups(c.profileNames()),
			strings.TrimPrefix(strings.TrimPrefix(word, "mine:"), "project:")) {
		group = word
	}
	all, err := c.List(group)
	if err != nil {
		return err
	}
	search := word
	if group != "" {
		search = ""
	}
	rows := []harbor.Row{}
	for _, row := range all.Rows {
		if row.Has(search, o.labels) {
			rows = append(rows, row)
		}
	}
	switch {
	case c.json:
		err = report.JSON(c.Stdout, map[string]any{"profiles": rows})
	case !all.Any:
		fmt.Fprintln(c.Stdout, "No profiles yet. gharbor add NAME makes one; gharbor find looks for servers on "+
			"this machine; gharbor demo shows the tool at work.")
	case len(rows) == 0:
		fmt.Fprintf(c.Stdout, "%s. To see them all: gharbor list\n", outside.Text(harbor.NoneHas(word, o.labels)))
	default:
		o.print(c, rows, all.Project)
	}
	return err
}

// print prints rows, as a tree by group or flat. A column for the layer is there when there is a
// project.
func (o *listOptions) print(c *call, list []harbor.Row, layered bool) {
	headings := []string{"name", "engine", "server", "database", "user", "secret"}
	if layered {
		headings = append(headings, "owner")
	}
	tested := slices.ContainsFunc(list, func(row harbor.Row) bool { return row.Last != nil })
	if tested {
		headings = append(headings, "last test")
	}
	var rows [][]string
	var names nameTree
	for _, each := range list {
		name := each.Profile
		if !o.flat {
			var groups []string
			name, groups = names.next(each.Profile)
			for _, group := range groups {
				rows = append(rows, append([]string{outside.Cell(group)}, make([]string, len(headings)-1)...))
			}
		}
		row := []string{name, each.Engine, each.Where, each.Database, each.User, each.Secret}
		if each.Broken != "" {
			row = []string{name, "(broken)", "see below", "", "", ""}
		}
		if each.Variant != "" {
			row = []string{name, "(variant)", "of " + each.Variant + ", in its project's folder", "", "", ""}
		}
		if layered {
			row = append(row, each.Owner)
		}
		if tested {
			row = append(row, lastTest(each.Last))
		}
		for i := range row {
			row[i] = outside.Cell(row[i])
		}
		for _, hop := range each.Via { // the hops have lines of their own below the server
			row[2] += "\nvia " + outside.Cell(hop)
		}
		rows = append(rows, row)
	}
	report.Table(c.Stdout, headings, rows, nil)
	for _, each := range list {
		if each.Broken != "" {
			fmt.Fprintf(c.Stderr, "gharbor: %s is broken: %s\n", each.Profile, each.Broken)
		}
	}
}

func lastTest(last *harbor.LastTest) string {
	if last == nil {
		return ""
	}
	word := "ok"
	if !last.OK {
		word = last.Code
	}
	return word + ", " + timeAgo(last.When, time.Now())
}

// nameTree indents names by their groups, in the order in which they come.
type nameTree struct{ above []string }

// next gives a profile's own name, indented, and the lines of the groups that begin with it.
func (t *nameTree) next(full string) (name string, begin []string) {
	layer, bare := profile.SplitLayer(full)
	parts := strings.Split(bare, "/")
	groups := parts[:len(parts)-1]
	same := 0
	for same < len(groups) && same < len(t.above) && groups[same] == t.above[same] {
		same++
	}
	for depth := same; depth < len(groups); depth++ {
		begin = append(begin, strings.Repeat("  ", depth)+groups[depth]+"/")
	}
	t.above = groups
	name = strings.Repeat("  ", len(groups)) + parts[len(parts)-1]
	if layer != "" {
		name += " (" + layer + ":)"
	}
	return name, begin
}

var showCommand = command{
	name: "show", synopsis: "NAME", about: "show each setting of a profile, and where it comes from",
	text:     "With --hidden, the values that others hide are shown under them, the nearest first.",
	examples: []string{"gharbor show huts/local", "gharbor show huts/staging --hidden", "gharbor show huts/local --json"},
	settings: true, json: true,
	options: optionsOf[showOptions],
}

type showOptions struct{ all bool }

func (o *showOptions) flags(fs flagSet, _ *harbor.Run) {
	fs.onFlag("hidden", &o.all)
}

// shown is a setting as show reports it.
type shown struct {
	Name   string            `json:"name"`
	Value  any               `json:"value"`
	Layer  profile.LayerName `json:"layer"`
	File   string            `json:"file,omitempty"`
	Line   int               `json:"line,omitempty"`
	From   string            `json:"from,omitempty"`
	Hidden []shown           `json:"hidden,omitempty"`
	value  profile.Value
}

// isPort reports whether a setting is a number, as JSON has it.
func isPort(name string) bool {
	s, _ := profile.Find(name)
	return s.Type == profile.Port
}

func asShown(name string, v profile.Value) shown {
	s := shown{Name: name, Value: v.Text, Layer: v.Origin.Layer, File: v.Origin.File, Line: v.Origin.Line,
		From: v.Origin.Name, value: v}
	switch {
	case v.List != nil:
		s.Value = v.List
	case isPort(name):
		if n, err := strconv.Atoi(v.Text); err == nil {
			s.Value = n
		}
	}
	return s
}

func (o *showOptions) run(ctx context.Context, c *call) error {
	name, err := c.profile()
	if err != nil {
		return err
	}
	e, err := c.Load(ctx, name, false)
	if err != nil {
		return err
	}
	every := maps.Clone(e.Values)
	for name := range e.Under {
		if _, ok := every[name]; !ok && o.all {
			every[name] = profile.Value{}
		}
	}
	settings := []shown{}
	for _, name := range every.Names() {
		s := asShown(name, every[name])
		if every[name].Text == "" {
			s.Layer, s.Value = profile.LayerNone, ""
		}
		for _, v := range e.Under[name] {
			if o.all {
				s.Hidden = append(s.Hidden, asShown(name, v))
			}
		}
		settings = append(settings, s)
	}
	if c.json {
		return report.JSON(c.Stdout, map[string]any{"profile": e.Name, "settings": settings})
	}
	fmt.Fprintf(c.Stdout, "%s\n\n", paint(c.Stdout, strong, e.Name))
	var rows [][]string
	for _, s := range settings {
		rows = append(rows, []string{strings.ReplaceAll(s.Name, ".", " "), outside.Cell(s.value.Text),
			outside.Cell(s.value.Origin.String())})
		for _, h := range s.Hidden {
			value := outside.Cell(h.value.Text)
			if value == "" {
				value = "(unset)"
			}
			rows = append(rows, []string{"  hides", value, outside.Cell(h.value.Origin.String())})
		}
	}
	report.WholeTable(c.Stdout, []string{"setting", "value", "from"}, rows)
	if way := report.Route(e.Effective); way != "" {
		fmt.Fprintln(c.Stdout)
		report.Wrapped(c.Stdout, "", "  ", way)
	}
	if e.InContainer() {
		c.showEngines()
	}
	if a, err := c.CloudAccount(e.Clouded.Account); e.InCloud() && err == nil {
		report.Wrapped(c.Stdout, "", "  ", "The cloud account "+a.Name+": "+a.Origin.String())
	}
	for _, problem := range e.Problems {
		fmt.Fprintln(c.Stderr, "note: "+problem.Text)
	}
	return nil
}

// showEngines says which container engines would be asked, and what chose them.
func (c *call) showEngines() {
	engines, err := c.Engines()
	if err != nil {
		c.Note("%s", outside.Cell(err.Error()))
	}
	for _, e := range engines {
		report.Wrapped(c.Stdout, "", "  ", "The container engine: "+outside.Cell(e.Place())+", "+outside.Cell(e.From))
	}
}
