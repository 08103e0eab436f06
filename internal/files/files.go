// Package files writes files so that a reader, a crash or a second writer never meets half of
// one, and reads a user's own files only where nobody else could have written them.
package files

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/gofrs/flock"
)

// Write puts data instead of path in one step: a new file beside it, synced, then renamed over
// it. The folder is made when it is missing, open to the owner alone; one that is open to others
// is refused with an *[OpenError]. On an error the old file stands as it was.
func Write(path string, data []byte, mode fs.FileMode) error {
	if err := settle(filepath.Dir(path)); err != nil {
		return err
	}
	return replace(path, data, mode)
}

// replace is Write into a folder that is there, whoever may write to it.
func replace(path string, data []byte, mode fs.FileMode) (err error) {
	folder := filepath.Dir(path)
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

// Lock takes the lock file at path, waiting while another process has it, until ctx ends or ten
// seconds are over. The lock ends with unlock, or with the process. A folder that is open to
// others is refused with an *[OpenError].
func Lock(ctx context.Context, path string) (unlock func(), err error) {
	return LockFor(ctx, path, 10*time.Second)
}

// LockFor is Lock with another patience than ten seconds.
func LockFor(ctx context.Context, path string, patience time.Duration) (unlock func(), err error) {
	if err := settle(filepath.Dir(path)); err != nil {
		return nil, err
	}
	leave, err := queue(ctx, path)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			leave()
		}
	}()
	lock, began := flock.New(path), time.Now()
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	ok, err := lock.TryLockContext(ctx, 5*time.Millisecond)
	if !ok {
		if ctx.Err() != nil {
			return nil, &HeldError{path, time.Since(began), ctx.Err()}
		}
		return nil, err
	}
	return func() { _ = lock.Unlock(); leave() }, nil
}

// HeldError says that another process held a lock file for as long as it could be waited for.
type HeldError struct {
	Path   string
	Waited time.Duration // how long it was waited for, which is less than the patience where the caller's time was over
	Err    error         // the context's
}

// Error says it in words.
func (e *HeldError) Error() string {
	return fmt.Sprintf("another gharbor has used %s for %s", e.Path, e.Waited.Round(100*time.Millisecond))
}

// Unwrap gives Err.
func (e *HeldError) Unwrap() error { return e.Err }

// lines has the queue of each lock file that this process has asked for: a channel with room for
// the one whose turn it is.
var lines sync.Map // path to chan struct{}

// queue waits for this process's turn at the lock file at path, in the order of asking, for a
// minute at most. So the patience of [LockFor] is spent on other processes alone, and not on the
// many changes that one process makes itself.
func queue(ctx context.Context, path string) (leave func(), err error) {
	line, _ := lines.LoadOrStore(path, make(chan struct{}, 1))
	turn := line.(chan struct{})
	over := time.NewTimer(time.Minute)
	defer over.Stop()
	select {
	case turn <- struct{}{}:
		return func() { <-turn }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-over.C:
		return nil, fmt.Errorf("this gharbor has used %s for a minute", path)
	}
}

// Home gives the home folder that the system's list of users has for this process's account, for
// one that is not told of any by HOME.
func Home() (string, error) {
	me, err := user.Current()
	if err != nil {
		return "", err
	}
	if !filepath.IsAbs(me.HomeDir) {
		return "", errors.New("this account has no home folder")
	}
	return me.HomeDir, nil
}

// Account gives the name and the number of this process's account, "" and -1 where the system has
// none.
func Account() (name string, uid int) {
	me, err := user.Current()
	if err != nil {
		return "", -1
	}
	name = me.Username
	if at := strings.LastIndexByte(name, '\\'); at >= 0 {
		name = name[at+1:] // Windows puts the domain before it
	}
	if uid, err = strconv.Atoi(me.Uid); err != nil {
		uid = -1
	}
	return name, uid
}

// Errors of [Open] and [Read], wrapped with the file's path.
var (
	// ErrKind is the error for a folder, a pipe, a socket or a device instead of a regular file.
	ErrKind = errors.New("is not a regular file")
	// ErrOutside is the error for a path that leads out of its folder.
	ErrOutside = errors.New("is outside of its folder")
	// ErrTooLarge is the error for a file of more bytes than may be read.
	ErrTooLarge = errors.New("is larger than such a file can be")
)

