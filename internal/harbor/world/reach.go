package world

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"gentle-harbor/internal/alias"
	"gentle-harbor/internal/profile"
)

// Reach is the profiles and aliases in reach of one use case, and what it has read of them. Its
// files are read once; the next use case reads them anew. It is safe for several goroutines.
type Reach struct {
	*World
	// AliasFiles are files of aliases that count before the usual ones.
	AliasFiles []string

	read *read
}

// read is what was read of the files in reach.
type read struct {
	sync.Mutex
	book *alias.Book
}

// ReachOf gives what is in reach of a use case.
func ReachOf(w *World) Reach { return Reach{World: w, read: &read{}} }

// Library gives the profiles in reach: the user's own, and those of the project around the
// current folder.
func (r Reach) Library() (profile.Library, error) {
	home, err := r.Home()
	if err != nil {
		return profile.Library{}, err
	}
	l := profile.Library{Mine: profile.Store{Dir: home}, World: r.Account()}
	dir := r.Dir
	if dir == "" {
		if dir, err = os.Getwd(); err != nil {
			return l, nil // a folder that is gone has no project
		}
	}
	l.Project, err = profile.FindProject(dir, l.World.Home)
	if err != nil && !r.told.Swap(true) {
		r.Note("%v", err)
	}
	book, err := r.Book(l.Mine, l.Project)
	l.Aliases = book
	return l, err
}

// Book gives the files of aliases in reach: those that --aliases and GHARBOR_ALIASES name, the
// user's own, the project's.
func (r Reach) Book(mine, project profile.Store) (*alias.Book, error) {
	r.read.Lock()
	defer r.read.Unlock()
	if r.read.book != nil {
		return r.read.book, nil
	}
	book := &alias.Book{}
	variable, _ := r.Env("GHARBOR_ALIASES")
	for _, path := range append(slices.Clone(r.AliasFiles), filepath.SplitList(variable)...) {
		if path != "" {
			book.Sources = append(book.Sources, alias.Source{Path: r.Path(path)})
		}
	}
	for _, store := range []profile.Store{mine, project} {
		if store.Dir != "" {
			book.Sources = append(book.Sources, alias.Source{Path: filepath.Join(store.Dir, alias.FileName), Store: store})
		}
	}
	r.read.book = book
	return book, nil
}

// LoadError words why a profile could not be read, with the nearest name for one that is not there.
func (r Reach) LoadError(library profile.Library, name string, err error) error {
	if !errors.Is(err, profile.ErrUnknown) {
		return Doing("read "+name, err)
	}
	if layer, _ := profile.SplitLayer(name); layer == "project" && library.Project.Dir == "" {
		return Wrong("there is no project in or above the current folder, and so no profile %s", Clip(name))
	}
	entries, _ := library.List()
	var names []string
	for _, entry := range entries {
		names = append(names, entry.Name)
	}
	if len(names) == 0 {
		return Wrong("there is no profile %s, and none yet at all; make one with gharbor add %s", Clip(name), Clip(name))
	}
	if slices.Contains(profile.Groups(names), name+"/") {
		return Wrong("%s is a group, and no profile; %s/ stands for all that is in it", Clip(name), Clip(name))
	}
	if near := profile.NearNames(name, names); near != nil {
		return Wrong("there is no profile %s; did you mean %s?", Clip(name), profile.Or(near))
	}
	return Wrong("there is no profile %s. To see them all: gharbor list", Clip(name))
}

// Aliases gives the files of aliases in reach.
func (r Reach) Aliases() (*alias.Book, profile.Library, error) {
	library, err := r.Library()
	if err != nil {
		return nil, library, err
	}
	book, err := r.Book(library.Mine, library.Project)
	return book, library, err
}

// BookChanged says that a file of aliases was changed: it is read anew.
func (r Reach) BookChanged() {
	r.read.Lock()
	defer r.read.Unlock()
	if r.read.book != nil {
		r.read.book.Forget()
	}
}

// Find gives the store and the bare name of a profile that must be there.
func (r Reach) Find(library profile.Library, name string) (profile.Store, string, error) {
	store, bare, err := library.Find(name)
	if err != nil {
		if layer, inner := profile.SplitLayer(name); profile.CheckName(inner) != nil && layer+inner != "" {
			return store, bare, Usage("%v", err)
		}
		return store, bare, r.LoadError(library, name, err)
	}
	return store, bare, nil
}
