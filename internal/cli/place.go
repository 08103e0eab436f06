package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/profile"
)

// place tells where a new profile of a name goes: to the user's own, or with --project or the name's
// "project:" to the project's, whose folder is made when there is none.
func (c *call) place(library profile.Library, name string) (profile.Store, string, error) {
	layer, bare := profile.SplitLayer(name)
	if err := profile.CheckName(bare); err != nil {
		return profile.Store{}, "", usage("%v", err)
	}
	if layer == "mine" && c.project {
		return profile.Store{}, "", usage("mine: and --project name two different places; keep one of them")
	}
	if layer != "project" && !c.project {
		return library.Mine, bare, nil
	}
	if library.Project.Dir != "" {
		return library.Project, bare, nil
	}
	dir := c.Dir
	if dir == "" {
		var err error
		if dir, err = os.Getwd(); err != nil {
			return profile.Store{}, "", wrong("the current folder is gone")
		}
	}
	store, err := profile.MakeProject(dir)
	if err != nil {
		return store, "", wrong("the project's folder could not be made: %v", err)
	}
	fmt.Fprintf(c.Stderr, "note: made %s for the profiles of this project; commit it with the rest\n", store.Dir)
	return store, bare, nil
}

// agreeToOwn notes that the user agrees to what the user has just written into the project.
func (c *call) agreeToOwn(ctx context.Context, library profile.Library, store profile.Store, name string) error {
	if !store.Project {
		return nil
	}
	library.Project = store
	stack, err := library.Load("project:" + name)
	if err != nil {
		return wrong("%v", err)
	}
	terms, err := agree.Of(library, stack)
	if err != nil {
		fmt.Fprintf(c.Stderr, "note: %v\n", err)
		return nil
	}
	agreements, err := c.Agreements()
	if err != nil {
		return err
	}
	return agreements.Agree(ctx, terms, time.Now())
}

// found gives the store and the bare name of a profile that must be there.
func (c *call) found(library profile.Library, name string) (profile.Store, string, error) {
	store, bare, err := library.Find(name)
	if err != nil {
		if layer, inner := profile.SplitLayer(name); profile.CheckName(inner) != nil && layer+inner != "" {
			return store, bare, usage("%v", err)
		}
		return store, bare, c.LoadError(library, name, err)
	}
	return store, bare, nil
}

// written words an error of writing a profile's file.
func written(name string, err error) error {
	var at *profile.FileError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, profile.ErrExists):
		return wrong("there is a profile %s already; --replace overwrites it", name)
	case errors.As(err, &at):
		return wrong("%s was not changed: %v", name, err)
	}
	return wrong("%s could not be written: %v", name, err)
}
