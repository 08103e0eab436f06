// Package world is what a run of the program was handed and what it opened once: the environment,
// folders, a resolver, a clock, whom to ask, stores, container engines, clouds and files of
// aliases. It knows no flags. [World] serves several use cases, at the same time too; [Reach] is
// what one of them reads of it: the profiles and aliases in reach.
package world

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/container"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/route/jump"
)

// World is what a run was handed, and what it has opened since. Its exported fields are set
// before its first use and not changed afterwards. All its methods are safe for several
// goroutines, if the functions that it was handed are.
type World struct {
	Environ []string // NAME=VALUE pairs
	Stdin   io.Reader
	// Dir is the folder that the program works in; "" for the process's own.
	Dir string
	// System is the system whose usual places hold, as runtime.GOOS names it; "" for this one.
	System string
	// Resolver looks host names up; nil for the system's.
	Resolver route.Resolver
	// Clock gives the time; nil for the system's.
	Clock func() time.Time
	// WalletWork is the work factor of wallets; 0 for the usual one. It is for tests: a wallet of
	// another factor is refused.
	WalletWork int
	Who        Person
	// Say is told what a person should know; nil for nobody.
	Say func(text string)
	// Working shows what takes its time, and gives what takes that away; nil for nothing.
	Working func(what string) (done func())
	// Waited gives how long people have been waited for so far; it may be nil.
	Waited func() time.Duration
	// AskAgreement shows terms to a person and asks whether they agree.
	AskAgreement func(ctx context.Context, s profile.Stack, t agree.Terms, standing agree.Standing) (bool, error)

	// Typed is what was typed for servers, TypedForHops what was typed for hops and their keys.
	Typed        Typed
	TypedForHops sync.Map
	// News are the host keys that were accepted.
	News jump.News
	// Clouds is what was learnt of the user's clouds.
	Clouds Clouds
	// Containers says which container a place was when it was tested, as a target.Definition.
	Containers sync.Map
	// Wallets are the wallets that were opened.
	Wallets Wallets

	told    atomic.Bool // that a project's folder was passed over
	engines struct {
		sync.Once
		list []container.Engine
		err  error
	}
}

// Now gives the time.
func (w *World) Now() time.Time {
	if w.Clock != nil {
		return w.Clock()
	}
	return time.Now()
}

func (w *World) system() string { return cmp.Or(w.System, runtime.GOOS) }

// Env looks a variable up in Environ. On Windows the case of its name does not matter.
func (w *World) Env(name string) (string, bool) {
	for i := len(w.Environ) - 1; i >= 0; i-- {
		has, value, is := strings.Cut(w.Environ[i], "=")
		if is && (has == name || w.system() == "windows" && strings.EqualFold(has, name)) {
			return value, true
		}
	}
	return "", false
}

