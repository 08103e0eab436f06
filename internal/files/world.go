package files

import (
	"cmp"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
)

// World is what a run of the program was handed of the account that it runs for. Nothing below
// asks the process for it.
type World struct {
	// Dir is the folder of the run, "" for the process's own.
	Dir  string
	Home string // the account's home folder, "" when none is known
	Path string // the folders in which programs are looked for, as in the variable PATH
	// Far reports whether the container engine that is chosen is on another machine, which is
	// reached without a hop. It may be nil.
	Far func() bool
	// Cloud gives where the cloud of one of the user's accounts is, and what is wrong with the
	// account, as a sentence. It may be nil.
	Cloud func(account string) (at Cloud, wrong string)
}

// Cloud is where a cloud is: its URL, and the host and port in it.
type Cloud struct {
	URL, Host string
	Port      int
}

// Absolute gives the path that a text means: "~" is the home folder, and a relative one starts in
// a folder, "" for that of the run. Where no home folder is known, "~" leads nowhere.
func (w World) Absolute(path, from string) string {
	if rest, ok := strings.CutPrefix(path, "~"); ok && (rest == "" || rest[0] == '/' || rest[0] == filepath.Separator) {
		if w.Home == "" {
			return string(filepath.Separator) + path
		}
		return filepath.Join(w.Home, rest)
	}
	if !filepath.IsAbs(path) {
		path = filepath.Join(cmp.Or(from, w.Dir), path)
	}
	if absolute, err := filepath.Abs(path); err == nil {
		return absolute
	}
	return path
}

// Program gives the path of the program that a command names: the path itself, or the first file
// of that name in Path that may be run. The error wraps exec.ErrNotFound.
func (w World) Program(name string) (string, error) {
	if runtime.GOOS == "windows" || strings.ContainsRune(name, filepath.Separator) {
		return exec.LookPath(name) // there, a program has several endings; and a path needs no search
	}
	for _, folder := range filepath.SplitList(w.Path) {
		path := filepath.Join(folder, name)
		if info, err := os.Stat(path); filepath.IsAbs(folder) && err == nil && info.Mode().IsRegular() &&
			info.Mode().Perm()&0o111 != 0 {
			return path, nil
		}
	}
	return "", &exec.Error{Name: name, Err: errors.Join(exec.ErrNotFound, fs.ErrNotExist)}
}

// Walk is filepath.WalkDir for a root that may be a link to a folder, as people have who keep
// their settings elsewhere. The paths are those below root as it was given.
func Walk(root string, visit fs.WalkDirFunc) error {
	real, err := filepath.EvalSymlinks(root)
	if err != nil {
		return filepath.WalkDir(root, visit)
	}
	return filepath.WalkDir(real, func(path string, entry fs.DirEntry, err error) error {
		below, e := filepath.Rel(real, path)
		if e != nil {
			return e
		}
		return visit(filepath.Join(root, below), entry, err)
	})
}
