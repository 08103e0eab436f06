package wallet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/outside/budget"
)

// Memory remembers, in a file of the state folder, which wallet was where and the highest version
// that was seen of it. It separates an older wallet from a newer one: signatures alone cannot.
type Memory struct {
	// File is the file's path; "" remembers nothing.
	File string
}

// memory is what was seen in one place: which wallet, its highest version, and the public key
// that signed it, in base64; "" from before keys were remembered.
type memory struct {
	ID      string `json:"id"`
	Version uint64 `json:"version"`
	Key     string `json:"key,omitempty"`
}

// memories are what was seen, by the folder's absolute path.
type memories map[string]memory

// at gives what was seen in a folder: under its path as it is written, so that a link that is put
// in its place is the same place; else under the path that it leads to, as it was remembered
// before.
func (all memories) at(dir string) memory {
	if was, seen := all[place(dir)]; seen {
		return was
	}
	return all[real(dir)]
}

// trusted gives the keys that may sign a wallet in a folder: the one that was seen there, else
// those that were seen of the same wallet anywhere, as when a home was copied or moved.
func (all memories) trusted(dir, id string) []string {
	if was := all.at(dir); was.ID == id && was.Key != "" {
		return []string{was.Key}
	}
	var keys []string
	for _, each := range all {
		if each.ID == id && each.Key != "" {
			keys = append(keys, each.Key)
		}
	}
	return keys
}

// place gives a folder's absolute path, its links not followed.
func place(dir string) string {
	if path, err := filepath.Abs(dir); err == nil {
		return path
	}
	return dir
}

// maxMemory bounds the file.
const maxMemory = 4 << 20

func (m Memory) read() (memories, error) {
	all := memories{}
	if m.File == "" {
		return all, nil
	}
	data, err := files.ReadOwn(m.File, maxMemory)
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	if err != nil {
		return nil, err
	}
	if budget.Unmarshal(data, &all) != nil {
		return nil, fmt.Errorf("%s is damaged", m.File)
	}
	return all, nil
}

// real gives one name to a folder, however it is reached.
func real(dir string) string {
	if path, err := filepath.EvalSymlinks(dir); err == nil {
		dir = path
	}
	if path, err := filepath.Abs(dir); err == nil {
		dir = path
	}
	return dir
}

// note remembers a version and its key; the version never goes back for the same wallet.
func (m Memory) note(dir, id string, version uint64, key string) error {
	if m.File == "" {
		return nil
	}
	unlock, err := files.Lock(context.Background(), filepath.Join(filepath.Dir(m.File), ".lock"))
	if err != nil {
		return err
	}
	defer unlock()
	all, err := m.read()
	if err != nil {
		return err
	}
	now := memory{id, version, key}
	if known := all[place(dir)]; known.ID == id {
		now.Version = max(version, known.Version)
		if now == known || version < known.Version {
			return nil
		}
	}
	all[place(dir)] = now
	data, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return files.Write(m.File, append(data, '\n'), 0o600)
}
