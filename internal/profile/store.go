package profile

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"gentle-harbor/internal/files"
)

// Store is a folder of profiles, a file each: DIR/profiles/GROUP/NAME.yaml.
type Store struct{ Dir string }

// ErrUnknown says that no profile has a name; ErrExists that one has it already.
var (
	ErrUnknown = errors.New("no such profile")
	ErrExists  = errors.New("the profile exists already")
)

// Path gives where the profile of a name is kept. The name must have passed CheckName.
func (s Store) Path(name string) string {
	return filepath.Join(s.Dir, "profiles", filepath.FromSlash(name)+".yaml")
}

// Load reads the profile of a name. An unknown name is ErrUnknown, a broken file *FileError values.
func (s Store) Load(name string) (Layer, error) {
	if err := CheckName(name); err != nil {
		return nil, err
	}
	path := s.Path(name)
	data, err := files.Read(path, MaxFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrUnknown
	}
	if err != nil {
		return nil, &FileError{path, 1, "the file cannot be read: " + err.Error()}
	}
	return Parse(data, path, "profile")
}

// Names lists the profiles in order of the alphabet. Files that are no profiles are passed over.
func (s Store) Names() ([]string, error) {
	var names []string
	root := filepath.Join(s.Dir, "profiles")
	err := filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
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

// Save writes a profile's file. One of that name already is ErrExists, unless replace is set.
func (s Store) Save(ctx context.Context, name string, layer Layer, replace bool) error {
	if err := CheckName(name); err != nil {
		return err
	}
	data, err := Render(layer)
	if err != nil {
		return err
	}
	path := s.Path(name)
	if _, err := Parse(data, path, "profile"); err != nil {
		return fmt.Errorf("the profile would not be readable: %w", err)
	}
	unlock, err := s.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	if _, err := os.Lstat(path); err == nil && !replace {
		return ErrExists
	}
	return files.Write(path, data, 0o600)
}

// Remove deletes a profile's file, and the folders of groups that it leaves empty. An unknown name is
// ErrUnknown.
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
