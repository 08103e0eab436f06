// Package cli is the command line: arguments become a use case of package harbor, and what comes
// of it is printed. It alone parses flags. Each command has a file; call.go has what they share,
// app.go takes arguments in and gives an exit code out.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/errno"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/doors"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/person"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/shell"
)

// Interrupted is the exit code of a run that a signal ended.
const Interrupted = world.ExitInterrupted

// everyCommand lists every command, in the order of help.
func everyCommand() []*command {
	return []*command{
		&addCommand, &changeCommand, &editCommand, &copyCommand, &renameCommand, &removeCommand, &listCommand, &showCommand,
		&testCommand, &awaitCommand, &expectCommand, &historyCommand, &hopsCommand, &meaningCommand,
		&runCommand, &loadCommand, &surveyCommand, &talkCommand,
		&holdCommand, &withCommand, &doorsCommand, &releaseCommand,
		&aliasCommand, &cloudCommand, &walletCommand, &credentialsCommand, &auditCommand, &agreeCommand,
		&findCommand, &importCommand, &exportCommand,
		demoCommand((*App).Main), &helpCommand, &versionCommand, &completionCommand,
	}
}

// Main runs the command that Args name and gives the exit code.
func (a *App) Main(ctx context.Context) int {
	colour := wantsColour(a.Environ)
	// Windows has another way to its console
	if env := (&world.World{Environ: a.Environ}).Env; runtime.GOOS != "windows" && !report.ShowsUTF8(env) {
		for _, each := range []*io.Writer{&a.Stdout, &a.Stderr} {
			if file, is := report.Terminal(*each); is && *each == io.Writer(file) {
				*each = &report.Plain{To: *each}
			}
		}
	}
	if _, inside := a.Stdout.(*report.Output); !inside {
		a.output = &report.Output{To: a.Stdout, Failed: a.Broken}
		a.Stdout = a.output
	}
	a.Stdout, a.Stderr = &report.Text{To: a.Stdout, Colour: colour}, &report.Text{To: a.Stderr, Colour: colour}
	a.world = &world.World{
		Environ: a.Environ, Stdin: a.Stdin, Dir: a.Dir, Resolver: a.Resolver, WalletWork: a.WalletWork,
		Who:          &person.Terminal{In: a.Stdin, Out: a.Stderr, Pause: a.pause},
		Say:          func(text string) { fmt.Fprintln(a.Stderr, "note: "+text) },
		Working:      a.working,
		AskAgreement: a.askAgreement,
		Waited:       func() time.Duration { return time.Duration(a.waited.Load()) },
	}
	a.commands = everyCommand()
	err := errors.Join(a.trustOwner(), a.chooseShell())
	if err == nil {
		err = a.dispatch(ctx)
	}
	var e world.Error
	var program programEnded
	if failed := a.unwritten(); failed != nil {
		if errno.Is(failed, errno.ClosedPipe) {
			return exitClosedPipe // whoever read it has gone, and hears no message
		}
		fmt.Fprintln(a.Stderr, "gharbor: not all of it could be written: "+systemWord(failed))
		if !errors.As(err, &e) || e.Code == 0 {
			return ExitFiles
		}
		return e.Code
	}
	switch {
	case err == nil:
		return 0
	case errors.As(err, &program):
		return int(program) // also when a signal ended it: the code is the program's
	case ctx.Err() != nil, errors.Is(err, context.Canceled), errors.Is(err, world.ErrLeft):
		fmt.Fprintln(a.Stderr, a.interrupted())
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

// exitClosedPipe is the exit code of a program whose reader has gone, as shells have it: 128 and
// the number of SIGPIPE.
const exitClosedPipe = 128 + 13

// ExitFiles is the exit code of a run whose output could not be written.
const ExitFiles = finding.ExitSettings

// unwritten gives why what was printed could not be written, nil where it was.
func (a *App) unwritten() error {
	if a.output == nil {
		return nil
	}
	return a.output.Err()
}

// chooseShell has all command lines that are shown written for the shell of GHARBOR_SHELL, else
// for the system's usual one.
func (a *App) chooseShell() error {
	name, _ := a.world.Env("GHARBOR_SHELL")
	kind, err := shell.Of(name, runtime.GOOS)
	if err != nil {
		return usage("the environment variable GHARBOR_SHELL: %v", err)
	}
	shell.Use(kind)
	return nil
}

// trustOwner takes the account of GHARBOR_OWNER for your own.
func (a *App) trustOwner() error {
	name, _ := a.world.Env("GHARBOR_OWNER")
	if err := files.AlsoTrust(name); err != nil {
		return usage("the environment variable GHARBOR_OWNER: %v", err)
	}
	return nil
}

func (a *App) dispatch(ctx context.Context) error {
	a.warnOfVariables()
	if len(a.Args) == 0 {
		return printPage(a.Stdout, a.help)
	}
	name := strings.TrimLeft(a.Args[0], "-")
	switch {
	case a.Args[0] == "-h":
		a.Args[0] = "help"
	case (name == "help" || name == "version") && a.Args[0] != name:
		a.Args[0] = name
	}
	cmd := a.find(a.Args[0])
	if cmd == nil {
		if instead, is := insteadOfCommand[strings.ToLower(name)]; is {
			return usage("there is no command %q. %s", clip(a.Args[0]), instead)
		}
		near := profile.Nearest(a.Args[0], a.commandNames())
		if near != "" {
			return usage("there is no command %q; did you mean %s?", clip(a.Args[0]), near)
		}
		return usage("there is no command %q. To see them all: gharbor help", clip(a.Args[0]))
	}
	args := a.Args[1:]
	if len(cmd.subs) > 0 && (len(args) == 0 || slices.Contains([]string{"--help", "-h", "help"}, args[0])) {
		return printPage(a.Stdout, cmd.help)
	}
	cmd, args, err := cmd.action(args)
	if err != nil {
		return err
	}
	c := a.newCall(cmd)
	c.Connects = cmd.connects
	if err := c.parse(args); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			return printPage(a.Stdout, cmd.help)
		}
		return cmd.withExample(err)
	}
	if err := c.oneForm(); err != nil {
		return err
	}
	return c.carriedOut(ctx)
}

// wantsColour reports whether terminals may show colours (no-color.org; TERM of terminals without
// any).
func wantsColour(environ []string) bool {
	w := world.World{Environ: environ}
	no, set := w.Env("NO_COLOR")
	kind, _ := w.Env("TERM")
	return (!set || no == "") && kind != "dumb"
}

// warnOfVariables warns of variables that look like ours and are not known: a misspelt one would
// silently do nothing.
func (a *App) warnOfVariables() {
	known := slices.Clone(harbor.Reserved)
	for _, s := range profile.Settings {
		if name := s.Variable(); name != "" {
			known = append(known, name)
		}
	}
	for _, pair := range a.Environ {
		name, _, _ := strings.Cut(pair, "=")
		if !strings.HasPrefix(name, "GHARBOR_") || slices.Contains(known, name) || doors.IsVariable(name) {
			continue
		}
		hint := ""
		if near := profile.Nearest(name, known); near != "" {
			hint = "; did you mean " + near + "?"
		}
		fmt.Fprintf(a.Stderr, "gharbor: the environment variable %s has no meaning here%s\n", clip(name), hint)
	}
}
