package profile

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"gentle-harbor/internal/yamledit"
)

// Change puts values into a profile's file and takes settings out of it. The rest of its text
// stays as it is: comments, order, empty lines, quoting and line ends. The result is read again,
// and is an error when anything else came out otherwise.
func Change(data []byte, path string, set Layer, unset []string) ([]byte, error) {
	before, err := Parse(data, path, LayerProfile)
	if err != nil {
		return nil, err
	}
	text := data
	for _, name := range unset {
		keys, err := keysOf(text, path, name, false)
		if err == nil && keys != nil {
			text, err = yamledit.Remove(text, keys)
		}
		if err != nil {
			return nil, fmt.Errorf("%s cannot be changed safely: %w; edit it by hand", path, err)
		}
	}
	for _, name := range set.Names() {
		keys, err := keysOf(text, path, name, true)
		if err == nil && len(keys) == 2 {
			// A short form becomes the map that it is short for.
			text, err = yamledit.Nest(text, keys[:1], shortOf(keys[0]))
		}
		if err == nil {
			setting, _ := Find(name)
			text, err = yamledit.Set(text, keys,
				yamledit.Value{Text: set[name].Text, List: set[name].List, Number: setting.Type == Port})
		}
		if err != nil {
			return nil, fmt.Errorf("%s cannot be changed safely: %w; edit it by hand", path, err)
		}
	}
	after, err := Parse(text, path, LayerProfile)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be changed safely, since the result would not be readable; edit it by hand (%w)",
			path, err)
	}
	want := maps.Clone(before)
	for _, name := range unset {
		delete(want, name)
	}
	maps.Copy(want, set)
	if len(after) != len(want) {
		return nil, fmt.Errorf("%s cannot be changed safely; edit it by hand", path)
	}
	for name, v := range want {
		if got, ok := after[name]; !ok || got.Text != v.Text || !slices.Equal(got.List, v.List) {
			return nil, fmt.Errorf("%s cannot be changed safely, since %s would change too; edit it by hand", path, name)
		}
	}
	return text, nil
}

// keysOf takes a setting's name apart into the keys of a file's text. The setting that a map's
// short form stands for is the map's own key there: always when it is put in, and to be taken out
// only when it is written so; nil when it is not.
func keysOf(text []byte, path, name string, set bool) ([]string, error) {
	group, key, nested := strings.Cut(name, ".")
	if !nested {
		return []string{name}, nil
	}
	s, _ := Find(name)
	if short, err := isShort(text, path, group); err != nil || !short {
		return []string{group, key}, err
	}
	switch {
	case s.Short:
		return []string{group}, nil
	case set:
		return []string{group, key}, nil
	}
	return nil, nil
}

// isShort reports whether a map of a file is written in its short form, as a single text.
func isShort(text []byte, path, group string) (bool, error) {
	r := reader{file: path}
	root, err := r.root(text)
	if err != nil || root == nil {
		return false, err
	}
	for i := 0; i+1 < len(root.Content); i += 2 {
		if root.Content[i].Value == group {
			return len(root.Content[i+1].Content) == 0 && root.Content[i+1].Value != "", nil
		}
	}
	return false, nil
}

// shortOf gives the key that the short form of a map stands for.
func shortOf(group string) string {
	for _, s := range Settings {
		if at, key, _ := strings.Cut(s.Name, "."); at == group && s.Short {
			return key
		}
	}
	return ""
}
