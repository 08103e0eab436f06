package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/profile"
)

var changeCommand = command{
	name: "change", synopsis: "NAME", about: "change settings of a profile",
	text: `What the flags name is put into the profile's file, and the rest of the file stays as it is: comments, order, blank
lines, line ends. --unset SETTING takes one out; so does an empty value.`,
	examples: []string{"gharbor change huts/local --port 6021 --unset note", "gharbor change huts/staging --tls verify --tls-ca certs/fellside-ca.pem"},
	settings: true,
	flags: func(fs *flag.FlagSet, c *call) {
		fs.Func("unset", "a setting to take out; may be repeated", func(text string) error {
			name, ok := settingNamed(text)
			if !ok {
				return fmt.Errorf("%s--unset: there is no setting %q", harbor.FlagMark, clip(text))
			}
			c.unset = append(c.unset, name)
			return nil
		})
	},
	run: runChange,
}

// settingNamed finds a setting by its flag or its name in the file. The name of a map stands for all that is in it, and
// ends in a dot.
func settingNamed(text string) (string, bool) {
	if slices.ContainsFunc(profile.Settings, func(s profile.Setting) bool { return strings.HasPrefix(s.Name, text+".") }) && text != "tls" && text != "timeout" {
		return text + ".", true
	}
	for _, s := range profile.Settings {
		if s.Flag == text && !strings.HasSuffix(s.Name, ".") {
			return s.Name, true
		}
	}
	text = strings.ReplaceAll(text, " ", ".")
	s, ok := profile.Find(text)
	return text, ok && !strings.HasSuffix(text, ".") && s.Name != ""
}

func runChange(ctx context.Context, c *call) error {
	library, store, name, err := c.one(1)
	if err != nil {
		return err
	}
	set := profile.Layer{}
	for setting, v := range c.Set {
		if v.Text == "" {
			c.unset = append(c.unset, setting)
			continue
		}
		set[setting] = v
	}
	if len(set)+len(c.unset) == 0 {
		return usage("change wants to know what to change: gharbor change %s --port 6021, or --unset SETTING", name)
	}
	if where := whereOf(set); where != "" { // the place is one setting: a new one replaces the whole of the old
		for _, other := range append([]string{"port"}, profile.Where...) {
			if _, given := set[other]; !given && other != where {
				c.unset = append(c.unset, other)
			}
		}
		if where == "host" && hostStays(store, name, set) {
			c.unset = without(c.unset, "port")
		}
	}
	if base := set["base"].Text; base != "" {
		if err := library.CheckBase(store, name, base); err != nil {
			return wrong("%v", err)
		}
	}
	agreed := c.agreedNow(library, store, name)
	err = store.Update(ctx, name, func(data []byte, path string) ([]byte, error) {
		unset, err := unfolded(data, path, c.unset)
		if err != nil {
			return nil, err
		}
		return profile.Change(data, path, set, unset)
	})
	if err != nil {
		return written(name, err)
	}
	fmt.Fprintf(c.Stdout, "Changed %s in %s\n", name, store.Path(name))
	return c.afterWrite(ctx, library, store, name, agreed)
}

// unfolded gives the settings of a file that names stand for: one that ends in a dot is all of a map.
func unfolded(data []byte, path string, names []string) ([]string, error) {
	layer, err := profile.Parse(data, path, "profile")
	if err != nil {
		return nil, err
	}
	var list []string
	for _, name := range names {
		if !strings.HasSuffix(name, ".") {
			list = append(list, name)
			continue
		}
		for _, each := range layer.Names() {
			if strings.HasPrefix(each, name) {
				list = append(list, each)
			}
		}
	}
	return list, nil
}

// hostStays tells whether a change names the host that the profile has already, so that its port stays too.
func hostStays(store profile.Store, name string, set profile.Layer) bool {
	layer, err := store.Load(name)
	return err == nil && layer["host"].Text == set["host"].Text
}

func without(list []string, word string) []string {
	var kept []string
	for _, item := range list {
		if item != word {
			kept = append(kept, item)
		}
	}
	return kept
}

// one gives the only profile that a command is about.
func (c *call) one(want int) (profile.Library, profile.Store, string, error) {
	library, err := c.Library()
	if err != nil {
		return library, profile.Store{}, "", err
	}
	names, err := c.profiles()
	if err == nil && len(names) != want {
		err = usage("%s takes %d names", c.command.name, want)
		if want == 1 {
			err = usage("%s takes one name", c.command.name)
		}
	}
	if err != nil {
		return library, profile.Store{}, "", err
	}
	store, name, err := c.found(library, names[0])
	return library, store, name, err
}

// agreedNow tells whether the user has agreed to a project's profile as it is; it is true for one's own.
func (c *call) agreedNow(library profile.Library, store profile.Store, name string) bool {
	if !store.Project {
		return false
	}
	agreements, err := c.Agreements()
	if err != nil {
		return false
	}
	stack, err := library.Load("project:" + name)
	if err != nil {
		return false
	}
	terms, err := agree.Of(library, stack)
	if err != nil {
		return false
	}
	standing, _ := agreements.Standing(terms)
	return standing.Agreed
}

