package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"strings"
	"syscall"

	"golang.org/x/term"

	"gentle-harbor/internal/child"
	"gentle-harbor/internal/door"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/doors"
	"gentle-harbor/internal/outside"
)

var withCommand = command{
	name: "with", synopsis: "NAME[,NAME…] -- PROGRAM [argument…]",
	about: "run a program with a door open to a server, for as long as it runs",
	text: `The program gets GHARBOR_DOOR_HOST, GHARBOR_DOOR_PORT, GHARBOR_DOOR_USER and GHARBOR_DOOR_DATABASE (GHARBOR_DOOR_2_… for the second
profile), DATABASE_URL with the password of the profile, and the variables that the profile's setting hand-over names. {host}, {port},
{user} and {database} in its arguments are filled in, where one is a whole argument or follows an equals sign. A password goes through the
environment alone, never through an argument. Variables that override settings of gharbor are taken out of its environment. A door that
gharbor hold keeps open with the same settings and in the same form is used; else one is opened.

The exit code is the program's.`,
	examples: []string{"gharbor with huts/staging -- ./migrate --port {port}",
		"gharbor with huts/staging,archive/ledger -- make report"},
	settings: true, connects: true, program: true,
	options: optionsOf[withOptions],
}

type withOptions struct{ doors.Opening }

func (o *withOptions) ofDoor() {}

func (o *withOptions) flags(fs flagSet, _ *harbor.Run) { doorFlags(fs, &o.Opening) }

func (o *withOptions) run(ctx context.Context, c *call) error {
	if len(c.after) == 0 {
		return usage("put the program after --: gharbor with huts/local -- ./migrate up")
	}
	if err := doorsOwn(c.Set); err != nil {
		return err
	}
	o.Borrow = true
	var names []string
	for _, word := range c.names {
		names = append(names, strings.Split(word, ",")...)
	}
	if c.names = names; len(names) == 0 {
		var err error
		if names, err = c.profiles(); err != nil {
			return err
		}
	}
	program, err := c.Account().Program(c.after[0])
	if err != nil {
		return wrong("there is no program %s that can be run", clip(c.after[0]))
	}
	o.Run, o.Tell = c.Run, func(profile string, state door.State, why string) {
		if state != door.Open && state != door.Closed {
			c.tellDoor(profile, state, why)
		}
	}
	doors, err := o.Open(ctx, names)
	if err != nil {
		return c.doorFailed(err)
	}
	defer doors.Close(0)
	for _, h := range doors.List {
		by := ""
		if h.Borrowed != 0 {
			by = fmt.Sprintf(", the door that process %d holds", h.Borrowed)
		}
		fmt.Fprintf(c.Stderr, "%s is at %s%s\n", outside.Cell(h.Profile.Name), outside.Cell(h.Place()), by)
		if h.Untold {
			fmt.Fprintf(c.Stderr, "note: the server's certificate is for %s; have the program check that name, "+
				"since DATABASE_URL cannot\n",
				outside.Cell(h.Named))
		}
	}
	args, err := doors.Fill(c.after[1:])
	if err != nil {
		return err
	}
	cmd := exec.Command(program, args...)
	cmd.Env, cmd.Dir = doors.Environment(c.Environ), c.Dir
	c.handOver(cmd)
	return carried(cmd)
}

// programEnded is the exit code of a program that was run, as an error.
type programEnded int

// Error says which code.
func (p programEnded) Error() string { return fmt.Sprintf("the program ended with %d", int(p)) }

// carried runs a program to its end, passes signals on to it, and gives its exit code.
func carried(cmd *exec.Cmd) error {
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	defer signal.Stop(signals)
	group := child.Following(cmd)
	defer group.Close()
	if err := group.Start(); err != nil {
		return wrong("%s could not be started: %v", clip(cmd.Path), err)
	}
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	for {
		select {
		case s := <-signals:
			if file, ok := cmd.Stdin.(*os.File); ok && s == os.Interrupt && term.IsTerminal(int(file.Fd())) {
				continue // the terminal has told it already
			}
			_ = cmd.Process.Signal(s)
		case err := <-done:
			var code *exec.ExitError
			switch {
			case err == nil:
				return programEnded(0)
			case errors.As(err, &code) && code.ExitCode() >= 0:
				return programEnded(code.ExitCode())
			case errors.As(err, &code):
				if status, ok := code.Sys().(syscall.WaitStatus); ok && status.Signaled() {
					return programEnded(128 + int(status.Signal())) // as a shell has it
				}
			}
			return wrong("%s: %v", clip(cmd.Path), err)
		}
	}
}
