//go:build unix

package files

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/gofrs/flock"
)

func TestRead(t *testing.T) {
	folder := t.TempDir()
	at := func(name string) string { return filepath.Join(folder, name) }
	for name, text := range map[string]string{"empty": "", "ten": "0123456789", "eleven": "0123456789a"} {
		must(t, os.WriteFile(at(name), []byte(text), 0o600))
	}
	if err := errors.Join(syscall.Mkfifo(at("pipe"), 0o600), syscall.Mkfifo(at("other"), 0o600),
		os.Symlink(at("pipe"), at("link")), os.Symlink(at("ten"), at("good"))); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]error{"empty": nil, "ten": nil, "good": nil, "eleven": ErrTooLarge,
		"pipe": ErrKind, "link": ErrKind, ".": ErrKind, "gone": fs.ErrNotExist} {
		began := time.Now()
		data, err := Read(at(name), 10)
		if !errors.Is(err, want) || err != nil && data != nil || time.Since(began) > 5*time.Second {
			t.Errorf("%s: %d bytes, %v, after %s", name, len(data), err, time.Since(began))
		}
		if err != nil && !strings.Contains(err.Error(), at(name)) && name != "." {
			t.Errorf("the error does not name the file: %v", err)
		}
	}
	// A pipe that a person names is waited for, until the wait ends.
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if _, err := ReadNamed(ctx, at("pipe"), 10); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("%v", err)
	}
	go func() { _ = os.WriteFile(at("other"), []byte("0123"), 0) }()
	if data, err := ReadNamed(t.Context(), at("other"), 10); err != nil || string(data) != "0123" {
		t.Errorf("%q, %v", data, err)
	}
}

// TestWalkFollowsItsRoot walks a folder through a link to it, and no link below.
func TestWalkFollowsItsRoot(t *testing.T) {
	dir := t.TempDir()
	for _, err := range []error{os.MkdirAll(filepath.Join(dir, "real/sub"), 0o700),
		os.WriteFile(filepath.Join(dir, "real/sub/f"), nil, 0o600),
		os.Symlink("real", filepath.Join(dir, "link")), os.Symlink("..", filepath.Join(dir, "real/up"))} {
		must(t, err)
	}
	var seen []string
	err := Walk(filepath.Join(dir, "link"), func(path string, _ fs.DirEntry, err error) error {
		below, _ := filepath.Rel(dir, path)
		seen = append(seen, filepath.ToSlash(below))
		return err
	})
	if got := strings.Join(seen, " "); err != nil || got != "link link/sub link/sub/f link/up" {
		t.Errorf("%s, %v", got, err)
	}
	if err := Walk(filepath.Join(dir, "none"), func(_ string, _ fs.DirEntry, err error) error {
		return err
	}); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("%v", err)
	}
}

// TestLockTakesTurns has many changes of one process wait for each other for longer than the
// patience with others.
func TestLockTakesTurns(t *testing.T) {
	path := filepath.Join(t.TempDir(), ".lock")
	var all sync.WaitGroup
	inside := make(chan struct{}, 1)
	for range 8 {
		all.Go(func() {
			unlock, err := LockFor(context.Background(), path, 200*time.Millisecond)
			if err != nil {
				t.Error(err)
				return
			}
			defer unlock()
			select {
			case inside <- struct{}{}:
				time.Sleep(60 * time.Millisecond)
				<-inside
			default:
				t.Error("two have the lock")
			}
		})
	}
	all.Wait()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	defer cancel()
	unlock, err := LockFor(context.Background(), path, time.Second)
	must(t, err)
	defer unlock()
	if _, err := LockFor(ctx, path, time.Second); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a wait that was given up ended with %v", err)
	}
}

// TestHeld says for how long a lock was waited for, and not for how long it might have been.
func TestHeld(t *testing.T) {
	path := filepath.Join(t.TempDir(), ".lock")
	other := flock.New(path) // as another process has it
	must(t, other.Lock())
	defer func() { _ = other.Unlock() }()
	for about, wait := range map[string]func() (context.Context, context.CancelFunc, time.Duration){
		"the patience is over": func() (context.Context, context.CancelFunc, time.Duration) {
			return t.Context(), func() {}, 30 * time.Millisecond
		},
		"the caller's time is over": func() (context.Context, context.CancelFunc, time.Duration) {
			ctx, cancel := context.WithTimeout(t.Context(), 30*time.Millisecond)
			return ctx, cancel, time.Hour
		},
		"a leg's time is over": func() (context.Context, context.CancelFunc, time.Duration) {
			ctx, cancel := context.WithCancelCause(t.Context())
			time.AfterFunc(30*time.Millisecond, func() { cancel(errors.New("slow")) })
			return ctx, func() { cancel(nil) }, time.Hour
		},
	} {
		began := time.Now()
		ctx, cancel, patience := wait()
		_, err := LockFor(ctx, path, patience)
		cancel()
		var held *HeldError
		if !errors.As(err, &held) || held.Waited <= 0 || held.Waited > time.Since(began) ||
			time.Since(began) < 30*time.Millisecond ||
			!strings.Contains(err.Error(), "has used "+path+" for ") || strings.Contains(err.Error(), "1h") {
			t.Errorf("%s: %v", about, err)
		}
	}
}
