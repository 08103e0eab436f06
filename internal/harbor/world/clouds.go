package world

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/target"
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
		return Wrong("%v", err)
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
		return cloud.Account{}, Usage("there are several cloud accounts (%s); say which", strings.Join(names, ", "))
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

// Clouds is what was learnt of the user's clouds.
type Clouds struct {
	mu       sync.Mutex
	sessions map[[3]string]*cloud.Session
	memories map[target.Clouded]*cloud.Memory
	// Logins are the temporary logins that clouds made.
	Logins cloud.Logins
	// Servers has the id of a server that was found, by its account and name.
	Servers sync.Map
}

// Session gives the sign-in of an account, the same one for all use cases that open the wallet alike: how is what decides that.
func (c *Clouds) Session(account string, how [2]string, fresh func() *cloud.Session) *cloud.Session {
	return one(&c.mu, &c.sessions, [3]string{account, how[0], how[1]}, fresh)
}

// Memory gives what was learnt of a cloud's server; now is the clock by which it grows old.
func (c *Clouds) Memory(of target.Clouded, now func() time.Time) *cloud.Memory {
	return one(&c.mu, &c.memories, of, func() *cloud.Memory { return &cloud.Memory{Now: now} })
}

// one gives the only value of a key, which is made where there is none yet.
func one[K comparable, V any](mu *sync.Mutex, all *map[K]*V, of K, fresh func() *V) *V {
	mu.Lock()
	defer mu.Unlock()
	if *all == nil {
		*all = map[K]*V{}
	}
	if (*all)[of] == nil {
		(*all)[of] = fresh()
	}
	return (*all)[of]
}
