package profile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/secret"
)

// Library is all profiles that a user has in reach: the user's own, and those of the project in
// whose folder the program was started, if there is one.
type Library struct {
	Mine    Store
	Project Store // its Dir is "" where there is no project
	World   files.World
	// Aliases finds what the setting alias names; nil knows none.
	Aliases Aliases
}

// Stack is a profile with all that its files say: its layers, highest first, and who had a part
// in them.
type Stack struct {
	Name   string // as it is shown: without a layer where that is clear
	Store  Store
	Bare   string // the name within the store
	Layers []Layer
	// Stranger says that a project's file has a part in it.
	Stranger bool
	World    files.World
	Aliases  Aliases
}

// AmbiguousError says that both layers have a profile of a name.
type AmbiguousError struct{ Name string }

// Error names both.
func (e *AmbiguousError) Error() string {
	return fmt.Sprintf("both you and the project have a profile %s; name one of them: mine:%s or project:%s",
		e.Name, e.Name, e.Name)
}

// stores gives those that a layer's word names, all for "".
func (l Library) stores(layer string) []Store {
	var list []Store
	if layer != "project" {
		list = append(list, l.Mine)
	}
	if layer != "mine" && l.Project.Dir != "" {
		list = append(list, l.Project)
	}
	return list
}

// Find says in which store the profile of a name is, and its name there. It is ErrUnknown when no
// store has it, *AmbiguousError when both have, except where the user's own is a variant of the
// project's.
func (l Library) Find(name string) (Store, string, error) {
	layer, bare := SplitLayer(name)
	if err := CheckName(bare); err != nil {
		return Store{}, "", err
	}
	var found []Store
	for _, store := range l.stores(layer) {
		if _, err := os.Lstat(store.Path(bare)); err == nil {
			found = append(found, store)
		} else if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrInvalid) {
			return Store{}, "", err
		}
	}
	switch len(found) {
	case 0:
		return Store{}, "", ErrUnknown
	case 2:
		if own, err := l.Mine.Load(bare); err == nil && own["base"].Text != "project:"+bare {
			return Store{}, "", &AmbiguousError{bare}
		}
	}
	return found[0], bare, nil
}

// Load reads a profile with its bases and groups. Errors are *FileError values, ErrUnknown,
// *AmbiguousError.
func (l Library) Load(name string) (Stack, error) {
	store, bare, err := l.Find(name)
	if err != nil {
		return Stack{}, err
	}
	s := Stack{Name: bare, Store: store, Bare: bare, World: l.World, Aliases: l.Aliases}
	if layer, _ := SplitLayer(name); layer != "" {
		s.Name = name
	}
	if err := l.chain(&s, nil); err != nil {
		return s, err
	}
	groups, err := store.groups(bare)
	if err != nil {
		return s, err
	}
	s.Layers = append(s.Layers, groups...)
	for _, layer := range s.Layers {
		for _, v := range layer {
			s.Stranger = s.Stranger || v.Origin.Project != ""
		}
	}
	s.Stranger = s.Stranger || store.Project || s.Strange()
	return s, nil
}

// maxBases bounds a chain of bases.
const maxBases = 16

// CheckBase says why a profile cannot have a base: none of that name, or a circle.
func (l Library) CheckBase(store Store, name, base string) error {
	s := Stack{Store: store, Bare: name}
	return l.chain(&s, Layer{"base": {Text: base, Origin: Origin{File: store.Path(name), Line: 1}}})
}

// chain reads the profile and its bases; first stands for the profile's own file when it is not
// nil.
func (l Library) chain(s *Stack, first Layer) error {
	store, bare, kind := s.Store, s.Bare, LayerProfile
	var chain []string
	for {
		called := store.word() + bare
		if slices.Contains(chain, called) {
			return fmt.Errorf("the bases go round in a circle: %s; take one of these base settings out",
				strings.Join(append(chain, called), " → "))
		}
		if chain = append(chain, called); len(chain) > maxBases {
			return fmt.Errorf("the chain of bases is longer than %d: %s", maxBases, strings.Join(chain, " → "))
		}
		layer, err := first, error(nil)
		if layer == nil {
			layer, err = store.read(bare, kind)
		}
		if first = nil; err != nil {
			return err
		}
		s.Layers = append(s.Layers, layer)
		base, ok := layer["base"]
		if !ok || base.Text == "" {
			return nil
		}
		if kind == LayerBase {
			delete(layer, "base") // a base's base is not the profile's
		}
		fail := func(format string, args ...any) error {
			return &FileError{base.Origin.File, base.Origin.Line, fmt.Sprintf(format, args...)}
		}
		word, name := SplitLayer(base.Text)
		switch {
		case word == "mine" && store.Project:
			return fail("a project's profile cannot start from one of a user's own (%s)", base.Text)
		case word == "project" && l.Project.Dir == "":
			return fail("the base is %s, and there is no project in or above the current folder", base.Text)
		case word == "project":
			store = l.Project
		case word == "mine":
			store = l.Mine
		}
		bare, kind = name, LayerBase
		if _, err := os.Lstat(store.Path(bare)); err != nil {
			names, _ := store.Names()
			if near := Nearest(bare, names); near != "" {
				return fail("the base is %s, and there is no such profile; did you mean %s?", base.Text, near)
			}
			return fail("the base is %s, and there is no such profile", base.Text)
		}
	}
}

