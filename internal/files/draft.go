package files

import (
	"io/fs"
	"os"
	"path/filepath"
)

// Draft is a new file that has its name only once it is whole. It is its owner's alone.
type Draft struct {
	*os.File
	path string
}

// Begin makes the draft of a file in its folder, which must be there. A file of that name is an
// error that wraps [fs.ErrExist].
func Begin(path string) (*Draft, error) {
	if _, err := os.Lstat(path); err == nil {
		return nil, &fs.PathError{Op: "create", Path: path, Err: fs.ErrExist}
	}
	file, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return nil, err
	}
	return &Draft{file, path}, nil
}

// Keep gives the file its name. One that has come to that name meanwhile stays. After an error
// there is no draft any more.
func (d *Draft) Keep() (err error) {
	defer func() {
		if err != nil {
			d.Drop()
		}
	}()
	if err := d.Sync(); err != nil {
		return err
	}
	if err := d.Close(); err != nil {
		return err
	}
	err = os.Link(d.Name(), d.path) // unlike a rename, it takes nobody's place
	switch {
	case err == nil:
		_ = os.Remove(d.Name())
		return SyncFolder(filepath.Dir(d.path))
	case os.IsExist(err):
		return err
	} // a file system without links
	if err := os.Rename(d.Name(), d.path); err != nil {
		return err
	}
	return SyncFolder(filepath.Dir(d.path))
}

// Drop takes the draft away.
func (d *Draft) Drop() {
	_ = d.Close()
	_ = os.Remove(d.Name())
}
