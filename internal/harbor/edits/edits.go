// Package edits is what a use case changes in the files of profiles and aliases, as text: what it
// does not touch stays as it was written.
package edits

import (
	"context"
	"errors"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/harbor/stores"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/shell"
)

// Edits is the files in reach of a use case, and the stores whose entries name an alias.
type Edits struct{ stores.Stores }

// A Place is a profile's place in the library: the store that has it or is to have it, and its
// name there.
type Place struct {
	Library profile.Library
	Store   profile.Store
	Name    string
}

// File gives the path of the profile's file.
func (p Place) File() string { return p.Store.Path(p.Name) }

// full is the name that means this profile and no other of the same name.
func (p Place) full() string {
	if p.Store.Project {
		return "project:" + p.Name
	}
	return "mine:" + p.Name
}

// Existing gives the place of a profile that must be there.
func (r Edits) Existing(name string) (Place, error) {
	library, err := r.Library()
	if err != nil {
		return Place{}, err
	}
	store, bare, err := r.Find(library, name)
	return Place{library, store, bare}, err
}

// NewPlace gives the place of a new profile: among the user's own, or with project or the name's
// "project:" in the project, whose folder is made when there is none.
func (r Edits) NewPlace(name string, project bool) (Place, error) {
	library, err := r.Library()
	if err != nil {
		return Place{}, err
	}
	layer, bare := profile.SplitLayer(name)
	if err := profile.CheckName(bare); err != nil {
		return Place{}, world.Usage("%v", err)
	}
	if layer == "mine" && project {
		return Place{}, world.Usage("mine: and --project contradict each other; write one of them")
	}
	if layer != "project" && !project {
		return Place{library, library.Mine, bare}, r.portable(library.Mine, bare)
	}
	if library.Project.Dir == "" {
		if why := profile.Portable([]string{bare})[bare]; why != "" { // before a folder is made for it
			return Place{}, world.Wrong("%s cannot be a name here: %s. Take another, such as %s", bare, why,
				otherName(bare, nil))
		}
		dir := r.Dir
		if dir == "" {
			if dir, err = os.Getwd(); err != nil {
				return Place{}, world.Wrong("the current folder is gone")
			}
		}
		if library.Project, err = profile.MakeProject(dir); err != nil {
			return Place{}, world.Wrong("the project's folder could not be made: %v", err)
		}
		r.Note("made %s for the profiles of this project; commit it with the rest", library.Project.Dir)
	}
	return Place{library, library.Project, bare}, r.portable(library.Project, bare)
}

// portable refuses a new name that not every system can hold beside the others: for a project,
// whose files travel, and where this system is such a one. Among the user's own it is remarked
// elsewhere.
func (r Edits) portable(store profile.Store, name string) error {
	names, err := store.Names()
	if err != nil || slices.Contains(names, name) { // what is there already is named by an audit
		return nil
	}
	before, now := profile.Portable(names), profile.Portable(append(names, name))
	text := now[name]
	for each, why := range now {
		if text == "" && before[each] == "" { // it is named at one that was there before
			text = why
		}
	}
	switch {
	case text == "":
		return nil
	case store.Project || runtime.GOOS == "windows":
		return world.Wrong("%s cannot be a name here: %s. Take another, such as %s", name, text, otherName(name, names))
	}
	r.Note("%s: %s", name, text)
	return nil
}

// otherName proposes a name instead of one that does not travel.
func otherName(name string, beside []string) string {
	small := strings.ToLower(name)
	group, last := path.Split(small)
	for _, other := range []string{small, small + "-db", group + "db-" + last, small + "-2"} {
		if now := profile.Portable(append(slices.Clone(beside), other)); now[other] == "" && !slices.Contains(beside, other) {
			return other
		}
	}
	return small + "-new"
}

// Written words an error of writing a profile's file; nil stays nil.
func Written(name string, err error) error {
	var at *profile.FileError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, profile.ErrExists):
		return world.Wrong("there is a profile %s already; --replace overwrites it", name)
	case errors.As(err, &at):
		return world.Wrong("%s was not changed: %v", name, err)
	}
	return world.Wrong("%s could not be written: %v", name, err)
}

