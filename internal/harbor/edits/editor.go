package edits

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// Edited is how an edit ended.
type Edited int

// The ends of an edit that did not fail.
const (
	Unchanged Edited = iota // the editor changed nothing
	Changed
	Left // the person left a draft that is wrong
)

// Edit starts an editor on a copy of a profile's file and puts the copy in the file's place when
// it is right; what is wrong with it is said, and a person can go back to it. The copy is kept
// when the edit fails or is left, and draft is its path then.
func (r Edits) Edit(ctx context.Context, p Place, editor func(path string) error, done func()) (how Edited,
	draft string, err error) {
	before, err := p.Store.Text(p.Name)
	if err != nil {
		return Unchanged, "", Written(p.Name, err)
	}
	temp, err := r.Temp()
	if err != nil {
		return Unchanged, "", err
	}
	folder, err := files.TempFolder(temp, "gharbor-edit-")
	if err != nil {
		return Unchanged, "", err
	}
	defer func() {
		if err == nil && how != Left {
			_ = os.RemoveAll(folder)
		}
	}()
	draft = filepath.Join(folder, filepath.Base(p.File()))
	if err := os.WriteFile(draft, before, 0o600); err != nil {
		return Unchanged, "", err
	}
	for {
		if err := editor(draft); err != nil {
			return Unchanged, draft, world.Wrong("%v; nothing was changed, and what you wrote is in %s", err, draft)
		}
		after, err := os.ReadFile(draft)
		if err != nil {
			return Unchanged, draft, world.Wrong("what you wrote cannot be read, and nothing was changed: %v", err)
		}
		if string(after) == string(before) {
			return Unchanged, draft, nil
		}
		problem := acceptable(p, after, draft)
		if problem == nil {
			err := r.Update(ctx, p, func(now []byte, _ string) ([]byte, error) {
				if string(now) != string(before) {
					return nil, errors.New("someone has changed it meanwhile")
				}
				return after, nil
			}, done)
			if err != nil {
				return Unchanged, draft, world.Wrong("%v; what you wrote is in %s", err, draft)
			}
			return Changed, draft, nil
		}
		if !r.Who.Here() {
			return Unchanged, draft, world.Wrong("%v\n%s was not changed; what you wrote is in %s", problem, p.Name, draft)
		}
		r.Who.Say(problem.Error())
		answer, err := r.Who.Ask(ctx, "Go back to the editor, or leave the profile as it was? (back, leave) [back] ")
		if err != nil || answer == "leave" || answer == "l" {
			return Left, draft, nil
		}
	}
}

// acceptable says what is wrong with a text that is to be a profile's file.
func acceptable(p Place, data []byte, draft string) error {
	layer, err := profile.Parse(data, draft, profile.LayerProfile)
	if err != nil {
		return err
	}
	if base := layer["base"].Text; base != "" {
		return p.Library.CheckBase(p.Store, p.Name, base)
	}
	return nil
}