// Stack gives a stack of layers that no file says, such as those of a connection string.
func (l Library) Stack(name string, layers ...Layer) Stack {
	return Stack{Name: name, Layers: layers, World: l.World, Aliases: l.Aliases}
}

// Draft gives the stack that a profile's file would have with the values of a layer, were it
// saved. Bases and groups that cannot be read are left out.
func (l Library) Draft(store Store, name string, own Layer) Stack {
	s := Stack{Name: name, Store: store, Bare: name, World: l.World, Aliases: l.Aliases}
	if l.chain(&s, own) != nil {
		s.Layers = []Layer{own}
	}
	groups, _ := store.groups(name)
	s.Layers = append(s.Layers, groups...)
	return s
}

// Resolve decides a stack's settings, with layers of this run over the files'.
func (s Stack) Resolve(over ...Layer) Effective {
	return resolve(s.World, s.Aliases, s.Name, append(over, s.Layers...))
}

// Strange reports whether an alias of a project has a part in what the stack says, with layers of
// this run over it.
func (s Stack) Strange(over ...Layer) bool {
	layers := append(over, s.Layers...)
	if !slices.ContainsFunc(layers, func(l Layer) bool { return l["alias"].Text != "" }) {
		return false
	}
	e := resolve(s.World, s.Aliases, s.Name, layers)
	return e.AliasAt.Project != ""
}

// Entry is a name in a Library's list.
type Entry struct {
	Name    string // with its layer where both have one of that name
	Project bool
}

// List gives all profiles in order of the alphabet, the user's own before the project's. A
// project's profile of which the user has a variant is left out: the variant stands for it.
func (l Library) List() ([]Entry, error) {
	mine, err := l.Mine.Names()
	if err != nil {
		return nil, err
	}
	var list []Entry
	hidden := map[string]bool{}
	var theirs []string
	if l.Project.Dir != "" {
		if theirs, err = l.Project.Names(); err != nil {
			return nil, err
		}
	}
	for _, name := range mine {
		e := Entry{Name: name}
		if _, both := slices.BinarySearch(theirs, name); both {
			if own, err := l.Mine.Load(name); err == nil && own["base"].Text == "project:"+name {
				hidden[name] = true
			} else {
				e.Name = "mine:" + name
			}
		}
		list = append(list, e)
	}
	for _, name := range theirs {
		e := Entry{name, true}
		if hidden[name] {
			continue
		}
		if _, both := slices.BinarySearch(mine, name); both {
			e.Name = "project:" + name
		}
		list = append(list, e)
	}
	return list, nil
}

// word gives "project:" for a project's store, "" for the user's own.
func (s Store) word() string {
	if s.Project {
		return "project:"
	}
	return ""
}

// groups reads the group.yaml files above a profile, the nearest first.
func (s Store) groups(name string) ([]Layer, error) {
	var layers []Layer
	for {
		cut := strings.LastIndexByte(name, '/')
		if cut < 0 {
			name = ""
		} else {
			name = name[:cut]
		}
		path := filepath.Join(s.Dir, "profiles", filepath.FromSlash(name), "group.yaml")
		layer, err := s.cached(path)
		if err != nil {
			return nil, err
		}
		if layer != nil {
			layers = append(layers, layer)
		}
		if name == "" {
			return layers, nil
		}
	}
}

// cachedLayer is a group's file that was read in this run.
type cachedLayer struct {
	layer Layer
	err   error
}

// cached reads a group's file, nil when there is none; once in a run where the library remembers.
func (s Store) cached(path string) (Layer, error) {
	if s.memory != nil {
		if kept, ok := s.memory.Load(path); ok {
			return kept.(cachedLayer).layer, kept.(cachedLayer).err
		}
	}
	layer, err := s.parseFile(path, LayerGroup)
	if errors.Is(err, ErrUnknown) {
		layer, err = nil, nil
	}
	if s.memory != nil {
		s.memory.Store(path, cachedLayer{layer, err})
	}
	return layer, err
}

// Remembering gives the library for a run that reads many profiles: each group's file is read once.
func (l Library) Remembering() Library {
	l.Mine.memory, l.Project.memory = &sync.Map{}, &sync.Map{}
	return l
}

// parseFile reads one file of the store. A project's file must lie in the project, hold nothing
// like a secret, and name no file outside.
func (s Store) parseFile(path string, kind LayerName) (Layer, error) {
	if s.Project {
		if err := s.Inside(path); err != nil {
			return nil, &FileError{path, 1, err.Error()}
		}
	}
	data, err := files.ReadOwn(path, MaxFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrUnknown
	}
	if err != nil {
		return nil, unreadable(path, err)
	}
	layer, err := Parse(data, path, kind)
	if err != nil || !s.Project {
		return layer, err
	}
	return s.Strangers(data, path, 0, layer)
}