// AgreeToOwn notes that the user agrees to what the user has just written into a project; data is
// that text. What else the project says is not agreed to by it.
func (r Edits) AgreeToOwn(ctx context.Context, p Place, data []byte) error {
	if !p.Store.Project {
		return nil
	}
	wrote, err := profile.Parse(data, p.File(), profile.LayerProfile)
	if err != nil {
		return world.Doing("read "+p.Name, err)
	}
	stack, err := p.Library.Load(p.full())
	if err != nil {
		return world.Doing("read "+p.Name, err)
	}
	agreements, err := r.Agreements()
	if err != nil {
		return err
	}
	err = agreements.Wrote(ctx, p.Library, stack, wrote, r.SSHConfig().Once(), r.Now())
	var refused *agree.Refused
	if errors.As(err, &refused) {
		r.Note("%s is not agreed to yet: %s See it with gharbor agree %s", stack.Name, refused.Why, stack.Name)
		return nil
	}
	return err
}

// agreedNow reports whether the user has agreed to a project's profile as it is. It is false for
// your own, which need no agreement.
func (r Edits) agreedNow(p Place) bool {
	if !p.Store.Project {
		return false
	}
	agreements, err := r.Agreements()
	if err != nil {
		return false
	}
	stack, err := p.Library.Load(p.full())
	if err != nil {
		return false
	}
	terms, err := agree.Of(p.Library, stack, r.SSHConfig().Once())
	if err != nil {
		return false
	}
	standing, _ := agreements.Standing(terms)
	return standing.Agreed
}

// Update changes the text of a profile's file. An agreement that the user had made to a project's
// profile is renewed, and what still keeps the profile from connecting is noted. Done is called
// when the file is written.
func (r Edits) Update(ctx context.Context, p Place, change func(data []byte, path string) ([]byte, error),
	done func()) error {
	agreed := r.agreedNow(p)
	var wrote []byte
	err := p.Store.Update(ctx, p.Name, func(data []byte, path string) (text []byte, err error) {
		wrote, err = change(data, path)
		return wrote, err
	})
	if err != nil {
		return Written(p.Name, err)
	}
	done()
	if agreed {
		if err := r.AgreeToOwn(ctx, p, wrote); err != nil {
			return err
		}
	}
	stack, err := p.Library.Load(p.full())
	if err != nil {
		r.Note("%v", err)
		return nil
	}
	for _, problem := range stack.Resolve().Problems {
		r.Note("%s", problem.Text)
	}
	return nil
}

// Change puts settings into a profile's file and takes others out; the rest of the file stays as
// it is. In set, an empty value takes a setting out too. A name in unset that ends in a dot
// stands for all of a map.
func (r Edits) Change(ctx context.Context, p Place, given profile.Layer, unset []string, done func()) error {
	set := profile.Layer{}
	for setting, v := range given {
		if v.Text == "" {
			unset = append(unset, setting)
			continue
		}
		set[setting] = v
	}
	if len(set)+len(unset) == 0 {
		return world.Usage("change needs a setting to change: gharbor change %s --port 6021", p.Name)
	}
	if where := profile.AddressOf(set); where != "" { // the address is one thing: a new one replaces the whole of the old
		for _, other := range profile.AddressParts() {
			if _, given := set[other]; !given && other != where {
				unset = append(unset, other)
			}
		}
		if where == "host" && hostStays(p, set) {
			unset = slices.DeleteFunc(unset, func(name string) bool { return name == "port" })
		}
	}
	unset, err := r.encryption(p, set, unset)
	if err != nil {
		return err
	}
	if base := set["base"].Text; base != "" {
		if err := p.Library.CheckBase(p.Store, p.Name, base); err != nil {
			return world.Doing("read the base "+base, err)
		}
	}
	return r.Update(ctx, p, func(data []byte, path string) ([]byte, error) {
		names, err := unfolded(data, path, unset)
		if err != nil {
			return nil, err
		}
		return profile.Change(data, path, p.Store.Placed(set, path, r.Dir), names)
	}, done)
}

