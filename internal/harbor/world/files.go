package world

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/profile"
)

// NewFile makes a file that was not there, for its owner alone.
func (w *World) NewFile(path, text string) error {
	path = w.Path(path)
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return Wrong("%s is there already, and is not overwritten; name another file", path)
	}
	if err != nil {
		return Wrong("%s could not be made: %v", path, err)
	}
	_, err = file.WriteString(text)
	if e := file.Close(); err == nil {
		err = e
	}
	if err != nil {
		_ = os.Remove(path)
		return Wrong("%s could not be written: %v", path, err)
	}
	return nil
}

// NewFolder makes a folder that was not there, for its owner alone, with a file for each pair. It
// gives the folder's path.
func (w *World) NewFolder(folder string, entries []profile.Pair) (string, error) {
	folder = w.Path(folder)
	if err := os.MkdirAll(filepath.Dir(folder), 0o755); err != nil {
		return folder, Wrong("%s could not be made: %v", folder, err)
	}
	if err := os.Mkdir(folder, 0o700); errors.Is(err, fs.ErrExist) {
		return folder, Wrong("%s is there already, and is not overwritten; name another folder", folder)
	} else if err != nil {
		return folder, Wrong("%s could not be made: %v", folder, err)
	}
	for _, entry := range entries {
		if err := w.NewFile(filepath.Join(folder, entry.Name), entry.Value); err != nil {
			return folder, err
		}
	}
	return folder, nil
}

// ReplaceFile writes a report's file, instead of an older one and in one step. A link is
// replaced, and what it led to stays as it is; a device, a pipe and what the system shows as a
// file of its own are written to.
func (w *World) ReplaceFile(path, text string) error {
	if err := files.Deliver(w.Path(path), []byte(text)); err != nil {
		return Wrong("the report could not be written: %v", err)
	}
	return nil
}