// Open opens a regular file for reading, without waiting: a pipe in its place would keep its
// opener waiting for a writer. It looks at what was opened, not at the name.
func Open(path string) (*os.File, fs.FileInfo, error) {
	return regular(path, os.OpenFile)
}

// OpenIn is [Open] for a file in a folder, or below it. No link leads out of the folder, also not
// one that comes in the place of another meanwhile; its error wraps [ErrOutside] where one would.
func OpenIn(folder *os.Root, path string) (*os.File, fs.FileInfo, error) {
	file, info, err := regular(path, folder.OpenFile)
	var system syscall.Errno
	if err != nil && !errors.As(err, &system) && !errors.Is(err, ErrKind) { // the folder refuses it, and not the system
		err = &fs.PathError{Op: "open", Path: path, Err: ErrOutside}
	}
	return file, info, err
}

// regular opens a regular file with a way to open one.
func regular(path string, open func(string, int, os.FileMode) (*os.File, error)) (*os.File, fs.FileInfo, error) {
	file, err := open(path, os.O_RDONLY|noWait, 0)
	if err != nil {
		return nil, nil, err
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: path, Err: ErrKind}
	}
	if err != nil {
		_ = file.Close()
		return nil, nil, err
	}
	return file, info, nil
}

// Read gives a regular file's content. A file of more than limit bytes is refused, not used as
// far as it was read.
func Read(path string, limit int64) ([]byte, error) {
	file, _, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return all(file, path, limit)
}

// ReadIn is [Read] for a file in a folder, or below it: see [OpenIn].
func ReadIn(folder, path string, limit int64) ([]byte, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	file, _, err := OpenIn(root, path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return all(file, path, limit)
}

func all(from io.Reader, path string, limit int64) ([]byte, error) {
	var b bytes.Buffer
	if file, is := from.(*os.File); is {
		if info, err := file.Stat(); err == nil && info.Size() > 0 && info.Size() <= limit {
			b.Grow(int(info.Size()) + bytes.MinRead) // immediately, where a large file would be copied again and again
		}
	}
	_, err := b.ReadFrom(io.LimitReader(from, limit+1))
	data := b.Bytes()
	if err == nil && int64(len(data)) > limit {
		err = &fs.PathError{Op: "read", Path: path, Err: ErrTooLarge}
	}
	if err != nil {
		return nil, err
	}
	return data, nil
}

// ReadNamed is [Read] for a file that a person names: it may also be a pipe, such as a shell
// makes for the output of a program, which is waited for until ctx ends.
func ReadNamed(ctx context.Context, path string, limit int64) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Mode()&fs.ModeNamedPipe == 0 {
		return Read(path, limit)
	}
	type result struct {
		data []byte
		err  error
	}
	done := make(chan result, 1)
	go func() {
		pipe, err := os.Open(path)
		if err != nil {
			done <- result{nil, err}
			return
		}
		defer pipe.Close()
		data, err := all(pipe, path, limit)
		done <- result{data, err}
	}()
	select {
	case r := <-done:
		return r.data, r.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Erase overwrites a regular file with zeros, as far as the file system writes in place, and
// removes it.
func Erase(path string) error {
	file, err := os.OpenFile(path, os.O_WRONLY|noWait, 0)
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

// Deliver writes what a user asked for into path, in one step, instead of an older file. A link
// is replaced, and what it led to stays as it is; a device, a pipe, and what the system shows as
// a file of its own are written to.
func Deliver(path string, data []byte) error {
	info, err := os.Stat(path)
	special := err == nil && !info.Mode().IsRegular() && !info.IsDir()
	if !special && !strings.HasPrefix(path, "/dev/") && !strings.HasPrefix(path, "/proc/") {
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		return replace(path, data, 0o644)
	}
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		return err
	}
	_, err = file.Write(data)
	if e := file.Close(); err == nil {
		err = e
	}
	return err
}
