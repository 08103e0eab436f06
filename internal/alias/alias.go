// Package alias keeps short names for servers in files: where each is, how to get there, and who
// is trusted there. A [Book] is the files in reach; it finds what profiles name. A [Locator]
// tries the addresses of one.
package alias

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"sync"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
)

// FileName is the name of the file of aliases in the user's folder and in a project's.
const FileName = "aliases.yaml"

// MaxFile is how many bytes a file of aliases may have.
const MaxFile = 1 << 20

// maxSame bounds a chain of aliases that are the same as others.
const maxSame = 16

// Source is a file of aliases.
type Source struct {
	Path string
	// Store is the folder in which the user's own or the project's file is; its zero value is of
	// a file that was named for this run.
	Store profile.Store
}

// Layer says whose file it is: "mine", "project", or "named" for this run.
func (s Source) Layer() string {
	switch {
	case s.Store.Project:
		return "project"
	case s.Store.Dir != "":
		return "mine"
	}
	return "named"
}

// Book is the files of aliases in reach, those that were named for this run first, then the
// user's own, then the project's. It remembers what it has read.
type Book struct {
	Sources []Source

	mu   sync.Mutex
	read map[string]*page
}

// Entry is an alias as a file says it.
type Entry struct {
	Name   string
	Source Source
	Line   int
	Layer  profile.Layer
	// Err is the mistake in it, *profile.FileError values; nil for none.
	Err error
}

// At gives where the entry is, FILE:LINE.
func (e Entry) At() string { return fmt.Sprintf("%s:%d", e.Source.Path, e.Line) }

// Key is the name that names the entry, and no other of its name.
func (e Entry) Key() string {
	if e.Source.Layer() == "project" {
		return "project:" + e.Name
	}
	return e.Name
}

// page reads a file, once. A file that is not there is empty, unless it was named for this run.
func (b *Book) page(s Source) *page {
	b.mu.Lock()
	defer b.mu.Unlock()
	if p := b.read[s.Path]; p != nil {
		return p
	}
	p := &page{source: s}
	if b.read == nil {
		b.read = map[string]*page{}
	}
	b.read[s.Path] = p
	data, err := files.ReadOwn(s.Path, MaxFile)
	switch {
	case errors.Is(err, fs.ErrNotExist) && s.Layer() != "named":
	case errors.Is(err, fs.ErrNotExist):
		p.err = &profile.FileError{File: s.Path, Line: 1, Problem: "there is no such file"}
	case errors.Is(err, files.ErrTooLarge):
		p.err = &profile.FileError{File: s.Path, Line: 1,
			Problem: fmt.Sprintf("the file has more than %d MB, and one of aliases has at most that", MaxFile>>20)}
	case err != nil:
		p.err = &profile.FileError{File: s.Path, Line: 1,
			Problem: "the file cannot be used: " + strings.TrimPrefix(err.Error(), s.Path+": ")}
	default:
		p.begin(data)
	}
	if s.Store.Project && p.err == nil && len(data) > 0 {
		if err := s.Store.Inside(s.Path); err != nil {
			p.err = &profile.FileError{File: s.Path, Line: 1, Problem: err.Error()}
		}
	}
	return p
}

// Fresh implements [profile.Aliases].
func (b *Book) Fresh() profile.Aliases { return &Book{Sources: b.Sources} }

// Forget has the files read anew.
func (b *Book) Forget() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.read = nil
}

// Files lists the files that there are, and those that were named for this run.
func (b *Book) Files() []Source {
	var list []Source
	for _, s := range b.Sources {
		if _, err := os.Lstat(s.Path); err == nil || s.Layer() == "named" {
			list = append(list, s)
		}
	}
	return list
}

// List gives all aliases, file by file, in the order of each file, and the files that cannot be
// read.
func (b *Book) List() (entries []Entry, broken []error) {
	for _, s := range b.Sources {
		p := b.page(s)
		if p.err != nil {
			broken = append(broken, p.err)
			continue
		}
		entries = append(entries, p.all()...)
	}
	return entries, broken
}

