package files

import (
	"errors"
	"io"
	"os"
	"path/filepath"
)

// OpenError is why a path is not closed to others, with the way to close it.
type OpenError struct {
	// Path is what is open: the file, a folder above it, or a link on the way.
	Path string
	// Kind says which of these: "file", "folder" or "link".
	Kind string
	// Why continues a sentence that begins with Path.
	Why string
	// Fix is a command; Advice, where it is not empty, says what to do before it, or instead of it.
	Fix, Advice string
	// Mode is set where the mode is wrong, and not the owner.
	Mode bool
}

// Error gives the path, why it is open, and the fix.
func (e *OpenError) Error() string {
	if e.Advice != "" {
		return e.Path + " " + e.Why + ". " + e.Advice + ": " + e.Fix
	}
	return e.Path + " " + e.Why + "; fix: " + e.Fix
}

// ReadOwn is [Read] for a file that decides what this program does, the user's own or a
// project's: it must be closed to others, as [Closed] has it. The error wraps an *[OpenError]
// when it is open.
func ReadOwn(path string, limit int64) ([]byte, error) {
	file, _, err := OpenOwn(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return all(file, path, limit)
}

// ReadOwnEnd is [ReadOwn] for the last n bytes of a file; whole says that these are all that it
// has.
func ReadOwnEnd(path string, n int64) (data []byte, whole bool, err error) {
	file, info, err := OpenOwn(path)
	if err != nil {
		return nil, false, err
	}
	defer file.Close()
	begin := max(info.Size()-n, 0)
	data = make([]byte, info.Size()-begin)
	read, err := file.ReadAt(data, begin)
	if errors.Is(err, io.EOF) { // it was cut meanwhile
		err = nil
	}
	return data[:read], begin == 0, err
}

// OpenOwn is [Open] for a file that must be closed to others. The way to it is looked at first:
// once that is closed, only this user and root can change what is opened.
func OpenOwn(path string) (*os.File, os.FileInfo, error) {
	if err := Closed(path); err != nil {
		return nil, nil, err
	}
	file, info, err := Open(path)
	if err == nil {
		if err = closed(path, info); err != nil {
			_ = file.Close()
		}
	}
	return file, info, err
}

// TempFolder makes a folder for what a run needs for a moment, open to this account alone: in the
// system's folder for such things where no one else could change what is in it (/tmp is sticky),
// else in own, a folder of this program's.
func TempFolder(own, pattern string) (string, error) {
	temp := os.TempDir()
	if Closed(filepath.Join(temp, "x")) != nil {
		if own == "" {
			return "", &OpenError{Path: temp, Kind: "folder",
				Why: "is open to others, and no other folder is there for what is needed for a moment",
				Fix: "unset TMPDIR"}
		}
		if err := settle(own); err != nil {
			return "", err
		}
		temp = own
	}
	return os.MkdirTemp(temp, pattern)
}

// Settle makes a folder for files of this program's own, with those above it, unless others could
// change what is in it: the way there is looked at first.
func Settle(folder string) error { return settle(folder) }

// settle makes a folder for files of this program's own, open to its owner alone, unless others
// could change what is in it.
func settle(folder string) error {
	if err := Closed(filepath.Clean(folder)); err != nil {
		return err
	}
	return os.MkdirAll(folder, 0o700)
}
