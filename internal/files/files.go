// Package files writes files so that a reader, a crash or a second writer never meets half of one.
package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
)

// Write puts data in the place of path in one step: a new file beside it, synced, then renamed over it. The
// folder is made when it is missing, open to the owner alone. On an error the old file stands as it was.
func Write(path string, data []byte, mode fs.FileMode) (err error) {
	folder := filepath.Dir(path)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	file, err := os.CreateTemp(folder, ".new-*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = file.Close()
			_ = os.Remove(file.Name())
		}
	}()
	if err := file.Chmod(mode); err != nil {
		return err
	}
	if _, err := file.Write(data); err != nil {
		return err
	}
	if err := file.Sync(); err != nil {
		return err
	}
	if err := file.Close(); err != nil {
		return err
	}
	if err := os.Rename(file.Name(), path); err != nil {
		return err
	}
	return SyncFolder(folder)
}

// SyncFolder makes a folder's entries last through a crash, where the system can.
func SyncFolder(folder string) error {
	dir, err := os.Open(folder)
	if err != nil {
		return nil // renamed already; a folder that cannot be opened cannot be synced
	}
	defer dir.Close()
	_ = dir.Sync() // not every file system can
	return nil
}

// Lock takes the lock file at path, waiting while another process has it, until ctx ends or ten seconds are
// over. The lock ends with unlock, or with the process.
func Lock(ctx context.Context, path string) (unlock func(), err error) {
	return LockFor(ctx, path, 10*time.Second)
}

// LockFor is Lock with another patience than ten seconds.
func LockFor(ctx context.Context, path string, patience time.Duration) (unlock func(), err error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	lock := flock.New(path)
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	ok, err := lock.TryLockContext(ctx, 5*time.Millisecond)
	if !ok {
		if errors.Is(err, context.DeadlineExceeded) {
			return nil, fmt.Errorf("another gharbor has held %s for %s", path, patience)
		}
		return nil, err
	}
	return func() { _ = lock.Unlock() }, nil
}

// Home gives the user's home folder: HOME where it is set, else the one that the system's list of users has, so
// that a job with an empty environment finds its own too.
func Home() (string, error) {
	home, err := os.UserHomeDir()
	if err == nil {
		return home, nil
	}
	if me, e := user.Current(); e == nil && filepath.IsAbs(me.HomeDir) {
		return me.HomeDir, nil
	}
	return "", err
}

// Read gives a regular file's content, refusing one of more than limit bytes before reading it whole.
func Read(path string, limit int64) ([]byte, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a regular file", path)
	}
	data, err := io.ReadAll(io.LimitReader(file, limit+1))
	if err != nil {
		return nil, err
	}
	return data, nil
}

// Erase overwrites a regular file with zeros, as far as the file system writes in place, and removes it.
func Erase(path string) error {
	file, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	if info, err := file.Stat(); err == nil && info.Mode().IsRegular() {
		if _, err := io.CopyN(file, zeros{}, info.Size()); err == nil {
			_ = file.Sync()
		}
	}
	_ = file.Close()
	return os.Remove(path)
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }
