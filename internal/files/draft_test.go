package files

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
)

func TestDraft(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "rows.csv")
	content := func(want string, names int) {
		t.Helper()
		data, _ := os.ReadFile(path)
		if list, _ := os.ReadDir(folder); string(data) != want || len(list) != names {
			t.Errorf("%q, %d files", data, len(list))
		}
	}
	d, err := Begin(path)
	must(t, err)
	_, _ = d.WriteString("one")
	content("", 1)
	must(t, d.Keep())
	content("one", 1)
	if info, _ := os.Stat(path); info.Mode().Perm() != 0o600 {
		t.Error(info.Mode())
	}
	if _, err := Begin(path); !errors.Is(err, fs.ErrExist) {
		t.Error(err)
	}
	_ = os.Remove(path)
	d, _ = Begin(path)
	_, _ = d.WriteString("two")
	d.Drop()
	content("", 0)
	d, _ = Begin(path)
	_ = os.WriteFile(path, []byte("meanwhile"), 0o600)
	if err := d.Keep(); !errors.Is(err, fs.ErrExist) {
		t.Error(err)
	}
	content("meanwhile", 1)
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
