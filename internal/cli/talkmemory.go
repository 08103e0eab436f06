package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"path/filepath"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/talk"
)

// memoryFile gives the file of what was typed for this profile, "" for a connection that has none.
func (t *talker) memoryFile() (string, error) {
	state, err := t.State()
	if err != nil || t.file == "" {
		return "", err
	}
	sum := sha256.Sum256([]byte(t.file))
	return filepath.Join(state, "talk", hex.EncodeToString(sum[:12])+".jsonl"), nil
}

// remembered gives what was typed before, the oldest first.
func (t *talker) remembered() ([]string, error) {
	path, err := t.memoryFile()
	if err != nil || path == "" {
		return nil, err
	}
	data, err := files.ReadOwn(path, talk.MostMemory)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return talk.Decode(data), err
}

// remember adds a text to the file. Sessions side by side add to one file.
func (t *talker) remember(ctx context.Context, text string) error {
	path, err := t.memoryFile()
	if err != nil || path == "" {
		return err
	}
	if err := files.Settle(filepath.Dir(path)); err != nil {
		return err
	}
	unlock, err := files.Lock(ctx, path)
	if err != nil {
		return err
	}
	defer unlock()
	data, err := files.ReadOwn(path, talk.MostMemory)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return files.Write(path, talk.Added(data, text), 0o600)
}
