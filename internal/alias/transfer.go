package alias

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gentle-harbor/internal/outside/budget"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/yamledit"
)

// Version is the number of the JSON form of aliases (docs/aliases.schema.json).
const Version = 1

// document is that form.
type document struct {
	Version int                        `json:"aliases_version"`
	Aliases map[string]json.RawMessage `json:"aliases"`
}

// JSON gives aliases in the JSON form. Entries with mistakes are left out.
func JSON(entries []Entry) any {
	all := map[string]any{}
	for _, e := range entries {
		if e.Err != nil {
			continue
		}
		values := map[string]any{}
		for name, v := range e.Moved(Source{}) {
			var value any = v.Text
			if v.List != nil {
				value = v.List
			}
			if group, key, nested := strings.Cut(name, "."); nested {
				inner, _ := values[group].(map[string]any)
				if inner == nil {
					inner = map[string]any{}
				}
				inner[key] = value
				values[group] = inner
				continue
			}
			values[name] = value
		}
		all[e.Name] = values
	}
	return map[string]any{"aliases_version": Version, "aliases": all}
}

// Read takes the JSON form apart. Each alias passes the same checks as one in a file; the error
// names the first that does not.
func Read(data []byte) (map[string]profile.Layer, error) {
	var d document
	decoder := json.NewDecoder(budget.JSON(bytes.NewReader(data), budget.Kept))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&d); err != nil {
		return nil, fmt.Errorf("this is not the JSON of aliases (docs/aliases.schema.json): %w", err)
	}
	if d.Version != Version {
		return nil, fmt.Errorf("aliases_version is %d, and %d is known here", d.Version, Version)
	}
	all := map[string]profile.Layer{}
	for _, name := range slices.Sorted(maps.Keys(d.Aliases)) {
		if err := profile.CheckAliasName(name); err != nil {
			return nil, err
		}
		var compact bytes.Buffer
		if err := json.Compact(&compact, d.Aliases[name]); err != nil {
			return nil, err
		}
		// JSON is YAML too (YAML 1.2, section 1.3).
		_, layer, err := profile.ParseAlias([]byte(name+": "+strings.ReplaceAll(compact.String(), `\/`,
			"/")+"\n"), "alias "+name, 1)
		if err != nil {
			return nil, err
		}
		all[name] = layer
	}
	return all, nil
}

// PutAll writes several new aliases together, all or none. Names that the file has already are an
// error, unless replace is set.
func (s Source) PutAll(ctx context.Context, all map[string]profile.Layer, replace bool) ([]string, error) {
	names := slices.Sorted(maps.Keys(all))
	return names, s.Edit(ctx, names, func(data []byte) ([]byte, error) {
		var err error
		for _, name := range names {
			if has(data, name) {
				if !replace {
					return nil, fmt.Errorf("%s has an alias %s already; add --replace to overwrite it", s.Path, name)
				}
				if data, err = yamledit.Remove(data, []string{name}); err != nil {
					return nil, err
				}
			}
			if data, err = set(data, name, all[name]); err != nil {
				return nil, err
			}
		}
		return data, nil
	})
}
