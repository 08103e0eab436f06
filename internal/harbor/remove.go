package harbor

import (
	"slices"
	"strings"

	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// ToRemove gives the profiles that words mean: names, and groups (which end in "/") of the user's
// own. Each is there.
func (r Run) ToRemove(words []string) ([]string, error) {
	var names []string
	for _, word := range words {
		group, is := strings.CutSuffix(word, "/")
		if !is {
			if _, err := r.edits().Existing(word); err != nil {
				return nil, err
			}
			names = append(names, word)
			continue
		}
		layer, bare := profile.SplitLayer(group)
		all, err := r.Choose([]string{bare + "/"}, Choice{})
		if err != nil {
			return nil, err
		}
		left := 0
		for _, name := range all {
			p, err := r.edits().Existing(name)
			if err != nil {
				return nil, err
			}
			if p.Store.Project != (layer == "project") {
				left++
				continue
			}
			names = append(names, name)
		}
		if left > 0 && layer == "" {
			r.Note("%d more of %s are the project's, and stay; project:%s/ stands for those", left,
				world.Clip(word), world.Clip(bare))
		}
	}
	slices.Sort(names)
	if names = slices.Compact(names); len(names) == 0 {
		return nil, world.Wrong("nothing of your own is in %s; gharbor list shows what there is",
			world.Clip(strings.Join(words, " ")))
	}
	return names, nil
}
