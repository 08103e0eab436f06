package harbor

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/shell"
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
			return "", Wrong("no place for profiles: neither GHARBOR_HOME nor a home folder is set")
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
		return "", Wrong("no place for what is remembered: neither GHARBOR_HOME nor a home folder is set")
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
	l := profile.Library{Mine: profile.Store{Dir: home}}
	dir, user := r.Dir, ""
	if dir == "" {
		if dir, err = os.Getwd(); err != nil {
			return l, nil // a folder that is gone has no project
		}
	}
	if folder, err := r.account(); err == nil {
		user = folder
	}
	l.Project, err = profile.FindProject(dir, user)
	if err != nil && !r.told {
		r.told = true
		r.Note("%v", err)
	}
	return l, nil
}

// Agreements gives those that the user has made.
func (r *Run) Agreements() (agree.Agreements, error) {
	state, err := r.State()
	return agree.Agreements{File: filepath.Join(state, "agreements.json")}, err
}

// Checker gives the checker for this run. At a terminal it can ask for a secret; known is the one that came
// with a connection string.
func (r *Run) Checker(known secret.Secret) checkup.Checker {
	checker := checkup.Checker{Resolver: r.Resolver, Secrets: r.Finder(known)}
	checker.Admin, checker.Other = r.adminOf, r.otherSecret
	if !r.Connects {
		return checker
	}
	checker.Overrides = AsFlags(r.Set)
	return checker
}

// AsFlags writes a layer's settings as the flags that set them, one a line, each as a shell takes it.
func AsFlags(layer profile.Layer) string {
	var lines strings.Builder
	for _, name := range layer.Names() {
		s, _ := profile.Find(name)
		prefix := ""
		if group, key, nested := strings.Cut(name, "."); nested && (s.Flag == "expect" || s.Name == group+".") {
			prefix = key + "="
		}
		items := layer[name].List
		if items == nil {
			items = []string{layer[name].Text}
		}
		for _, item := range items {
			fmt.Fprintf(&lines, "--%s %s\n", s.Flag, shell.Word(prefix+item))
		}
	}
	return lines.String()
}
