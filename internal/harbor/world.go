package harbor

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/alias"
	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/container"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/profile"
)

// Env looks a variable up in Environ.
func (r *Run) Env(name string) (string, bool) {
	for i := len(r.Environ) - 1; i >= 0; i-- {
		if value, ok := strings.CutPrefix(r.Environ[i], name+"="); ok {
			return value, true
		}
	}
	return "", false
}

// Home gives the folder of the user's own profiles: GHARBOR_HOME, or gentle-harbor in the system's
// configuration folder.
func (r *Run) Home() (string, error) {
	home, ok := r.Env("GHARBOR_HOME")
	if !ok || home == "" {
		folder, err := r.configFolder()
		if err != nil {
			return "", Wrong("there is no folder for profiles: neither GHARBOR_HOME nor a home folder is set")
		}
		return filepath.Join(folder, "gentle-harbor"), nil
	}
	absolute, err := filepath.Abs(home)
	if err != nil {
		return "", Wrong("GHARBOR_HOME is not a usable path: %v", err)
	}
	return absolute, nil
}

// configFolder gives where the system keeps an account's configuration, from the environment that was handed in.
func (r *Run) configFolder() (string, error) {
	variable, below := "XDG_CONFIG_HOME", ".config"
	switch runtime.GOOS {
	case "darwin":
		variable, below = "", filepath.Join("Library", "Application Support")
	case "windows":
		variable, below = "APPDATA", filepath.Join("AppData", "Roaming")
	}
	if folder, ok := r.Env(variable); ok && filepath.IsAbs(folder) {
		return folder, nil
	}
	home, err := r.account()
	return filepath.Join(home, below), err
}

// account gives the account's home folder: HOME of the environment that was handed in, else the one that the system's
// list of users has.
func (r *Run) account() (string, error) {
	if home, ok := r.Env("HOME"); ok && filepath.IsAbs(home) {
		return home, nil
	}
	return files.Home()
}

// World gives what this run was handed of the account.
func (r *Run) World() files.World {
	home, _ := r.account()
	path, _ := r.Env("PATH")
	return files.World{Home: home, Path: path, Cloud: r.cloudAt, Far: func() bool {
		engines, err := r.Engines()
		return err == nil && slices.ContainsFunc(engines, container.Engine.Far)
	}}
}

// accounts gives the user's cloud accounts.
func (r *Run) accounts() (cloud.Accounts, error) {
	home, err := r.Home()
	if err != nil {
		return cloud.Accounts{}, err
	}
	account, _ := r.account()
	return cloud.Accounts{Dir: filepath.Join(home, "clouds"), World: files.World{Home: account}}, nil
}

// cloudAt says where the cloud of an account is, for profiles; see [files.World].
func (r *Run) cloudAt(name string) (at files.Cloud, wrong string) {
	list, err := r.accounts()
	if err != nil {
		return at, upperFirst(err.Error()) + "."
	}
	a, err := list.Load(name)
	if err != nil {
		return at, upperFirst(noAccount(list, name, err).Error()) + "."
	}
	place := a.Origin.Place()
	return files.Cloud{URL: a.Origin.String(), Host: place.Host, Port: place.Port}, ""
}

