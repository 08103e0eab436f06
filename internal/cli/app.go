// Package cli is the command line: it alone parses flags, prints, and reads the terminal. Each command has a
// file; app.go takes arguments in and gives an exit code out.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/person"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/shell"
	"gentle-harbor/internal/wallet"
)

// Version is the program's version.
const Version = "0.1.0"

// App is one run of the program.
type App struct {
	Args    []string // without the program's name
	Environ []string // NAME=VALUE pairs
	Stdin   io.Reader
	Stdout  io.Writer
	Stderr  io.Writer
	// Dir is the folder that the program works in; "" for the process's own.
	Dir string
	// Resolver looks host names up; nil for the system's.
	Resolver route.Resolver

	who   person.Person
	typed *person.Typed
	board *board // the live one, nil when there is none
	told  bool   // that a project's folder was passed over
}

// Exit codes, as docs and help state them.
const (
	exitUsage       = 2
	exitSettings    = 3
	exitInterrupted = 130
)

// Interrupted is the exit code of a run that a signal ended.
const Interrupted = exitInterrupted

// exit is an error with the exit code that it leads to. Its message may be empty when all is said.
type exit struct {
	code    int
	message string
}

func (e exit) Error() string { return e.message }

func usage(format string, args ...any) error {
	return exit{exitUsage, fmt.Sprintf(format, args...)}
}

func wrong(format string, args ...any) error {
	return exit{exitSettings, fmt.Sprintf(format, args...)}
}

// command is one of the program's commands.
type command struct {
	name     string
	synopsis string // what follows the name
	about    string // one line
	text     string // more lines for help
	examples []string
	// settings tells whether the command takes the profile's settings as flags; connects, whether they
	// override for one run.
	settings bool
	connects bool
	json     bool
	flags    func(fs *flag.FlagSet, c *call)
	run      func(ctx context.Context, c *call) error
	// subs are the actions of a command that has several, each named "COMMAND ACTION".
	subs []*command
}

// call is a command with its arguments taken apart.
type call struct {
	*App
	command *command
	names   []string
	set     profile.Layer // settings given as flags
	json    bool
	yes     bool
	replace bool
	test    bool
	as      string
	stay    bool
	project bool
	all     bool
	flat    bool
	list    bool
	secret  bool
	// harmless says that nothing is connected to and no secret is read, so that no agreement is needed
	harmless         bool
	man              bool
	undo             bool
	follow           bool
	unset            []string
	repeat, parallel int
	span, every      time.Duration
	whatever         bool
	now              bool
	to               string
	escapeFormulas   bool
	named            string
	label            []string

	// about names the profile that messages are about
	about                                         string
	secretFile, passphraseFile, newPassphraseFile string
	passphraseRead                                secret.Secret
	walletPath, keep                              string
	first                                         bool
	way                                           wayFlags
	keepersMu                                     sync.Mutex
	keepers                                       map[string]*wallet.Keeper

	kinOnce     sync.Once
	kinFound    map[string][]kin
	adminsOnce  sync.Once
	adminsFound map[string][]string
}

// Main runs the command that Args name and gives the exit code.
func (a *App) Main(ctx context.Context) int {
	a.typed = &person.Typed{}
	colour := a.wantsColour()
	a.Stdout, a.Stderr = &report.Text{To: a.Stdout, Colour: colour}, &report.Text{To: a.Stderr, Colour: colour}
	a.who = &person.Terminal{In: a.Stdin, Out: a.Stderr, Pause: a.pause}
	err := a.dispatch(ctx)
	var e exit
	switch {
	case err == nil:
		return 0
	case ctx.Err() != nil, errors.Is(err, context.Canceled), errors.Is(err, person.ErrLeft):
		fmt.Fprintln(a.Stderr, "gharbor: interrupted")
		return exitInterrupted
	case errors.As(err, &e):
		if e.message != "" {
			fmt.Fprintln(a.Stderr, "gharbor: "+e.message)
		}
		return e.code
	}
	fmt.Fprintln(a.Stderr, "gharbor: "+err.Error())
	return 1
}

