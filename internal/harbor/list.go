package harbor

import (
	"context"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// Row is a profile as a list shows it. Broken says why its file cannot be read; the other fields
// are empty then.
type Row struct {
	Profile  string            `json:"profile"`
	Engine   string            `json:"engine"`
	Where    string            `json:"server"`
	Via      []string          `json:"via,omitempty"` // the hops on the way
	Database string            `json:"database"`
	User     string            `json:"user"`
	Secret   string            `json:"secret"`
	Owner    string            `json:"owner"` // "mine" or "project"
	Labels   map[string]string `json:"labels,omitempty"`
	Note     string            `json:"note,omitempty"`
	Last     *LastTest         `json:"last,omitempty"`
	Broken   string            `json:"broken,omitempty"`
	// Variant is the project's profile of which it is a variant, outside of that project's
	// folder; the other fields are empty then.
	Variant string `json:"variant,omitempty"`
}

// LastTest is how the newest test of a profile went. Code is empty for a good one.
type LastTest struct {
	OK   bool      `json:"ok"`
	Code string    `json:"code,omitempty"`
	When time.Time `json:"when"`
}

// Listing is the profiles in reach. Entries are read by List.
type Listing struct {
	Rows    []Row
	Any     bool // whether there is any profile, of the group or not
	Project bool // whether there is a project
}

// List reads every profile in reach, side by side, or those of a group, which ends in "/"; "" for
// all.
func (r Run) List(group string) (Listing, error) { return r.list(context.Background(), group, true) }

// lookedAt is how long the profiles are read for a user who types.
const lookedAt = 120 * time.Millisecond

// ListWithin is List for a user who types: what cannot be read in the time of that, or until ctx
// ends, is left out, and nothing is said of tests.
func (r Run) ListWithin(ctx context.Context) (Listing, error) {
	ctx, cancel := context.WithTimeout(ctx, lookedAt)
	defer cancel()
	all, err := r.list(ctx, "", false)
	all.Rows = slices.DeleteFunc(all.Rows, func(row Row) bool { return row.Profile == "" })
	return all, err
}

func (r Run) list(ctx context.Context, group string, tested bool) (Listing, error) {
	library, err := r.Library()
	if err != nil {
		return Listing{}, err
	}
	entries, err := library.List()
	if err != nil {
		return Listing{}, world.Wrong("the profiles in %s cannot be listed: %v", library.Mine.Dir, err)
	}
	library = library.Remembering()
	tests := func(profile.Library, string) *LastTest { return nil }
	if tested {
		tests = r.lastTests()
	}
	all := Listing{Any: len(entries) > 0, Project: library.Project.Dir != ""}
	if group != "" {
		entries = slices.DeleteFunc(entries, func(e profile.Entry) bool { return !profile.InGroup(e.Name, group) })
	}
	all.Rows = make([]Row, len(entries))
	var readers errgroup.Group
	readers.SetLimit(runtime.GOMAXPROCS(0))
	const batch = 64
	for from := 0; from < len(entries) && ctx.Err() == nil; from += batch {
		readers.Go(func() error {
			for i := from; i < min(from+batch, len(entries)) && ctx.Err() == nil; i++ {
				all.Rows[i] = rowOf(library, entries[i])
				all.Rows[i].Last = tests(library, entries[i].Name)
			}
			return nil
		})
	}
	return all, readers.Wait()
}

func rowOf(library profile.Library, entry profile.Entry) Row {
	row := Row{Profile: entry.Name, Owner: "mine"}
	if entry.Project {
		row.Owner = "project"
	}
	stack, err := library.Load(entry.Name)
	if err != nil {
		if own, e := library.Mine.Load(entry.Name); e == nil && library.Project.Dir == "" &&
			strings.HasPrefix(own["base"].Text, "project:") {
			row.Variant = own["base"].Text // it is whole, where its project is
			return row
		}
		row.Broken, _, _ = strings.Cut(err.Error(), "\n")
		return row
	}
	e := stack.Resolve()
	row.Engine, row.Where, row.Database, row.User, row.Secret = e.Engine, e.Place(), e.Database, e.User, secretWords(e)
	row.Labels, row.Note, row.Via = e.Labels, e.Note, e.Target().Hops
	return row
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

// lastTests gives the newest test of each profile that has one, of those that tested what its
// files say: a run with other settings by flags says nothing of the profile.
func (r Run) lastTests() func(profile.Library, string) *LastTest {
	state, err := r.State()
	if err != nil {
		return func(profile.Library, string) *LastTest { return nil }
	}
	history := HistoryIn(state)
	known := history.Known()
	return func(library profile.Library, name string) *LastTest {
		store, bare, err := library.Find(name)
		if err != nil || !known(store.Path(bare)) {
			return nil
		}
		when, ok, code, has, err := history.Newest(store.Path(bare))
		if err != nil || !has {
			return nil
		}
		return &LastTest{ok, string(code), when}
	}
}

// Has reports whether the row has the word in its name, place, database, user, note or labels, in
// any case, and all the labels, each NAME=VALUE or NAME.
func (row Row) Has(word string, labels []string) bool {
	if !labelled(row.Labels, labels) {
		return false
	}
	text := strings.Join([]string{row.Profile, row.Engine, row.Where, row.Database, row.User, row.Note}, "\n")
	for name, value := range row.Labels {
		text += "\n" + name + "=" + value
	}
	return strings.Contains(strings.ToLower(text), strings.ToLower(word))
}

// labelled reports whether labels have all that are wanted, each NAME=VALUE or NAME.
func labelled(labels map[string]string, wanted []string) bool {
	for _, label := range wanted {
		name, value, valued := strings.Cut(label, "=")
		if got, ok := labels[name]; !ok || valued && got != value {
			return false
		}
	}
	return true
}

// Choice says which saved profiles a command is about, beside those that it names.
type Choice struct {
	All     bool     // all of the user's own
	Project bool     // with All, the project's too
	Labels  []string // only those with all of these, each NAME=VALUE or NAME
}

// Choose gives the words of what a command is about: names and connection strings as given,
// groups (a name that ends in "/") and choices unfolded. No word at all is an error.
func (r Run) Choose(names []string, choice Choice) ([]string, error) {
	library, err := r.Library()
	if err != nil {
		return nil, err
	}
	var entries []profile.Entry
	list := func() error {
		if entries == nil {
			if entries, err = library.List(); err != nil {
				return world.Doing("list the profiles", err)
			}
		}
		return nil
	}
	var words []string
	for _, name := range names {
		group, ok := strings.CutSuffix(name, "/")
		if !ok || profile.IsConnectionString(name) {
			words = append(words, name)
			continue
		}
		if err := list(); err != nil {
			return nil, err
		}
		before := len(words)
		for _, entry := range entries {
			if _, bare := profile.SplitLayer(entry.Name); strings.HasPrefix(bare, group+"/") {
				words = append(words, entry.Name)
			}
		}
		if len(words) == before {
			var all []string
			for _, entry := range entries {
				all = append(all, entry.Name)
			}
			if near := profile.Nearest(name, profile.Groups(all)); near != "" {
				return nil, world.Wrong("there is no profile in the group %s; did you mean %s?", world.Clip(group), near)
			}
			return nil, world.Wrong("there is no profile in the group %s. To see them all: gharbor list", world.Clip(group))
		}
	}
	if choice.All || len(names) == 0 {
		if err := list(); err != nil {
			return nil, err
		}
		for _, entry := range entries {
			if !entry.Project || choice.Project || len(choice.Labels) > 0 && !choice.All {
				words = append(words, entry.Name)
			}
		}
	}
	if len(choice.Labels) > 0 {
		remembering := library.Remembering()
		kept := []string{}
		for _, word := range words {
			if row := rowOf(remembering, profile.Entry{Name: word}); row.Broken == "" && labelled(row.Labels, choice.Labels) {
				kept = append(kept, word)
			}
		}
		words = kept
	}
	if len(words) == 0 {
		return nil, world.Wrong("%s. To see them all: gharbor list", world.LowerFirst(NoneHas("", choice.Labels)))
	}
	return words, nil
}

// NoneHas says that no profile has a word and labels that were searched for.
func NoneHas(word string, labels []string) string {
	if word == "" && len(labels) == 0 {
		return "There is no profile yet"
	}
	text := "No profile has "
	if word != "" {
		text += world.Clip(word) + map[bool]string{true: " and "}[len(labels) > 0]
	}
	if len(labels) > 0 {
		text += map[bool]string{true: "the label ", false: "the labels "}[len(labels) == 1] + strings.Join(labels, " and ")
	}
	return text
}

// History gives the tests that are remembered of a saved profile, the oldest first, and what
// changed between the last good one and the first bad one after it.
func (r Run) History(name string) (tests []checkup.Past, changed []string, err error) {
	library, err := r.Library()
	if err != nil {
		return nil, nil, err
	}
	store, bare, err := r.Find(library, name)
	if err != nil {
		return nil, nil, err
	}
	state, err := r.State()
	if err != nil {
		return nil, nil, err
	}
	if tests, err = HistoryIn(state).Read(store.Path(bare)); err != nil {
		return nil, nil, world.Wrong("the history cannot be read: %v", err)
	}
	return tests, checkup.Changes(tests), nil
}

// OfProject gives the names of the project's profiles in a group, which ends in "/", in order of
// the alphabet. There is one at least.
func (r Run) OfProject(group string) ([]string, error) {
	library, err := r.Library()
	if err != nil {
		return nil, err
	}
	entries, err := library.List()
	if err != nil {
		return nil, world.Wrong("the profiles cannot be listed: %v", err)
	}
	var names []string
	for _, e := range entries {
		if e.Project && profile.InGroup(e.Name, group) {
			names = append(names, e.Name)
		}
	}
	if len(names) == 0 {
		return nil, world.Wrong("the project has no profiles in %s; gharbor list shows what there is", world.Clip(group))
	}
	return names, nil
}
