package agree

import (
	"context"
	"slices"
	"time"

	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route/jump"
)

// Wrote notes that the user agrees to a profile of a project that the user has just written:
// wrote is what its file was given. That is all that one agrees to by writing. What the project's
// groups and bases say, and the content of files that were agreed to before, must be as it was
// agreed to with some profile of the project; else nothing is noted, and the error is a *Refused.
func (a Agreements) Wrote(ctx context.Context, library profile.Library, s profile.Stack, wrote profile.Layer,
	ssh jump.Config, now time.Time) error {
	terms, err := Of(library, s, ssh)
	if err != nil {
		return &Refused{s.Name, err.Error()}
	}
	list, err := a.List()
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(each Agreement) bool { return each.Terms == nil || each.Project != terms.Project })
	// others is what the terms say beyond what was written.
	others := Terms{Format: terms.Format, Project: terms.Project, Said: map[string]any{}, Files: map[string]string{}}
	if values := s.Resolve().Values; values["via"].Origin.File != s.Store.Path(s.Bare) {
		others.Runs = terms.Runs
	}
	values := s.Resolve().Values
	for name, said := range terms.Said {
		v := values[name]
		if v.Origin.File != s.Store.Path(s.Bare) {
			others.Said[name] = said
			if setting, _ := profile.Find(name); setting.Type == profile.Path {
				path := profile.PathOf(library.World, v)
				if sum, held := terms.Files[path]; held {
					others.Files[path] = sum
				}
			}
			continue
		}
		if w, said := wrote[name]; !said || w.Text != v.Text || !slices.Equal(w.List, v.List) {
			return &Refused{s.Name, "its file says something else than what you wrote."}
		}
	}
	for path, sum := range terms.Files {
		if slices.ContainsFunc(list, func(each Agreement) bool {
			was := each.Terms.Files[path]
			return was != "" && was != sum
		}) {
			others.Files[path] = sum // its content has changed since
		}
	}
	if len(others.Said)+len(others.Files) > 0 &&
		!slices.ContainsFunc(list, func(each Agreement) bool { return others.within(*each.Terms) }) {
		return &Refused{s.Name, "its project says more than what you wrote, and you have not agreed to that."}
	}
	return a.Agree(ctx, terms, now)
}
