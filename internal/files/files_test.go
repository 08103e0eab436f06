//go:build unix

package files

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

func TestRead(t *testing.T) {
	folder := t.TempDir()
	at := func(name string) string { return filepath.Join(folder, name) }
	for name, text := range map[string]string{"empty": "", "ten": "0123456789", "eleven": "0123456789a"} {
		if err := os.WriteFile(at(name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(syscall.Mkfifo(at("pipe"), 0o600), syscall.Mkfifo(at("other"), 0o600), os.Symlink(at("pipe"), at("link")), os.Symlink(at("ten"), at("good"))); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]error{"empty": nil, "ten": nil, "good": nil, "eleven": ErrTooLarge, "pipe": ErrKind, "link": ErrKind, ".": ErrKind, "gone": fs.ErrNotExist} {
		began := time.Now()
		data, err := Read(at(name), 10)
		if !errors.Is(err, want) || err != nil && data != nil || time.Since(began) > time.Second {
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