// encryption adds to what is taken out of a profile's own file the parts of an encryption that
// the change switches off, and says so. A part that would have no use is refused.
func (r Edits) encryption(p Place, set profile.Layer, unset []string) ([]string, error) {
	var parts []string
	for _, part := range profile.EncryptionParts() {
		if set[part].Text != "" {
			parts = append(parts, part)
		}
	}
	again := func(mode string) string {
		command := "gharbor change " + shell.Word(p.Name) + " --tls " + mode
		for _, part := range parts {
			command += " --" + strings.ReplaceAll(part, ".", "-") + " " + shell.Word(set[part].Text)
		}
		return command
	}
	off := set["tls.mode"].Text == "off"
	if len(parts) > 0 && off {
		return nil, world.Usage("%s has no use without encryption, and --tls off switches it off: nothing was "+
			"changed. With encryption: %s",
			strings.ReplaceAll(parts[0], ".", " "), again("verify"))
	}
	if stack, err := p.Library.Load(p.full()); len(parts) > 0 && set["tls.mode"].Text == "" &&
		profile.AddressOf(set) == "" && err == nil && stack.Resolve().TLS.Mode == "off" {
		return nil, world.Wrong("%s has no use while tls mode is off, and it is off for %s: nothing was "+
			"changed. With encryption: %s",
			strings.ReplaceAll(parts[0], ".", " "), p.Name, again("verify"))
	}
	if !off {
		return unset, nil
	}
	layer, err := p.Store.Load(p.Name)
	if err != nil {
		return unset, nil // what is wrong with the file is said when it is changed
	}
	for _, part := range profile.EncryptionParts() {
		if v, says := layer[part]; says && v.Text != "" && !slices.Contains(unset, part) {
			unset = append(unset, part)
			parts = append(parts, strings.ReplaceAll(part, ".", " "))
		}
	}
	if len(parts) > 0 {
		r.Note("--tls off takes out what has no use then: %s", strings.Join(parts, ", "))
	}
	return unset, nil
}

// hostStays reports whether a change names the host that the profile has already, so that its
// port stays too.
func hostStays(p Place, set profile.Layer) bool {
	layer, err := p.Store.Load(p.Name)
	return err == nil && layer["host"].Text == set["host"].Text
}