// noAccount words why an account could not be read, with a near name.
func noAccount(list cloud.Accounts, name string, err error) error {
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

// Engines gives the container engines that this run's environment chooses, once in a run.
func (r *Run) Engines() ([]container.Engine, error) {
	r.enginesOnce.Do(func() {
		home, _ := r.account()
		r.engines, r.enginesErr = container.World{Env: r.Env, Home: home}.Engines()
	})
	return r.engines, r.enginesErr
}

// Folder gives the folder that the run is in.
func (r *Run) Folder() string {
	if r.Dir != "" {
		return r.Dir
	}
	dir, _ := os.Getwd()
	return dir
}

// Temp gives the folder of this program's own for what is needed for a moment, where the system's is open to others.
func (r *Run) Temp() (string, error) {
	state, err := r.State()
	return filepath.Join(state, "temporary"), err
}

// Authorities gives the variables that decide which authorities certify servers, as crypto/x509 reads them, in the place of the
// system's: "SSL_CERT_FILE=/path". It is "" for none, and on macOS and Windows, which ask the system alone.
func (r *Run) Authorities() string {
	var set []string
	for _, name := range certVariables {
		if value, ok := r.Env(name); ok && value != "" {
			set = append(set, name+"="+value)
		}
	}
	return strings.Join(set, ", ")
}

// State gives the folder of what is remembered between runs: below GHARBOR_HOME, or the system's.
func (r *Run) State() (string, error) {
	if home, ok := r.Env("GHARBOR_HOME"); ok && home != "" {
		home, err := r.Home()
		return filepath.Join(home, "state"), err
	}
	if folder, ok := r.Env("XDG_STATE_HOME"); ok && filepath.IsAbs(folder) {
		return filepath.Join(folder, "gentle-harbor"), nil
	}
	home, err := r.account()
	if err != nil {
		return "", Wrong("there is no folder for what is remembered: neither GHARBOR_HOME nor a home folder is set")
	}
	switch runtime.GOOS {
	case "darwin":
		return filepath.Join(home, "Library", "Application Support", "gentle-harbor", "state"), nil
	case "windows":
		if folder, ok := r.Env("LOCALAPPDATA"); ok {
			return filepath.Join(folder, "gentle-harbor", "state"), nil
		}
	}
	return filepath.Join(home, ".local", "state", "gentle-harbor"), nil
}

// Library gives the profiles in reach: the user's own, and those of the project around the current folder.
func (r *Run) Library() (profile.Library, error) {
	home, err := r.Home()
	if err != nil {
		return profile.Library{}, err
	}
	l := profile.Library{Mine: profile.Store{Dir: home}, World: r.World()}
	dir := r.Dir
	if dir == "" {
		if dir, err = os.Getwd(); err != nil {
			return l, nil // a folder that is gone has no project
		}
	}
	l.Project, err = profile.FindProject(dir, l.World.Home)
	if err != nil && !r.told {
		r.told = true
		r.Note("%v", err)
	}
	book, err := r.Book(l.Mine, l.Project)
	l.Aliases = book
	return l, err
}

// Book gives the files of aliases in reach: those that --aliases and GHARBOR_ALIASES name, the user's own, the project's.
func (r *Run) Book(mine, project profile.Store) (*alias.Book, error) {
	r.bookOnce.Lock()
	defer r.bookOnce.Unlock()
	if r.book != nil {
		return r.book, nil
	}
	book := &alias.Book{}
	variable, _ := r.Env("GHARBOR_ALIASES")
	for _, path := range append(slices.Clone(r.AliasFiles), filepath.SplitList(variable)...) {
		if path != "" {
			book.Sources = append(book.Sources, alias.Source{Path: r.Path(path)})
		}
	}
	for _, store := range []profile.Store{mine, project} {
		if store.Dir != "" {
			book.Sources = append(book.Sources, alias.Source{Path: filepath.Join(store.Dir, alias.FileName), Store: store})
		}
	}
	r.book = book
	return book, nil
}

// LoadError words why a profile could not be read, with the nearest name for one that is not there.
func (r *Run) LoadError(library profile.Library, name string, err error) error {
	if !errors.Is(err, profile.ErrUnknown) {
		return Wrong("%v", err)
	}
	if layer, _ := profile.SplitLayer(name); layer == "project" && library.Project.Dir == "" {
		return Wrong("there is no project in or above the current folder, and so no profile %s", Clip(name))
	}
	entries, _ := library.List()
	var names []string
	for _, entry := range entries {
		names = append(names, entry.Name)
	}
	if len(names) == 0 {
		return Wrong("there is no profile %s, and none yet at all; make one with gharbor add %s", Clip(name), Clip(name))
	}
	if slices.Contains(profile.Groups(names), name+"/") {
		return Wrong("%s is a group, and no profile; %s/ stands for all that is in it", Clip(name), Clip(name))
	}
	if near := profile.NearNames(name, names); near != nil {
		return Wrong("there is no profile %s; did you mean %s?", Clip(name), profile.Or(near))
	}
	return Wrong("there is no profile %s; gharbor list shows those there are", Clip(name))
}

// Agreements gives those that the user has made.
func (r *Run) Agreements() (agree.Agreements, error) {
	state, err := r.State()
	return agree.Agreements{File: filepath.Join(state, "agreements.json")}, err
}

// AsFlags gives a layer's settings as the flags that set them, each with its value.
func AsFlags(layer profile.Layer) [][]string {
	var flags [][]string
	for _, name := range layer.Names() {
		s, _ := profile.Find(name)
		prefix := ""
		if _, key, nested := strings.Cut(name, "."); nested && s.Keyed() {
			prefix = key + "="
		}
		items := layer[name].List
		if items == nil {
			items = []string{layer[name].Text}
		}
		for _, item := range items {
			flags = append(flags, []string{"--" + s.Flag, prefix + item})
		}
	}
	return flags
}

// Path makes a path of the command line's absolute.
func (r *Run) Path(path string) string {
	if r.Dir != "" && !filepath.IsAbs(path) {
		path = filepath.Join(r.Dir, path)
	}
	if absolute, err := filepath.Abs(path); err == nil {
		return absolute
	}
	return path
}