func (a *App) dispatch(ctx context.Context) error {
	a.warnOfVariables()
	if len(a.Args) == 0 {
		a.help(a.Stdout)
		return nil
	}
	name := strings.TrimLeft(a.Args[0], "-")
	if (name == "help" || name == "version") && a.Args[0] != name {
		a.Args[0] = name
	}
	cmd := find(a.Args[0])
	if cmd == nil {
		near := profile.Nearest(a.Args[0], commandNames())
		if near != "" {
			return usage("there is no command %q; did you mean %s? (gharbor help lists all)", clip(a.Args[0]), near)
		}
		return usage("there is no command %q; gharbor help lists all", clip(a.Args[0]))
	}
	args := a.Args[1:]
	if len(cmd.subs) > 0 {
		if len(args) == 0 || args[0] == "--help" || args[0] == "-h" || args[0] == "help" {
			cmd.help(a.Stdout)
			return nil
		}
		sub := cmd.sub(args[0])
		if sub == nil {
			near := profile.Nearest(args[0], cmd.actions())
			if near != "" {
				near = "; did you mean " + near + "?"
			}
			return usage("%s has no action %q%s (it has %s; the action comes right behind the command)", cmd.name, clip(args[0]), near, strings.Join(cmd.actions(), ", "))
		}
		cmd, args = sub, args[1:]
	}
	c := &call{App: a, command: cmd, set: profile.Layer{}}
	if err := c.parse(args); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			cmd.help(a.Stdout)
			return nil
		}
		return err
	}
	err := cmd.run(ctx, c)
	var e exit
	if c.json && errors.As(err, &e) && e.message != "" {
		_ = writeJSON(a.Stdout, map[string]any{"error": e.message, "exit": e.code})
	}
	return err
}

// parse takes flags and names in any order; "--" ends the flags.
func (c *call) parse(args []string) error {
	fs := flag.NewFlagSet(c.command.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	c.declare(fs)
	for {
		// The flag package would echo a flag's value in its error, and the value may be a secret in a wrong
		// place; errors of settings' flags come from declare and name no value that they should not.
		if err := fs.Parse(args); err != nil {
			return c.flagError(fs, err)
		}
		rest := fs.Args()
		ended := len(rest) < len(args) && args[len(args)-len(rest)-1] == "--"
		if len(rest) == 0 || ended {
			c.names = append(c.names, rest...)
			return nil
		}
		c.names = append(c.names, rest[0])
		args = rest[1:]
	}
}

func (c *call) declare(fs *flag.FlagSet) {
	if c.command.settings {
		c.declareSettings(fs)
	}
	if c.command.connects {
		c.declareSecrets(fs)
	}
	if c.command.json {
		fs.BoolVar(&c.json, "json", false, "print JSON")
	}
	if c.command.flags != nil {
		c.command.flags(fs, c)
	}
}

func (c *call) flagError(fs *flag.FlagSet, err error) error {
	if errors.Is(err, flag.ErrHelp) {
		return err
	}
	text := err.Error()
	if name, ok := strings.CutPrefix(text, "flag provided but not defined: -"); ok {
		var known []string
		fs.VisitAll(func(f *flag.Flag) { known = append(known, f.Name) })
		name, _, _ = strings.Cut(strings.TrimLeft(name, "-"), "=")
		if near := profile.Nearest(name, known); near != "" {
			return usage("%s has no flag --%s; did you mean --%s?", c.command.name, clip(name), near)
		}
		if slices.Contains([]string{"password", "passwd", "pass", "pwd"}, name) {
			return usage("no flag takes a password's text, since others on this machine could read it; use --secret with one of %s", secret.Forms)
		}
		return usage("%s has no flag --%s; gharbor help %s lists those it has", c.command.name, clip(name), c.command.name)
	}
	if name, ok := strings.CutPrefix(text, "flag needs an argument: -"); ok {
		return usage("--%s wants a value after it", clip(name))
	}
	if _, after, ok := strings.Cut(text, ": "+flagMark); ok {
		return exit{exitUsage, after}
	}
	if _, after, ok := strings.Cut(text, " for "); ok {
		name, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(after, "flag "), "-"), ":")
		return usage("--%s does not take this value", clip(name))
	}
	return usage("a flag could not be read")
}

// flagMark marks the messages of our own flags, which are passed on alone.
const flagMark = "\x00"

// clip makes a word of the user's fit for a message.
func clip(word string) string {
	if r := []rune(word); len(r) > 60 {
		word = string(r[:60]) + "…"
	}
	return word
}

