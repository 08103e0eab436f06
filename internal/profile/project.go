package profile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"gentle-harbor/internal/files"
)

// ProjectFolder is the name of a project's folder of profiles.
const ProjectFolder = ".gentle-harbor"

// FindProject looks for the nearest ProjectFolder at or above a folder, up to the home folder or
// the border of a file system, and gives its store; its Dir is "" when there is none. A folder
// that another user could have planted or can write to is passed over, and the error says why.
func FindProject(from, home string) (Store, error) {
	from, err := filepath.Abs(from)
	if err != nil {
		return Store{}, nil
	}
	if real, err := filepath.EvalSymlinks(home); err == nil {
		home = real
	}
	if real, err := filepath.EvalSymlinks(from); err == nil {
		from = real
	}
	device, _ := deviceOf(from)
	for folder := from; ; folder = filepath.Dir(folder) {
		if here, ok := deviceOf(folder); ok && here != device {
			return Store{}, nil
		}
		path := filepath.Join(folder, ProjectFolder)
		info, err := os.Lstat(path)
		switch {
		case err == nil:
			if problem := safeProject(path, info); problem != nil {
				return Store{}, fmt.Errorf("the project folder %s is passed over: %w", path, problem)
			}
			return Store{Dir: path, Project: true}, nil
		case !errors.Is(err, fs.ErrNotExist):
			return Store{}, nil
		}
		if folder == home || folder == filepath.Dir(folder) {
			return Store{}, nil
		}
	}
}

func safeProject(path string, info fs.FileInfo) error {
	if !info.IsDir() {
		return errors.New("it is not a folder, or a link to one")
	}
	for _, each := range []string{path, filepath.Join(path, "profiles")} {
		info, err := os.Lstat(each)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil || !info.IsDir() {
			return fmt.Errorf("%s is not a folder, or a link to one", each)
		}
		if err := files.Closed(each); err != nil {
			return err
		}
	}
	return nil
}

// MakeProject makes a project's folder below a folder, with a README that says what it is.
func MakeProject(below string) (Store, error) {
	dir := filepath.Join(below, ProjectFolder)
	if err := os.MkdirAll(filepath.Join(dir, "profiles"), 0o755); err != nil {
		return Store{}, err
	}
	readme := filepath.Join(dir, "README.md")
	if _, err := os.Lstat(readme); errors.Is(err, fs.ErrNotExist) {
		text := "Connection profiles of this project, for `gharbor list` and `gharbor test`. They are meant to " +
			"be committed.\nNo password belongs in here: a profile says with `secret:` where each person has it.\n"
		if err := os.WriteFile(readme, []byte(text), 0o644); err != nil {
			return Store{}, err
		}
	}
	ignored := filepath.Join(dir, ".gitignore")
	if _, err := os.Lstat(ignored); errors.Is(err, fs.ErrNotExist) {
		if err := os.WriteFile(ignored, []byte(".lock\n"), 0o644); err != nil {
			return Store{}, err
		}
	}
	return Store{Dir: dir, Project: true}, nil
}
