package profile

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"gentle-harbor/internal/files"
)

// Store is a folder of profiles, a file each: DIR/profiles/GROUP/NAME.yaml.
type Store struct {
	Dir string
	// Project says that it is a project's, whose files are a stranger's until they are agreed to.
	Project bool
	memory  *sync.Map // groups' files that were read; nil remembers none
}

// ErrUnknown says that no profile has a name; ErrExists that one has it already.
var (
	ErrUnknown = errors.New("no such profile")
	ErrExists  = errors.New("the profile exists already")
)

// Path gives where the profile of a name is kept. The name must have passed CheckName.
func (s Store) Path(name string) string {
	return filepath.Join(s.Dir, "profiles", filepath.FromSlash(name)+".yaml")
}

// Load reads the file of the profile of a name, without its bases and groups. An unknown name is
// ErrUnknown, a broken file *FileError values.
func (s Store) Load(name string) (Layer, error) {
	if err := CheckName(name); err != nil {
		return nil, err
	}
	return s.read(name, LayerProfile)
}

func (s Store) read(name string, kind LayerName) (Layer, error) {
	return s.parseFile(s.Path(name), kind)
}

// Names lists the profiles in order of the alphabet. Files that are no profiles are passed over.
func (s Store) Names() ([]string, error) {
	var names []string
	root := filepath.Join(s.Dir, "profiles")
	err := files.Walk(root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) && path == root {
				return nil
			}
			return err
		}
		if entry.IsDir() && strings.HasPrefix(entry.Name(), ".") && path != root {
			return fs.SkipDir
		}
		inside, _ := filepath.Rel(root, path)
		name, ok := strings.CutSuffix(filepath.ToSlash(inside), ".yaml")
		if ok && !entry.IsDir() && CheckName(name) == nil {
			names = append(names, name)
		}
		return nil
	})
	slices.Sort(names)
	return names, err
}

// Save writes a new profile's file. One of that name already is ErrExists, unless replace is set.
func (s Store) Save(ctx context.Context, name string, layer Layer, replace bool) error {
	data, err := Render(layer)
	if err != nil {
		return err
	}
	return s.Put(ctx, name, data, replace)
}

// Put writes a profile's file with a text that must be a good one. One of that name already is
// ErrExists, unless replace is set.
func (s Store) Put(ctx context.Context, name string, data []byte, replace bool) error {
	if err := CheckName(name); err != nil {
		return err
	}
	if err := s.check(name, data); err != nil {
		return err
	}
	unlock, err := s.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	path := s.Path(name)
	if _, err := os.Lstat(path); err == nil && !replace {
		return ErrExists
	}
	return s.write(path, data)
}

// write puts a file in place: a user's own is for its owner's eyes, a project's as the umask
// would have it.
func (s Store) write(path string, data []byte) error {
	if !s.Project {
		return files.Write(path, data, 0o600)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return files.Write(path, data, 0o644)
}

// check says why a text cannot be a profile's file in this store.
func (s Store) check(name string, data []byte) error {
	path := s.Path(name)
	layer, err := Parse(data, path, LayerProfile)
	if err == nil && s.Project { // what would be refused when it is read is not written
		_, err = s.Strangers(data, path, 0, layer)
	}
	return err
}

// Text gives a profile's file as it is.
func (s Store) Text(name string) ([]byte, error) {
	if err := CheckName(name); err != nil {
		return nil, err
	}
	data, err := files.ReadOwn(s.Path(name), MaxFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrUnknown
	}
	if err != nil {
		return nil, unreadable(s.Path(name), err)
	}
	return data, nil
}

// unread is the error for a file that is not read: a *FileError, and what it comes from, such as
// a *files.OpenError for one that is open to others.
type unread struct {
	*FileError
	cause error
}

// Unwrap gives both.
func (e unread) Unwrap() []error { return []error{e.FileError, e.cause} }

// unreadable is the error for a file that could not be read.
func unreadable(path string, err error) error {
	if errors.Is(err, files.ErrTooLarge) {
		return &FileError{path, 1, tooLarge}
	}
	if open := (*files.OpenError)(nil); errors.As(err, &open) {
		return unread{&FileError{path, 1,
			"this file is not used: " + strings.Replace(open.Error(), path+" ", "it ", 1)}, open}
	}
	var at *fs.PathError
	if errors.As(err, &at) {
		err = at.Err
	}
	if errors.Is(err, fs.ErrPermission) {
		return unread{&FileError{path, 1, "the file, or its folder, is not readable for you"}, err}
	}
	return &FileError{path, 1, "the file cannot be read: " + err.Error()}
}

// Update changes a profile's file by a function of its text, under the store's lock.
func (s Store) Update(ctx context.Context, name string, change func(data []byte, path string) ([]byte, error)) error {
	if err := CheckName(name); err != nil {
		return err
	}
	unlock, err := s.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	data, err := s.Text(name)
	if err != nil {
		return err
	}
	changed, err := change(data, s.Path(name))
	if err != nil {
		return err
	}
	if err := s.check(name, changed); err != nil {
		return err
	}
	return s.write(s.Path(name), changed)
}

// Remove deletes a profile's file, and the folders of groups that it leaves empty. An unknown
// name is ErrUnknown.
func (s Store) Remove(ctx context.Context, name string) error {
	if err := CheckName(name); err != nil {
		return err
	}
	unlock, err := s.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	path := s.Path(name)
	if err := os.Remove(path); errors.Is(err, fs.ErrNotExist) {
		return ErrUnknown
	} else if err != nil {
		return err
	}
	for folder := filepath.Dir(path); folder != filepath.Join(s.Dir, "profiles"); folder = filepath.Dir(folder) {
		if os.Remove(folder) != nil {
			break
		}
	}
	return nil
}

func (s Store) lock(ctx context.Context) (unlock func(), err error) {
	return files.Lock(ctx, filepath.Join(s.Dir, ".lock"))
}

// Rewrite changes a profile's or a group's file by a function of its text, under the store's
// lock. The result must be a good one.
func (s Store) Rewrite(ctx context.Context, path string, change func(data []byte) ([]byte, error)) error {
	unlock, err := s.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	data, err := files.ReadOwn(path, MaxFile)
	if err != nil {
		return unreadable(path, err)
	}
	changed, err := change(data)
	if err != nil {
		return err
	}
	kind := LayerProfile
	if filepath.Base(path) == "group.yaml" {
		kind = LayerGroup
	}
	if _, err := Parse(changed, path, kind); err != nil {
		return err
	}
	return s.write(path, changed)
}
