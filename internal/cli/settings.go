package cli

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/profile"
)

// declareSettings makes a flag of each setting.
func (c *call) declareSettings(fs *flag.FlagSet) {
	fs.Func("expect", "a fact that a test must show, such as superuser=false; may be repeated", func(text string) error {
		if err := takeExpectation(c.Set, text); err != nil {
			return fmt.Errorf("%s--expect: %v", harbor.FlagMark, err)
		}
		return nil
	})
	for _, s := range profile.Settings {
		if s.Flag == "expect" {
			continue
		}
		if s.Kind == profile.Own && c.command.connects || s.Name == "labels." && c.command.chooses() {
			continue // a run has no labels of its own; there --label chooses profiles
		}
		fs.Func(s.Flag, s.About, func(text string) error {
			if err := harbor.Take(c.Set, s, text, profile.Origin{Layer: "flag", Name: "--" + s.Flag}); err != nil {
				return fmt.Errorf("%s--%s: %v", harbor.FlagMark, s.Flag, err)
			}
			return nil
		})
	}
}

// takeExpectation reads NAME=VALUE; a list's items stand between commas, or in flags of their own.
func takeExpectation(layer profile.Layer, text string) error {
	name, value, ok := strings.Cut(text, "=")
	s, known := profile.Find("expect." + strings.TrimSpace(name))
	if !ok || !known {
		var names []string
		for _, s := range profile.Settings {
			if rest, ok := strings.CutPrefix(s.Name, "expect."); ok {
				names = append(names, rest)
			}
		}
		return fmt.Errorf("wants NAME=VALUE, NAME being one of %s", strings.Join(names, ", "))
	}
	origin := profile.Origin{Layer: "flag", Name: "--expect"}
	if s.Kind != profile.Listed {
		return harbor.Take(layer, s, value, origin)
	}
	for item := range strings.SplitSeq(value, ",") {
		if err := harbor.Take(layer, s, strings.TrimSpace(item), origin); err != nil {
			return err
		}
	}
	return nil
}

// warnOfVariables tells of variables that look like ours and are not known: a misspelt one would silently do
// nothing.
func (a *App) warnOfVariables() {
	known := slices.Clone(harbor.Reserved)
	for _, s := range profile.Settings {
		if name := s.Variable(); name != "" {
			known = append(known, name)
		}
	}
	for _, pair := range a.Environ {
		name, _, _ := strings.Cut(pair, "=")
		if !strings.HasPrefix(name, "GHARBOR_") || slices.Contains(known, name) {
			continue
		}
		hint := ""
		if near := profile.Nearest(name, known); near != "" {
			hint = "; did you mean " + near + "?"
		}
		fmt.Fprintf(a.Stderr, "gharbor: the environment variable %s has no meaning here%s\n", clip(name), hint)
	}
}

// profiles gives the names that a command is about: its names, or the one that GHARBOR_PROFILE names.
func (c *call) profiles() ([]string, error) {
	if len(c.names) > 0 {
		return c.names, nil
	}
	if name, ok := c.Env("GHARBOR_PROFILE"); ok && name != "" {
		return []string{name}, nil
	}
	return nil, usage("%s wants the name of a profile; gharbor list shows those there are", c.command.name)
}