// Names gives the names of all aliases, each once, in order of the alphabet.
func (b *Book) Names() []string {
	var names []string
	for _, s := range b.Sources {
		names = append(names, b.page(s).names()...)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Entries gives those of a name, in the order in which they count: "mine:" or "project:" before
// it names whose. A file that cannot be read ends the search with its error, since the name may
// be in it.
func (b *Book) Entries(name string) ([]Entry, error) {
	word, bare := profile.SplitLayer(name)
	var list []Entry
	for _, s := range b.Sources {
		if word != "" && s.Layer() != word {
			continue
		}
		p := b.page(s)
		if p.err != nil {
			return list, p.err
		}
		list = append(list, p.find(bare)...)
	}
	return list, nil
}

// Find implements [profile.Aliases]. A name that a project's file says is the project's, unless a
// file that was named for this run has it.
func (b *Book) Find(said profile.Value) (profile.Alias, error) {
	return b.follow(said, said.Text, nil)
}

func (b *Book) follow(said profile.Value, asked string, chain []Entry) (profile.Alias, error) {
	word, bare := profile.SplitLayer(said.Text)
	wrong := func(code finding.Code, at profile.Origin, format string, args ...any) error {
		return &profile.AliasError{Code: code, Text: fmt.Sprintf(format, args...), Origin: at}
	}
	if word == "mine" && said.Origin.Project != "" {
		return profile.Alias{}, wrong(finding.AliasBroken, said.Origin,
			"A project cannot name an alias of a user's own (%s).", said.Text)
	}
	list, err := b.Entries(said.Text)
	if err != nil {
		return profile.Alias{}, wrong(finding.AliasBroken, said.Origin, "%v.", err)
	}
	if word == "" && said.Origin.Project != "" {
		list = slices.DeleteFunc(list, func(e Entry) bool { return e.Source.Layer() == "mine" })
	}
	if len(list) == 0 {
		return profile.Alias{}, b.missing(said, bare)
	}
	e := list[0]
	if len(list) > 1 && e.Source.Layer() == "mine" && list[1].Source.Layer() == "project" {
		return profile.Alias{}, wrong(finding.AliasBroken, said.Origin,
			"Both you and the project have an alias %s (%s, %s); name one of them: mine:%s or project:%s.",
			bare, e.At(), list[1].At(), bare, bare)
	}
	if e.Err != nil {
		return profile.Alias{}, wrong(finding.AliasBroken,
			profile.Origin{Layer: profile.LayerAlias, File: e.Source.Path, Line: e.Line}, "%s",
			sentence(e.Err.Error()))
	}
	if slices.ContainsFunc(chain, func(before Entry) bool { return before.At() == e.At() }) || len(chain) >= maxSame {
		var steps []string
		for i, each := range chain {
			steps = append(steps, fmt.Sprintf("%s is the same as %s (%s)", each.Name, append(chain, e)[i+1].Name, each.At()))
		}
		return profile.Alias{}, wrong(finding.AliasCycle, said.Origin, "%s.", strings.Join(steps, ", and "))
	}
	found := profile.Alias{Layer: profile.Layer{}}
	if same := e.Layer["same-as"]; same.Text != "" {
		same.Origin.Layer = profile.LayerAlias
		base, err := b.follow(same, asked, append(chain, e))
		if err != nil {
			return profile.Alias{}, err
		}
		strange := false
		for _, v := range base.Layer {
			strange = strange || v.Origin.Project != ""
		}
		if strange && e.Source.Layer() != "project" {
			return profile.Alias{}, wrong(finding.AliasBroken, same.Origin,
				"Your alias %s is the same as one of the project (%s); name the project's in the profile, so "+
					"that you are asked whether you agree to it.",
				bare, same.Text)
		}
		found.Layer = base.Layer
	}
	for name, v := range e.Layer {
		if name == "note" || name == "same-as" {
			continue
		}
		v.Origin.Name = asked
		found.Layer[name] = v
	}
	for _, other := range list[1:] {
		found.Others = append(found.Others, other.At())
	}
	return found, nil
}

// sentence ends a text as a sentence.
func sentence(text string) string {
	if strings.HasSuffix(text, ".") || strings.HasSuffix(text, "?") {
		return text
	}
	return text + "."
}

// missing says that no file has a name, which files were read, and a near name.
func (b *Book) missing(said profile.Value, bare string) error {
	text := "No file of aliases has the name " + bare
	var read []string
	for _, s := range b.Sources {
		if _, err := os.Lstat(s.Path); err == nil {
			read = append(read, s.Path)
		}
	}
	switch {
	case len(read) > 0:
		text += "; looked in " + strings.Join(read, ", ")
	case len(b.Sources) > 0:
		text += "; there is none yet, not even " + b.Sources[0].Path
	}
	entries, _ := b.List()
	if i := slices.IndexFunc(entries, func(e Entry) bool { return e.Err != nil }); i >= 0 {
		text += "; the alias " + entries[i].Name + " there has mistakes (" + entries[i].At() + ")"
	}
	near := profile.Nearest(bare, b.Names())
	if near != "" {
		text += "; did you mean " + near + "?"
	}
	return &profile.AliasError{Code: finding.AliasUnknown,
		Text: strings.TrimSuffix(text, "?") + map[bool]string{true: "?", false: "."}[near != ""], Origin: said.Origin}
}

// Qualified gives the name with "mine:" or "project:" before it, where it has a layer.
func (e Entry) Qualified() string {
	if layer := e.Source.Layer(); layer != "named" {
		return layer + ":" + e.Name
	}
	return e.Name
}

// Moved gives the entry's settings as another file says them: its paths are absolute there.
func (e Entry) Moved(to Source) profile.Layer {
	layer := profile.Layer{}
	for name, v := range e.Layer {
		if name == "tls.ca" && v.Text != "" {
			v.Text = profile.PathOf(files.World{}, v)
		}
		layer[name] = v
	}
	return layer
}