// afterWrite renews the agreement to a project's profile that the user has changed after agreeing to it, and
// tells of what still keeps the profile from connecting.
func (c *call) afterWrite(ctx context.Context, library profile.Library, store profile.Store, name string, agreed bool) error {
	if agreed {
		if err := c.agreeToOwn(ctx, library, store, name); err != nil {
			return err
		}
	}
	full := name
	if store.Project {
		full = "project:" + name
	}
	stack, err := library.Load(full)
	if err != nil {
		fmt.Fprintf(c.Stderr, "note: %v\n", err)
		return nil
	}
	for _, problem := range stack.Resolve().Problems {
		fmt.Fprintln(c.Stderr, "note: "+problem.Text)
	}
	return nil
}

var copyCommand = command{
	name: "copy", synopsis: "NAME NEW-NAME", about: "copy a profile",
	text:     "A name with project: before it stands for the project's layer, one with mine: for your own.",
	examples: []string{"gharbor copy huts/local huts/winter", "gharbor copy huts/local project:huts/local"},
	flags: func(fs *flag.FlagSet, c *call) {
		fs.BoolVar(&c.replace, "replace", false, "overwrite a profile of that name")
	},
	run: func(ctx context.Context, c *call) error {
		_, _, err := c.copied(ctx)
		if err == nil {
			fmt.Fprintf(c.Stdout, "Copied %s to %s\n", c.names[0], c.names[1])
		}
		return err
	},
}

// copied copies the first profile to the second's name, as text. Relative paths in it start at another folder
// then, and are made to lead to the same file.
func (c *call) copied(ctx context.Context) (library profile.Library, from profile.Store, err error) {
	if len(c.names) != 2 {
		return library, from, usage("%s takes a profile's name and a new one", c.command.name)
	}
	if library, err = c.Library(); err != nil {
		return library, from, err
	}
	from, name, err := c.found(library, c.names[0])
	if err != nil {
		return library, from, err
	}
	to, newName, err := c.place(library, c.names[1])
	if err != nil {
		return library, from, err
	}
	if from.Project && !to.Project {
		// What was a stranger's becomes one's own, of which nobody asks again.
		stack, err := library.Load("project:" + name)
		if err != nil {
			return library, from, c.LoadError(library, name, err)
		}
		if _, err := c.Admit(ctx, library, stack); err != nil {
			return library, from, err
		}
	}
	old, fresh := from.Path(name), to.Path(newName)
	if old == fresh {
		return library, from, usage("%s and %s are the same profile; name another one", clip(c.names[0]), clip(c.names[1]))
	}
	data, err := from.Text(name)
	if err != nil {
		return library, from, written(name, err)
	}
	layer, err := profile.Parse(data, old, "profile")
	if err != nil {
		return library, from, wrong("%v", err)
	}
	moved := profile.Layer{}
	for setting, v := range layer {
		s, _ := profile.Find(setting)
		prefix, path := "", v.Text
		if rest, ok := strings.CutPrefix(path, "file:"); ok && setting == "secret" {
			prefix, path = "file:", rest
		} else if s.Kind != profile.Path {
			continue
		}
		if path == "" || filepath.IsAbs(path) || strings.HasPrefix(path, "~") || filepath.Dir(old) == filepath.Dir(fresh) {
			continue
		}
		if path, err = filepath.Rel(filepath.Dir(fresh), filepath.Join(filepath.Dir(old), path)); err == nil {
			moved[setting] = profile.Value{Text: prefix + filepath.ToSlash(path)}
		}
	}
	if base := layer["base"].Text; base != "" {
		word, _ := profile.SplitLayer(base)
		if from.Project && !to.Project && word == "" {
			base = "project:" + base
			moved["base"] = profile.Value{Text: base}
		}
		if err := library.CheckBase(to, newName, base); err != nil {
			return library, from, wrong("%v", err)
		}
	}
	if len(moved) > 0 {
		if data, err = profile.Change(data, old, moved, nil); err != nil {
			return library, from, wrong("%v", err)
		}
	}
	if err := written(newName, to.Put(ctx, newName, data, c.replace)); err != nil {
		return library, from, err
	}
	if c.agreedNow(library, from, name) || !from.Project {
		return library, from, c.agreeToOwn(ctx, library, to, newName)
	}
	return library, from, nil
}

var renameCommand = command{
	name: "rename", synopsis: "NAME NEW-NAME", about: "give a profile another name",
	text:     "Profiles that have it as their base are named; --with-references changes them too.",
	examples: []string{"gharbor rename huts/local huts/home --with-references"},
	flags: func(fs *flag.FlagSet, c *call) {
		fs.BoolVar(&c.replace, "replace", false, "overwrite a profile of that name")
		fs.BoolVar(&c.follow, "with-references", false, "change the base of profiles that start from it")
	},
	run: runRename,
}