// Strangers marks a layer that a project's file says, and says why it may not say it: the text
// holds something like a secret, or a value leads out of the project. Above is how many lines of
// the file are above the text.
func (s Store) Strangers(data []byte, path string, above int, layer Layer) (Layer, error) {
	if err := secretLike(data, path); err != nil {
		err.(*FileError).Line += above
		return nil, err
	}
	for name, v := range layer {
		v.Origin.Project = s.Dir
		layer[name] = v
		if err := s.keepsInside(name, v); err != nil {
			return nil, &FileError{path, v.Origin.Line, err.Error()}
		}
	}
	return layer, nil
}

// Inside says why a path does not lie in the project once links are followed. What does not exist
// is taken as it is written.
func (s Store) Inside(path string) error {
	root, err := filepath.EvalSymlinks(filepath.Dir(s.Dir))
	if err != nil {
		return fmt.Errorf("the project's folder cannot be followed: %w", err)
	}
	real, err := filepath.EvalSymlinks(path)
	if errors.Is(err, fs.ErrNotExist) {
		real, err = filepath.Abs(path)
		if parent, e := filepath.EvalSymlinks(filepath.Dir(path)); e == nil {
			real = filepath.Join(parent, filepath.Base(path))
		}
	}
	if err != nil {
		return fmt.Errorf("the path cannot be followed: %w", err)
	}
	if rest, err := filepath.Rel(root, real); err != nil || rest == ".." ||
		strings.HasPrefix(rest, ".."+string(filepath.Separator)) {
		return fmt.Errorf("a project's file may only name what is in the project, and %s leads out of it", quoted(path))
	}
	return nil
}

func (s Store) keepsInside(name string, v Value) error {
	if v.Text == "" {
		return nil
	}
	for _, text := range v.List {
		if name == "via" {
			if h, err := ParseHop(text); err == nil {
				if err := strangeHop(h); err != nil {
					return err
				}
			}
		}
	}
	if setting, _ := Find(name); setting.Type == Path && name != "socket" {
		return s.Inside(PathOf(files.World{}, v))
	}
	if name != "secret" {
		return nil
	}
	e := Resolve(files.World{}, "", Layer{"secret": v})
	switch e.Secret.Kind {
	case secret.Credentials:
		if e.Secret.Of != "" {
			return errors.New("a project's file names no file with passwords: one in the project would be " +
				"passwords in a repository, and one outside is not the project's; write `secret: credentials`, " +
				"or name the file in a profile of your own with `base: project:…`")
		}
	case secret.File:
		return errors.New("a project's file names no file with a password: one in the project would be a " +
			"password in a repository, and one outside is not the project's; say it in a profile of your own " +
			"with `base: project:…`")
	case secret.Command:
		if program := e.Secret.Args[0]; strings.ContainsAny(program, `/\`) {
			return s.Inside(program)
		}
	}
	return nil
}

// hints are what looks like a secret in a file to be shared.
var hints = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)://[^\s/@:]*:[^\s/@]+@|-----BEGIN [A-Z ]*PRIVATE KEY|\b(?:password|passwd|passphrase|pwd|api[_-]?key|token)\b["']?\s*[:=]\s*["']?[^\s"'#]{3,}|\b(?:identified\s+by|password)\s+["'][^"']+["']`)
})

// secretLike refuses a project's file that holds anything like a secret, comments included. The
// error does not repeat it.
func secretLike(data []byte, path string) error {
	if lines := SecretLike(data); len(lines) > 0 {
		return &FileError{path, lines[0],
			"this looks like a secret, and a project's files are shared; take it out, and say where the " +
				"password comes from with `secret:`"}
	}
	return nil
}

// SecretLike gives the lines (from 1) of a text that hold anything like a password, a key or a
// token.
func SecretLike(data []byte) []int {
	var lines []int
	for n, line := range strings.Split(string(data), "\n") {
		if hints().MatchString(line) {
			lines = append(lines, n+1)
		}
	}
	return lines
}

// Reference is a profile whose base is another.
type Reference struct {
	Store      Store
	Name, Base string // its name, and the base as it is written
	File       string
	Line       int
}

// References lists the profiles whose files name another as their base.
func (l Library) References(of Store, name string) []Reference {
	var list []Reference
	for _, store := range l.stores("") {
		names, _ := store.Names()
		for _, each := range names {
			layer, err := store.Load(each)
			if err != nil {
				continue
			}
			base := layer["base"]
			word, bare := SplitLayer(base.Text)
			project := word == "project" || word == "" && store.Project
			if bare == name && project == of.Project {
				list = append(list, Reference{store, each, base.Text, base.Origin.File, base.Origin.Line})
			}
		}
	}
	return list
}
