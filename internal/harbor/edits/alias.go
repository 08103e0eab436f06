package edits

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"gentle-harbor/internal/alias"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/credentials"
	"gentle-harbor/internal/yamledit"
)

// OwnAliases gives the names of the aliases that are no project's, in order of the alphabet.
func (r Edits) OwnAliases() []string {
	book, _, err := r.Aliases()
	if err != nil {
		return nil
	}
	entries, _ := book.List()
	var names []string
	for _, entry := range entries {
		if entry.Source.Layer() != "project" {
			names = append(names, entry.Name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// AliasFile says in which file a new alias goes: the user's own, the project's, or the one that
// was named for this run.
func (r Edits) AliasFile(project bool) (alias.Source, error) {
	book, library, err := r.Aliases()
	if err != nil {
		return alias.Source{}, err
	}
	switch {
	case project && library.Project.Dir == "":
		return alias.Source{}, world.Wrong("there is no project in or above the current folder; mkdir " +
			".gentle-harbor makes one")
	case project:
		return book.Sources[len(book.Sources)-1], nil
	case len(r.AliasFiles) > 0:
		return book.Sources[0], nil
	}
	i := slices.IndexFunc(book.Sources, func(s alias.Source) bool { return s.Layer() == "mine" })
	return book.Sources[i], nil
}

// Alias gives the entry of a name that counts, which must be there, and where else the name is.
func (r Edits) Alias(name string) (e alias.Entry, others []alias.Entry, err error) {
	book, _, err := r.Aliases()
	if err != nil {
		return e, nil, err
	}
	list, err := book.Entries(name)
	if err != nil {
		return e, nil, world.Doing("read the alias "+name, err)
	}
	if len(list) == 0 {
		_, err := book.Find(profile.Value{Text: name})
		return e, nil, world.Wrong("%s", strings.TrimSuffix(world.LowerFirst(err.Error()), "."))
	}
	if len(list) > 1 && list[0].Source.Layer() == "mine" && list[1].Source.Layer() == "project" {
		return e, nil, world.Wrong("both you and the project have an alias %s (%s, %s); name one of them: "+
			"mine:%s or project:%s",
			world.Clip(name), list[0].At(), list[1].At(), list[0].Name, list[0].Name)
	}
	return list[0], list[1:], nil
}

// PutAlias writes a new alias.
func (r Edits) PutAlias(ctx context.Context, in alias.Source, name string, layer profile.Layer, replace bool) error {
	if err := profile.CheckAliasName(name); err != nil {
		return world.Usage("%v", err)
	}
	if err := r.sameAs(in, name, layer); err != nil {
		return err
	}
	err := in.Put(ctx, name, in.Store.Placed(layer, in.Path, r.Dir), replace)
	r.BookChanged()
	if errors.Is(err, alias.ErrExists) {
		return world.Wrong("%s has an alias %s already; change it with gharbor alias change %s, or add --replace",
			in.Path, name, name)
	}
	return worded(err)
}

// sameAs refuses a further name of itself, and of an alias that is not there.
func (r Edits) sameAs(in alias.Source, name string, layer profile.Layer) error {
	same := layer["same-as"]
	if same.Text == "" {
		return nil
	}
	word, bare := profile.SplitLayer(same.Text)
	if bare == name && (word == "" || word == in.Layer()) {
		return world.Wrong("the alias %s would be a further name of itself: --same-as takes another alias", name)
	}
	if same.Origin.File != "" { // it was read from a file, as it is
		return nil
	}
	_, _, err := r.Alias(same.Text)
	return err
}

func worded(err error) error {
	if err == nil {
		return nil
	}
	return world.Doing("change an alias", err)
}

// ChangeAlias changes settings of an alias in the file that counts.
func (r Edits) ChangeAlias(ctx context.Context, name string, layer profile.Layer, unset []string) (alias.Entry, error) {
	e, _, err := r.Alias(name)
	if err != nil {
		return e, err
	}
	if e.Err != nil {
		return e, world.Doing("read the alias "+e.Name, e.Err)
	}
	for _, setting := range unset {
		if _, says := e.Layer[setting]; !says {
			return e, world.Wrong("the alias %s does not say %s", e.Name, strings.ReplaceAll(setting, ".", " "))
		}
	}
	// One of the three ways to say where the server is takes the place of another.
	where := []string{"addresses", "srv", "same-as"}
	for _, setting := range where {
		if _, set := layer[setting]; set {
			for _, other := range where {
				if _, says := e.Layer[other]; says && other != setting && !slices.Contains(unset, other) {
					unset = append(unset, other)
				}
			}
		}
	}
	if err := r.sameAs(e.Source, e.Name, layer); err != nil {
		return e, err
	}
	err = e.Source.Change(ctx, e.Name, e.Source.Store.Placed(layer, e.Source.Path, r.Dir), unset)
	r.BookChanged()
	return e, worded(err)
}

// AliasUser is something that names an alias.
type AliasUser struct {
	Kind string `json:"kind"`  // profile, alias, wallet or credentials
	Name string `json:"name"`  // the profile, the alias, or the user of an entry
	At   string `json:"where"` // FILE:LINE, or the store
}

// AliasUsers lists what names an alias: profiles (by themselves, a base or a group), other
// aliases, and entries of the stores that open without a question. Closed says which wallets were
// not looked into.
func (r Edits) AliasUsers(ctx context.Context, of alias.Entry) (users []AliasUser, closed []string, err error) {
	book, library, err := r.Aliases()
	if err != nil {
		return nil, nil, err
	}
	entries, err := library.List()
	if err != nil {
		return nil, nil, world.Doing("list the profiles", err)
	}
	remembering := library.Remembering()
	for _, entry := range entries {
		stack, err := remembering.Load(entry.Name)
		if err != nil {
			continue // list and audit name it
		}
		said := stack.Resolve().Values["alias"]
		if said.Text != "" && means(said, of) {
			users = append(users, AliasUser{"profile", entry.Name, said.Origin.String()})
		}
	}
	all, _ := book.List()
	for _, each := range all {
		if same := each.Layer["same-as"]; each.Err == nil && same.Text != "" && means(same, of) {
			users = append(users, AliasUser{"alias", each.Key(), each.At()})
		}
	}
	if path, err := r.CredentialFile("", ""); err == nil {
		list, _ := credentials.Read(path)
		for _, each := range list {
			if each.Target.Alias == of.Key() {
				users = append(users, AliasUser{"credentials", each.Target.User, fmt.Sprintf("%s:%d", path, each.Line)})
			}
		}
	}
	for _, dir := range r.WalletDirs() {
		if w := r.WalletAt(dir); w.Exists() {
			contents, err := r.Keeper(dir).Open(ctx, secret.Quietly)
			if err != nil || contents == nil {
				closed = append(closed, dir)
				continue
			}
			for _, each := range contents.Entries {
				if each.Target.Alias == of.Key() {
					users = append(users, AliasUser{"wallet", each.Target.User, dir})
				}
			}
		}
	}
	return users, closed, nil
}

// means reports whether a value names an entry.
func means(said profile.Value, of alias.Entry) bool {
	word, bare := profile.SplitLayer(said.Text)
	if bare != of.Name || word != "" && word != of.Source.Layer() {
		return false
	}
	return word != "" || said.Origin.Project == "" || of.Source.Layer() != "mine"
}

// RenameAlias gives an alias another name. What names it is changed too with references, and else
// an error.
func (r Edits) RenameAlias(ctx context.Context, name, to string, references bool) (alias.Entry, []AliasUser, error) {
	e, _, err := r.Alias(name)
	if err != nil {
		return e, nil, err
	}
	if err := profile.CheckAliasName(to); err != nil {
		return e, nil, world.Usage("%v", err)
	}
	users, _, err := r.AliasUsers(ctx, e)
	if err != nil {
		return e, nil, err
	}
	named := slices.DeleteFunc(slices.Clone(users), func(u AliasUser) bool {
		return u.Kind != "profile" && u.Kind != "alias"
	})
	if len(named) > 0 && !references {
		return e, users, world.Wrong("%s is named by %s; --everywhere changes those too", e.Name, listed(named))
	}
	err = e.Source.Rename(ctx, e.Name, to)
	r.BookChanged()
	switch {
	case errors.Is(err, alias.ErrExists):
		return e, users, world.Wrong("%s has an alias %s already", e.Source.Path, to)
	case err != nil:
		return e, users, worded(err)
	}
	library, err := r.Library()
	if err != nil {
		return e, users, err
	}
	done := map[string]bool{}
	for _, user := range named {
		if err := r.renameIn(ctx, library, user, e, to, done); err != nil {
			return e, users, world.Wrong("%s is renamed, and %s still names it: %v", e.Name, user.Name, err)
		}
	}
	return e, users, nil
}

func listed(users []AliasUser) string {
	var names []string
	for _, u := range users {
		names = append(names, u.Kind+" "+u.Name)
	}
	if len(names) > 4 {
		names = append(names[:4], fmt.Sprintf("%d more", len(names)-4))
	}
	return strings.Join(names, ", ")
}

// renameIn changes the name of an alias where something says it: in a profile's file, a group's,
// or another alias.
func (r Edits) renameIn(ctx context.Context, library profile.Library, user AliasUser, was alias.Entry,
	to string, done map[string]bool) error {
	word := func(text string) string {
		layer, _ := profile.SplitLayer(text)
		if layer != "" {
			return layer + ":" + to
		}
		return to
	}
	if user.Kind == "alias" {
		e, _, err := r.Alias(user.Name)
		if err != nil {
			return err
		}
		_, err = r.ChangeAlias(ctx, user.Name, profile.Layer{"same-as": {Text: word(e.Layer["same-as"].Text)}}, nil)
		return err
	}
	stack, err := library.Load(user.Name)
	if err != nil {
		return err
	}
	for _, layer := range stack.Layers {
		said := layer["alias"]
		if said.Text == "" || said.Origin.File == "" || done[said.Origin.File] || !means(said, was) {
			continue
		}
		done[said.Origin.File] = true
		store := library.Mine
		if said.Origin.Project != "" {
			store = library.Project
		}
		if err := store.Rewrite(ctx, said.Origin.File, func(data []byte) ([]byte, error) {
			return yamledit.Set(data, []string{"alias"}, yamledit.Value{Text: word(said.Text)})
		}); err != nil {
			return err
		}
	}
	return nil
}

// RemoveAlias takes an alias out of the file that counts.
func (r Edits) RemoveAlias(ctx context.Context, e alias.Entry) error {
	err := e.Source.Remove(ctx, e.Name)
	r.BookChanged()
	return worded(err)
}

// ImportAliases takes aliases from a file of their JSON form, or from one of an engine's names; -
// is standard input.
func (r Edits) ImportAliases(ctx context.Context, from string, in alias.Source, replace bool) ([]string, error) {
	var text string
	var err error
	if from == "-" {
		text, err = r.ReadAll(alias.MaxFile)
	} else {
		var data []byte
		data, err = files.ReadNamed(ctx, r.Path(from), alias.MaxFile)
		text = string(data)
	}
	if err != nil {
		return nil, world.Wrong("%s cannot be read: %v", world.Clip(from), err)
	}
	var all map[string]profile.Layer
	if strings.HasPrefix(strings.TrimSpace(text), "{") {
		all, err = alias.Read([]byte(text))
	} else {
		folder := ""
		if from != "-" {
			folder = filepath.Dir(r.Path(from))
		}
		all, err = r.namesIn(text, from, folder)
	}
	if err != nil {
		return nil, world.Doing("read the aliases", err)
	}
	names, err := in.PutAll(ctx, all, replace)
	r.BookChanged()
	return names, worded(err)
}

// ExportAliases gives aliases in their JSON form: the named ones, or all that count.
func (r Edits) ExportAliases(names []string) (any, error) {
	book, _, err := r.Aliases()
	if err != nil {
		return nil, err
	}
	var entries []alias.Entry
	if len(names) == 0 {
		names = book.Names()
	}
	for _, name := range names {
		e, _, err := r.Alias(name)
		if err != nil {
			return nil, err
		}
		if e.Err != nil {
			return nil, world.Doing("read the alias "+e.Name, e.Err)
		}
		entries = append(entries, e)
	}
	return alias.JSON(entries), nil
}
