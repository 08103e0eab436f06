package alias

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/yamledit"
)

// ErrExists says that a file has an alias of the name already, ErrUnknown that it has none.
var (
	ErrExists  = errors.New("the alias exists already")
	ErrUnknown = errors.New("no such alias in this file")
)

// Edit changes a file by a function of its text, while no other program of ours does. A file that
// is not there is empty. Every alias that is not among the named ones must say afterwards what it
// said before, and the named ones must be free of mistakes.
func (s Source) Edit(ctx context.Context, named []string, change func(data []byte) ([]byte, error)) error {
	lock := s.Path + ".lock"
	if s.Store.Dir != "" {
		lock = filepath.Join(s.Store.Dir, ".lock")
	}
	unlock, err := files.Lock(ctx, lock)
	if err != nil {
		return err
	}
	defer unlock()
	data, err := files.ReadOwn(s.Path, MaxFile)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := whole(data); err != nil {
		return fmt.Errorf("%s cannot be changed safely: %w; correct it first (gharbor alias check)", s.Path, err)
	}
	changed, err := change(data)
	if err != nil {
		return err
	}
	if len(changed) > MaxFile {
		return fmt.Errorf("%s would be larger than %d MB", s.Path, MaxFile>>20)
	}
	before, after := &page{source: s}, &page{source: s}
	before.begin(data)
	after.begin(changed)
	if err := s.kept(before, after, named); err != nil {
		return fmt.Errorf("%s cannot be changed safely: %w; edit it by hand", s.Path, err)
	}
	for _, name := range named {
		for _, e := range after.find(name) {
			if e.Err != nil {
				return e.Err
			}
		}
	}
	if s.Store.Project || s.Store.Dir == "" {
		if err := os.MkdirAll(filepath.Dir(s.Path), 0o755); err != nil {
			return err
		}
		return files.Write(s.Path, changed, 0o644)
	}
	return files.Write(s.Path, changed, 0o600)
}

// kept says which alias would say something else than before.
func (s Source) kept(before, after *page, named []string) error {
	for _, b := range before.list() {
		if slices.Contains(named, b.name) {
			continue
		}
		now := after.find(b.name)
		if len(now) == 0 {
			return fmt.Errorf("%s would be lost", b.name)
		}
		if j := slices.IndexFunc(after.list(), func(a block) bool {
			return a.name == b.name
		}); bytes.Equal(before.data[b.from:b.to],
			after.data[after.list()[j].from:after.list()[j].to]) {
			continue
		}
		if was := before.entry(b); was.Err == nil && (now[0].Err != nil || !same(was.Layer, now[0].Layer)) {
			return fmt.Errorf("%s would change too", b.name)
		}
	}
	return nil
}

func same(a, b profile.Layer) bool {
	if len(a) != len(b) {
		return false
	}
	for name, v := range a {
		if w, has := b[name]; !has || w.Text != v.Text || !slices.Equal(w.List, v.List) {
			return false
		}
	}
	return true
}

// Put writes a new alias. One of that name is ErrExists, unless replace is set.
func (s Source) Put(ctx context.Context, name string, layer profile.Layer, replace bool) error {
	if err := profile.CheckAliasName(name); err != nil {
		return err
	}
	return s.Edit(ctx, []string{name}, func(data []byte) ([]byte, error) {
		if has(data, name) {
			if !replace {
				return nil, ErrExists
			}
			var err error
			if data, err = yamledit.Remove(data, []string{name}); err != nil {
				return nil, err
			}
		}
		return set(data, name, layer)
	})
}

// Change puts values into an alias and takes settings out of it; the rest of the file stays as it
// is. An unknown name is ErrUnknown.
func (s Source) Change(ctx context.Context, name string, layer profile.Layer, unset []string) error {
	return s.Edit(ctx, []string{name}, func(data []byte) ([]byte, error) {
		if !has(data, name) {
			return nil, ErrUnknown
		}
		var err error
		for _, setting := range unset {
			if data, err = yamledit.Remove(data, append([]string{name}, strings.Split(setting, ".")...)); err != nil {
				return nil, err
			}
		}
		return set(data, name, layer)
	})
}

// set writes the values of an alias.
func set(data []byte, name string, layer profile.Layer) ([]byte, error) {
	var err error
	for _, setting := range layer.Names() {
		keys := append([]string{name}, strings.Split(setting, ".")...)
		if data, err = yamledit.Set(data, keys,
			yamledit.Value{Text: layer[setting].Text, List: layer[setting].List}); err != nil {
			return nil, err
		}
	}
	return data, nil
}

// Remove takes an alias out. An unknown name is ErrUnknown.
func (s Source) Remove(ctx context.Context, name string) error {
	return s.Edit(ctx, []string{name}, func(data []byte) ([]byte, error) {
		if !has(data, name) {
			return nil, ErrUnknown
		}
		return yamledit.Remove(data, []string{name})
	})
}

// Rename gives an alias another name, in its place.
func (s Source) Rename(ctx context.Context, name, to string) error {
	if err := profile.CheckAliasName(to); err != nil {
		return err
	}
	return s.Edit(ctx, []string{name, to}, func(data []byte) ([]byte, error) {
		p := &page{source: s}
		p.begin(data)
		at := slices.IndexFunc(p.list(), func(b block) bool { return b.name == name })
		switch {
		case at < 0:
			return nil, ErrUnknown
		case has(data, to):
			return nil, ErrExists
		}
		line := data[p.list()[at].from:]
		end := bytes.IndexByte(line, ':')
		if line[0] == '"' || line[0] == '\'' {
			end = bytes.IndexByte(line[1:], line[0]) + 2
		}
		return slices.Concat(data[:p.list()[at].from], []byte(to), line[end:]), nil
	})
}

func has(data []byte, name string) bool {
	p := &page{}
	p.begin(data)
	return slices.ContainsFunc(p.list(), func(b block) bool { return b.name == name })
}