// wantsColour reports whether terminals may show colours (no-color.org; TERM of terminals without any).
func (a *App) wantsColour() bool {
	no, set := a.env("NO_COLOR")
	kind, _ := a.env("TERM")
	return (!set || no == "") && kind != "dumb"
}

// env looks a variable up in Environ.
func (a *App) env(name string) (string, bool) {
	for i := len(a.Environ) - 1; i >= 0; i-- {
		if value, ok := strings.CutPrefix(a.Environ[i], name+"="); ok {
			return value, true
		}
	}
	return "", false
}

// home gives the folder of the user's own profiles: GHARBOR_HOME, or gentle-harbor in the system's
// configuration folder.
func (a *App) home() (string, error) {
	home, ok := a.env("GHARBOR_HOME")
	if !ok || home == "" {
		folder, err := os.UserConfigDir()
		if err != nil { // a job with an empty environment
			folder, err = files.Home()
			folder = filepath.Join(folder, configFolder)
		}
		if err != nil {
			return "", wrong("no place for profiles: neither GHARBOR_HOME nor a home folder is set")
		}
		return filepath.Join(folder, "gentle-harbor"), nil
	}
	absolute, err := filepath.Abs(home)
	if err != nil {
		return "", wrong("GHARBOR_HOME is not a usable path: %v", err)
	}
	return absolute, nil
}

// configFolder is where the system keeps configuration below a home folder.
var configFolder = map[string]string{"darwin": filepath.Join("Library", "Application Support"), "windows": filepath.Join("AppData", "Roaming")}[runtime.GOOS]

func init() {
	if configFolder == "" {
		configFolder = ".config"
	}
}

// state gives the folder of what is remembered between runs: below GHARBOR_HOME, or the system's.
func (a *App) state() (string, error) {
	if home, ok := a.env("GHARBOR_HOME"); ok && home != "" {
		home, err := a.home()
		return filepath.Join(home, "state"), err
	}
	if folder, ok := a.env("XDG_STATE_HOME"); ok && filepath.IsAbs(folder) {
		return filepath.Join(folder, "gentle-harbor"), nil
	}
	home, err := files.Home()
	if err != nil {
		return "", wrong("no place for what is remembered: neither GHARBOR_HOME nor a home folder is set")
	}
	switch runtime.GOOS {
	case "darwin":
		return filepath.Join(home, "Library", "Application Support", "gentle-harbor", "state"), nil
	case "windows":
		if folder, ok := a.env("LOCALAPPDATA"); ok {
			return filepath.Join(folder, "gentle-harbor", "state"), nil
		}
	}
	return filepath.Join(home, ".local", "state", "gentle-harbor"), nil
}

// library gives the profiles in reach: the user's own, and those of the project around the current folder.
func (a *App) library() (profile.Library, error) {
	home, err := a.home()
	if err != nil {
		return profile.Library{}, err
	}
	l := profile.Library{Mine: profile.Store{Dir: home}}
	dir, user := a.Dir, ""
	if dir == "" {
		if dir, err = os.Getwd(); err != nil {
			return l, nil // a folder that is gone has no project
		}
	}
	if folder, err := files.Home(); err == nil {
		user = folder
	}
	l.Project, err = profile.FindProject(dir, user)
	if err != nil && !a.told {
		a.told = true
		fmt.Fprintf(a.Stderr, "note: %v\n", err)
	}
	return l, nil
}

// agreements gives those that the user has made.
func (a *App) agreements() (agree.Agreements, error) {
	state, err := a.state()
	return agree.Agreements{File: filepath.Join(state, "agreements.json")}, err
}

// checker gives the checker for this run. At a terminal it can ask for a secret; known is the one that came
// with a connection string.
func (c *call) checker(known secret.Secret) checkup.Checker {
	checker := checkup.Checker{Resolver: c.Resolver, Secrets: c.finder(known)}
	checker.Admin, checker.Other = c.adminOf, c.otherSecret
	if !c.command.connects {
		return checker
	}
	checker.Overrides = asFlags(c.set)
	return checker
}

// asFlags writes a layer's settings as the flags that set them, one a line, each as a shell takes it.
func asFlags(layer profile.Layer) string {
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
