// Package cli is the command line: it alone parses flags, prints, and reads the terminal. Each command has a
// file; app.go takes arguments in and gives an exit code out.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/person"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
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

	*harbor.Run
	board *board // the live one, nil when there is none
}

// Interrupted is the exit code of a run that a signal ended.
const Interrupted = harbor.ExitInterrupted

const (
	exitUsage       = harbor.ExitUsage
	exitSettings    = harbor.ExitSettings
	exitInterrupted = harbor.ExitInterrupted
)

// exit is an error with the exit code that it leads to. Its message may be empty when all is said.
type exit = harbor.Error

func usage(format string, args ...any) error { return harbor.Usage(format, args...) }
func wrong(format string, args ...any) error { return harbor.Wrong(format, args...) }
func clip(word string) string                { return harbor.Clip(word) }

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
	command          *command
	names            []string
	json             bool
	yes              bool
	replace          bool
	test             bool
	as               string
	stay             bool
	project          bool
	all              bool
	flat             bool
	list             bool
	secret           bool
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
	about string
	first bool
	way   wayFlags
}

// Main runs the command that Args name and gives the exit code.
func (a *App) Main(ctx context.Context) int {
	colour := wantsColour(a.Environ)
	a.Stdout, a.Stderr = &report.Text{To: a.Stdout, Colour: colour}, &report.Text{To: a.Stderr, Colour: colour}
	a.Run = &harbor.Run{
		Environ: a.Environ, Stdin: a.Stdin, Dir: a.Dir, Resolver: a.Resolver,
		Who: &person.Terminal{In: a.Stdin, Out: a.Stderr, Pause: a.pause},
		Say: func(text string) { fmt.Fprintln(a.Stderr, "note: "+text) },
	}
	err := a.dispatch(ctx)
	var e exit
	switch {
	case err == nil:
		return 0
	case ctx.Err() != nil, errors.Is(err, context.Canceled), errors.Is(err, person.ErrLeft):
		fmt.Fprintln(a.Stderr, "gharbor: interrupted")
		return exitInterrupted
	case errors.As(err, &e):
		if e.Message != "" {
			fmt.Fprintln(a.Stderr, "gharbor: "+e.Message)
		}
		return e.Code
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
	c := &call{App: a, command: cmd}
	c.Set, c.Connects, c.AskAgreement = profile.Layer{}, cmd.connects, c.askAgreement
	if err := c.parse(args); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			cmd.help(a.Stdout)
			return nil
		}
		return err
	}
	err := cmd.run(ctx, c)
	var p *finding.Problem
	if errors.As(err, &p) {
		err = c.problem(p)
	}
	var e exit
	if c.json && errors.As(err, &e) && e.Message != "" {
		_ = writeJSON(a.Stdout, map[string]any{"error": e.Message, "exit": e.Code})
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
		return exit{Code: exitUsage, Message: after}
	}
	if _, after, ok := strings.Cut(text, " for "); ok {
		name, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(after, "flag "), "-"), ":")
		return usage("--%s does not take this value", clip(name))
	}
	return usage("a flag could not be read")
}

// flagMark marks the messages of our own flags, which are passed on alone.
const flagMark = harbor.FlagMark

// wantsColour reports whether terminals may show colours (no-color.org; TERM of terminals without any).
func wantsColour(environ []string) bool {
	run := harbor.Run{Environ: environ}
	no, set := run.Env("NO_COLOR")
	kind, _ := run.Env("TERM")
	return (!set || no == "") && kind != "dumb"
}