// Home gives the folder of the user's own profiles: GHARBOR_HOME, or gentle-harbor in the system's
// configuration folder.
func (w *World) Home() (string, error) {
	home, ok := w.Env("GHARBOR_HOME")
	if !ok || home == "" {
		folder, err := w.configFolder()
		var said Error
		if errors.As(err, &said) {
			return "", said
		}
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

// configFolder gives where the system keeps an account's configuration, from the environment that
// was handed in.
func (w *World) configFolder() (string, error) {
	variable, below := "XDG_CONFIG_HOME", ".config"
	switch w.system() {
	case "darwin":
		variable, below = "", filepath.Join("Library", "Application Support")
	case "windows":
		variable, below = "APPDATA", filepath.Join("AppData", "Roaming")
	}
	if folder, ok := w.Env(variable); ok && filepath.IsAbs(folder) {
		return folder, nil
	}
	home, err := w.UserHome()
	return filepath.Join(home, below), err
}

// UserHome gives the account's home folder: HOME of the environment that was handed in
// (USERPROFILE on Windows, where HOME is for programs of other systems), else the one that the
// system's list of users has.
func (w *World) UserHome() (string, error) {
	variable, such := "HOME", "/home/warden"
	if w.system() == "windows" {
		variable, such = "USERPROFILE", `C:\Users\warden`
	}
	if home, ok := w.Env(variable); ok && home != "" {
		if !filepath.IsAbs(home) { // to take another home instead would be worse than none
			return "", Wrong("%s is %s, and must be a whole path, such as %s", variable, Clip(home), such)
		}
		return home, nil
	}
	return files.Home()
}

// Engines gives the container engines that the environment chooses, which is read once.
func (w *World) Engines() ([]container.Engine, error) {
	w.engines.Do(func() {
		home, _ := w.UserHome()
		w.engines.list, w.engines.err = container.World{Env: w.Env, Home: home}.Engines()
	})
	return w.engines.list, w.engines.err
}

// Folder gives the folder that the run is in.
func (w *World) Folder() string {
	if w.Dir != "" {
		return w.Dir
	}
	dir, _ := os.Getwd()
	return dir
}

// Temp gives the folder of this program's own for what is needed for a moment, where the system's
// is open to others.
func (w *World) Temp() (string, error) {
	state, err := w.State()
	return filepath.Join(state, "temporary"), err
}

// Authorities gives the variables that decide which authorities certify servers, as crypto/x509
// reads them, instead of the system's: "SSL_CERT_FILE=/path". It is "" for none, and on macOS and
// Windows, which ask the system alone.
func (w *World) Authorities() string {
	var set []string
	for _, name := range CertVariables {
		if value, ok := w.Env(name); ok && value != "" {
			set = append(set, name+"="+value)
		}
	}
	return strings.Join(set, ", ")
}

// State gives the folder of what is remembered between runs: below GHARBOR_HOME, or the system's.
func (w *World) State() (string, error) {
	if home, ok := w.Env("GHARBOR_HOME"); ok && home != "" {
		home, err := w.Home()
		return filepath.Join(home, "state"), err
	}
	if folder, ok := w.Env("XDG_STATE_HOME"); ok && filepath.IsAbs(folder) {
		return filepath.Join(folder, "gentle-harbor"), nil
	}
	home, err := w.UserHome()
	if err != nil {
		return "", Wrong("there is no folder for what is remembered: neither GHARBOR_HOME nor a home folder is set")
	}
	switch w.system() {
	case "darwin":
		return filepath.Join(home, "Library", "Application Support", "gentle-harbor", "state"), nil
	case "windows":
		if folder, ok := w.Env("LOCALAPPDATA"); ok {
			return filepath.Join(folder, "gentle-harbor", "state"), nil
		}
	}
	return filepath.Join(home, ".local", "state", "gentle-harbor"), nil
}

// Path makes a path of the command line's absolute.
func (w *World) Path(path string) string {
	if w.Dir != "" && !filepath.IsAbs(path) {
		path = filepath.Join(w.Dir, path)
	}
	if absolute, err := filepath.Abs(path); err == nil {
		return absolute
	}
	return path
}

// Note says something to a person.
func (w *World) Note(format string, more ...any) {
	if w.Say != nil {
		w.Say(fmt.Sprintf(format, more...))
	}
}

// Tell prints a line for a person, such as the result of an answer.
func (w *World) Tell(format string, more ...any) { w.Who.Say(fmt.Sprintf(format, more...)) }

// Busy shows what takes its time while it does.
func (w *World) Busy(what string) (done func()) {
	if w.Working == nil {
		return func() {}
	}
	return w.Working(what)
}

// Consent asks for a yes where something is to be agreed to. Said is a yes that was given before;
// without a terminal it is the only one, and otherwise says then what would happen.
func (w *World) Consent(ctx context.Context, said bool, question, otherwise string) (bool, error) {
	if said {
		return true, nil
	}
	if !w.Who.Here() {
		return false, Usage("%s. To do it, add the flag: --yes", otherwise)
	}
	return Yes(ctx, w.Who, question, false)
}
