package wallet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"gentle-harbor/internal/files"
)

// Memory remembers, in a file of the state folder, which wallet was where and the highest version that was seen
// of it. It is what tells an older wallet from a newer one: signatures alone cannot.
type Memory struct {
	// File is the file's path; "" remembers nothing.
	File string
}

type memory struct {
	ID      string `json:"id"`
	Version uint64 `json:"version"`
}

// maxMemory bounds the file.
const maxMemory = 4 << 20

func (m Memory) read() (map[string]memory, error) {
	all := map[string]memory{}
	if m.File == "" {
		return all, nil
	}
	data, err := files.Read(m.File, maxMemory)
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	if err != nil {
		return nil, err
	}
	if json.Unmarshal(data, &all) != nil {
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

func (m Memory) seen(dir string) (id string, version uint64, err error) {
	all, err := m.read()
	return all[real(dir)].ID, all[real(dir)].Version, err
}

// note remembers a version; it never goes back for the same wallet.
func (m Memory) note(dir, id string, version uint64) error {
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
	if known := all[real(dir)]; known.ID == id && known.Version >= version {
		return nil
	}
	all[real(dir)] = memory{id, version}
	data, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return files.Write(m.File, append(data, '\n'), 0o600)
}