// unfolded gives the settings of a file that names stand for: one that ends in a dot is all of a
// map.
func unfolded(data []byte, path string, names []string) ([]string, error) {
	layer, err := profile.Parse(data, path, profile.LayerProfile)
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

// Copy copies a profile to a new name, as text. Relative paths in it start at another folder
// then, and are made to lead to the same file. With replace, a profile of the new name is
// overwritten.
func (r Edits) Copy(ctx context.Context, name, newName string, replace bool) (from, to Place, err error) {
	if from, err = r.Existing(name); err != nil {
		return from, to, err
	}
	if to, err = r.NewPlace(newName, false); err != nil {
		return from, to, err
	}
	if from.Store.Project && !to.Store.Project {
		// What was a stranger's becomes your own, of which nobody asks again.
		stack, err := from.Library.Load(from.full())
		if err != nil {
			return from, to, r.LoadError(from.Library, name, err)
		}
		if _, err := r.Admit(ctx, from.Library, stack); err != nil {
			return from, to, err
		}
	}
	if from.File() == to.File() {
		return from, to, world.Usage("%s and %s are the same profile; name another one", world.Clip(name),
			world.Clip(newName))
	}
	data, err := moved(from, to)
	if err != nil {
		return from, to, err
	}
	if err := Written(to.Name, to.Store.Put(ctx, to.Name, data, replace)); err != nil {
		return from, to, err
	}
	if r.agreedNow(from) || !from.Store.Project {
		return from, to, r.AgreeToOwn(ctx, to, data)
	}
	return from, to, nil
}

// moved gives the text of a profile's file as it is to be in another folder.
func moved(from, to Place) ([]byte, error) {
	data, err := from.Store.Text(from.Name)
	if err != nil {
		return nil, Written(from.Name, err)
	}
	old, fresh := filepath.Dir(from.File()), filepath.Dir(to.File())
	layer, err := profile.Parse(data, from.File(), profile.LayerProfile)
	if err != nil {
		return nil, world.Doing("read "+from.Name, err)
	}
	changed := profile.Layer{}
	for setting, v := range layer {
		s, _ := profile.Find(setting)
		prefix, path := "", v.Text
		if rest, ok := strings.CutPrefix(path, "file:"); ok && setting == "secret" {
			prefix, path = "file:", rest
		} else if s.Type != profile.Path {
			continue
		}
		if path == "" || filepath.IsAbs(path) || strings.HasPrefix(path, "~") || old == fresh {
			continue
		}
		if path, err = filepath.Rel(fresh, filepath.Join(old, path)); err == nil {
			changed[setting] = profile.Value{Text: prefix + filepath.ToSlash(path)}
		}
	}
	if base := layer["base"].Text; base != "" {
		if word, _ := profile.SplitLayer(base); from.Store.Project && !to.Store.Project && word == "" {
			base = "project:" + base
			changed["base"] = profile.Value{Text: base}
		}
		if err := to.Library.CheckBase(to.Store, to.Name, base); err != nil {
			return nil, world.Doing("read the base "+base, err)
		}
	}
	if len(changed) == 0 {
		return data, nil
	}
	if data, err = profile.Change(data, from.File(), changed, nil); err != nil {
		return nil, world.Doing("read "+from.Name, err)
	}
	return data, nil
}

// Rename gives a profile another name and calls renamed; then, with follow, it changes the base
// of each profile that starts from it, and calls changed with its name and its new base. Without
// follow, such profiles are noted.
func (r Edits) Rename(ctx context.Context, name, newName string, replace, follow bool, renamed func(),
	changed func(name, base string)) error {
	from, to, err := r.Copy(ctx, name, newName, replace)
	if err != nil {
		return err
	}
	layer, _ := profile.SplitLayer(newName)
	if toProject := layer == "project"; toProject != from.Store.Project {
		return world.Wrong("%s was copied to the other layer and kept in its own; remove it with gharbor remove "+
			"when nobody needs it there",
			name)
	}
	if err := from.Store.Remove(ctx, from.Name); err != nil {
		return world.Wrong("%s was copied to %s and could not be removed: %v", from.Name, to.Name, err)
	}
	renamed()
	for _, reference := range from.Library.References(from.Store, from.Name) {
		base := strings.TrimSuffix(reference.Base, from.Name) + to.Name
		if !follow {
			r.Note("%s:%d says base: %s, which is gone; write base: %s, or rename with --everywhere",
				reference.File, reference.Line, reference.Base, base)
			continue
		}
		err := reference.Store.Update(ctx, reference.Name, func(data []byte, path string) ([]byte, error) {
			return profile.Change(data, path, profile.Layer{"base": {Text: base}}, nil)
		})
		if err != nil {
			return Written(reference.Name, err)
		}
		changed(reference.Name, base)
	}
	return nil
}

// Remove removes profiles that must all be there, and calls removed with the name of each as it
// was given.
func (r Edits) Remove(ctx context.Context, names []string, removed func(name string)) error {
	places := make([]Place, len(names))
	for i, name := range names {
		var err error
		if places[i], err = r.Existing(name); err != nil {
			return err
		}
	}
	for i, p := range places {
		references := p.Library.References(p.Store, p.Name)
		if err := p.Store.Remove(ctx, p.Name); errors.Is(err, profile.ErrUnknown) {
			return r.LoadError(p.Library, names[i], err)
		} else if err != nil {
			return world.Wrong("%s could not be removed: %v", names[i], err)
		}
		removed(names[i])
		for _, each := range references {
			r.Note("%s:%d says base: %s, which is gone now", each.File, each.Line, each.Base)
		}
	}
	return nil
}
