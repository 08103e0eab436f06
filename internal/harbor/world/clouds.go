package world

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/container"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/profile"
)

// Accounts gives the user's cloud accounts.
func (w *World) Accounts() (cloud.Accounts, error) {
	home, err := w.Home()
	if err != nil {
		return cloud.Accounts{}, err
	}
	account, _ := w.UserHome()
	return cloud.Accounts{Dir: filepath.Join(home, "clouds"), World: files.World{Home: account}}, nil
}

// cloudAt says where the cloud of an account is, for profiles; see [files.World].
func (w *World) cloudAt(name string) (at files.Cloud, wrong string) {
	list, err := w.Accounts()
	if err != nil {
		return at, UpperFirst(err.Error()) + "."
	}
	a, err := list.Load(name)
	if err != nil {
		return at, UpperFirst(NoAccount(list, name, err).Error()) + "."
	}
	place := a.Origin.Place()
	return files.Cloud{URL: a.Origin.String(), Host: place.Host, Port: place.Port}, ""
}

// NoAccount words why an account could not be read, with a near name.
func NoAccount(list cloud.Accounts, name string, err error) error {
	if !errors.Is(err, cloud.ErrNoAccount) {
		return Doing("read the cloud account "+Clip(name), err)
	}
	names := list.Names()
	if near := profile.Nearest(name, names); near != "" {
		return Wrong("there is no cloud account %s; did you mean %s?", Clip(name), near)
	}
	if len(names) == 0 {
		return Wrong("there is no cloud account %s, and none yet at all; gharbor cloud add NAME URL makes one", Clip(name))
	}
	return Wrong("there is no cloud account %s; there are %s", Clip(name), strings.Join(names, ", "))
}

// CloudAccount gives the account of a name; "" is the only one.
func (w *World) CloudAccount(name string) (cloud.Account, error) {
	list, err := w.Accounts()
	if err != nil {
		return cloud.Account{}, err
	}
	if names := list.Names(); name == "" && len(names) != 1 {
		if len(names) == 0 {
			return cloud.Account{}, Wrong("there is no cloud account yet; gharbor cloud add NAME URL makes one")
		}
		return cloud.Account{}, Usage("there are several cloud accounts (%s); name one, such as %s",
			strings.Join(names, ", "), names[0])
	} else if name == "" {
		name = names[0]
	}
	a, err := list.Load(name)
	if err != nil {
		return a, NoAccount(list, name, err)
	}
	return a, nil
}

// HasClouds reports whether there is any account, without reading one.
func (w *World) HasClouds() bool {
	list, err := w.Accounts()
	if err != nil {
		return false
	}
	_, err = os.Stat(list.Dir)
	return err == nil
}

// CloudNames lists the names of the user's cloud accounts.
func (w *World) CloudNames() []string {
	list, err := w.Accounts()
	if err != nil {
		return nil
	}
	return list.Names()
}

// Account gives what the run was handed of the account.
func (w *World) Account() files.World {
	home, _ := w.UserHome()
	path, _ := w.Env("PATH")
	return files.World{Dir: w.Dir, Home: home, Path: path, Cloud: w.cloudAt, Far: func() bool {
		engines, err := w.Engines()
		return err == nil && slices.ContainsFunc(engines, container.Engine.Far)
	}}
}