func runRename(ctx context.Context, c *call) error {
	library, from, err := c.copied(ctx)
	if err != nil {
		return err
	}
	_, old := profile.SplitLayer(c.names[0])
	layer, fresh := profile.SplitLayer(c.names[1])
	if toProject := layer == "project"; toProject != from.Project {
		return wrong("%s was copied to the other layer and kept in its own; remove it with gharbor remove when nobody needs it there", c.names[0])
	}
	if err := from.Remove(ctx, old); err != nil {
		return wrong("%s was copied to %s and could not be removed: %v", old, fresh, err)
	}
	fmt.Fprintf(c.Stdout, "Renamed %s to %s\n", c.names[0], c.names[1])
	for _, reference := range library.References(from, old) {
		base := strings.TrimSuffix(reference.Base, old) + fresh
		if !c.follow {
			fmt.Fprintf(c.Stderr, "note: %s:%d says base: %s, which is gone; write base: %s, or rename with --with-references\n", reference.File, reference.Line, reference.Base, base)
			continue
		}
		err := reference.Store.Update(ctx, reference.Name, func(data []byte, path string) ([]byte, error) {
			return profile.Change(data, path, profile.Layer{"base": {Text: base}}, nil)
		})
		if err != nil {
			return written(reference.Name, err)
		}
		fmt.Fprintf(c.Stdout, "Changed the base of %s to %s\n", reference.Name, base)
	}
	return nil
}

var editCommand = command{
	name: "edit", synopsis: "NAME", about: "edit a profile's file in your editor",
	text: `$VISUAL or $EDITOR is started on a copy. When it ends, the copy is checked; what is wrong is shown, and you can go
back to it. Only a good copy is put in the profile's place.`,
	examples: []string{"gharbor edit huts/local"},
	run:      runEdit,
}

func runEdit(ctx context.Context, c *call) error {
	library, store, name, err := c.one(1)
	if err != nil {
		return err
	}
	editor, _ := c.Env("VISUAL")
	if editor == "" {
		editor, _ = c.Env("EDITOR")
	}
	words := strings.Fields(editor)
	if len(words) == 0 {
		return wrong("neither VISUAL nor EDITOR says which editor to start; the file is %s", store.Path(name))
	}
	before, err := store.Text(name)
	if err != nil {
		return written(name, err)
	}
	agreed := c.agreedNow(library, store, name)
	folder, err := os.MkdirTemp("", "gharbor-edit-")
	if err != nil {
		return err
	}
	keep := false
	defer func() {
		if !keep {
			_ = os.RemoveAll(folder)
		}
	}()
	draft := filepath.Join(folder, filepath.Base(store.Path(name)))
	if err := os.WriteFile(draft, before, 0o600); err != nil {
		return err
	}
	for {
		cmd := exec.Command(words[0], append(words[1:], draft)...)
		cmd.Stdin, cmd.Stdout, cmd.Stderr, cmd.Env = c.Stdin, c.Stdout, c.Stderr, c.Environ
		if err := cmd.Run(); err != nil {
			keep = true
			return wrong("the editor %s failed (%v); nothing was changed, and what you wrote is in %s", words[0], err, draft)
		}
		after, err := os.ReadFile(draft)
		if err != nil {
			return wrong("what you wrote cannot be read, and nothing was changed: %v", err)
		}
		if string(after) == string(before) {
			fmt.Fprintf(c.Stdout, "%s is as it was.\n", name)
			return nil
		}
		problem := c.acceptable(library, store, name, after, draft)
		if problem == nil {
			err := store.Update(ctx, name, func(now []byte, _ string) ([]byte, error) {
				if string(now) != string(before) {
					return nil, errors.New("somebody has changed it meanwhile")
				}
				return after, nil
			})
			if err != nil {
				keep = true
				return wrong("%s was not changed: %v; what you wrote is in %s", name, err, draft)
			}
			fmt.Fprintf(c.Stdout, "Changed %s in %s\n", name, store.Path(name))
			return c.afterWrite(ctx, library, store, name, agreed)
		}
		fmt.Fprintf(c.Stderr, "%v\n", problem)
		if !c.Who.Here() {
			keep = true
			return wrong("%s was not changed; what you wrote is in %s", name, draft)
		}
		answer, err := c.Who.Ask(ctx, "Go back to the editor, or leave the profile as it was? (back, leave) [back] ")
		if err != nil || answer == "leave" || answer == "l" {
			keep = true
			fmt.Fprintf(c.Stderr, "%s was not changed; what you wrote is in %s\n", name, draft)
			return exit{Code: exitSettings}
		}
	}
}

// acceptable tells what is wrong with a text that is to be a profile's file.
func (c *call) acceptable(library profile.Library, store profile.Store, name string, data []byte, draft string) error {
	layer, err := profile.Parse(data, draft, "profile")
	if err != nil {
		return err
	}
	if base := layer["base"].Text; base != "" {
		return library.CheckBase(store, name, base)
	}
	return nil
}
