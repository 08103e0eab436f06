package cli

import (
	"context"
	"flag"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/route"
)

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
	// WalletWork is the work factor of wallets; 0 for the usual one (world.World).
	WalletWork int

	// Broken is called when the output cannot be written any more; it may be nil.
	Broken func()

	world    *world.World // what this run was handed, for all of its use cases
	output   *report.Output
	commands []*command
	onScreen interface{ pause() (resume func()) } // what is painted there and makes way for a question, nil for nothing
	leaving  leaving
	waited   atomic.Int64 // the nanoseconds for which a person was waited for
	caught   atomic.Pointer[func()]
	ended    atomic.Pointer[os.Signal] // what ended the run
}

// Ended notes the signal that ends the run, before its context does.
func (a *App) Ended(by os.Signal) { a.ended.Store(&by) }

// interrupted says that the run was ended, and by which signal where that is not Ctrl-C: whoever
// reads it later, as in the log of a job, was not there.
func (a *App) interrupted() string {
	text := "gharbor: interrupted"
	if by := a.ended.Load(); by != nil {
		for signal, name := range map[os.Signal]string{syscall.SIGTERM: "SIGTERM", syscall.SIGHUP: "SIGHUP",
			syscall.SIGQUIT: "SIGQUIT"} {
			if *by == signal {
				text += " (" + name + ")"
			}
		}
	}
	return text
}

// Interrupt is told of Ctrl-C, and reports whether it was for what is done now alone: then the
// program goes on.
func (a *App) Interrupt() bool {
	do := a.caught.Load()
	if do != nil {
		(*do)()
	}
	return do != nil
}

// leaving is what must still be done when the program is ended immediately.
type leaving struct {
	mu    sync.Mutex
	works map[int]func()
	last  int
	ended bool // nothing may begin any more that would have to be taken away
}

// atOnce has something done when a second signal ends the program immediately; forget takes it
// back.
func (a *App) atOnce(work func()) (forget func()) {
	l := &a.leaving
	l.mu.Lock()
	if l.ended {
		l.mu.Unlock()
		select {} // the program ends now
	}
	defer l.mu.Unlock()
	if l.works == nil {
		l.works = map[int]func(){}
	}
	l.last++
	n := l.last
	l.works[n] = work
	return func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		delete(l.works, n)
	}
}

// AtOnce does what must still be done when the program is ended immediately, such as taking a
// folder away. It takes two seconds at most.
func (a *App) AtOnce() {
	l := &a.leaving
	l.mu.Lock()
	l.ended = true
	works := slices.Collect(maps.Values(l.works))
	l.mu.Unlock()
	for _, work := range works {
		work()
	}
}

// call is a command with its arguments taken apart.
type call struct {
	*App
	harbor.Run // what the flags say
	command    *command
	options    options
	names      []string
	after      []string // what follows --, for a command with a program
	json       bool
	about      string // the profile that messages are about
	// borrowed does work in a session that is open already; nil where the work opens one.
	borrowed func(ctx context.Context, work harbor.Work) error
}

// command is one of the program's commands.
type command struct {
	name     string
	synopsis string // what follows the name
	about    string // one line
	text     string // more lines for help
	examples []string
	// settings says that the command takes the profile's settings as flags; connects, that they
	// hold for one run, and that it takes the flags of secrets too.
	settings bool
	connects bool
	json     bool
	// program says that what follows -- is a program and its arguments.
	program bool
	// options makes the command's own flags for one run.
	options func() options
	// subs are the actions of a command that has several, each named "COMMAND ACTION".
	subs []*command
}

// flagSet makes the flags of a command. What a flag means is in flagMeanings, or is a setting's
// own text: no command says it for itself.
type flagSet struct{ set *flag.FlagSet }

// options are a command's own flags, and what the command does. A value serves one run.
type options interface {
	flags(fs flagSet, run *harbor.Run)
	run(ctx context.Context, c *call) error
}

// optionsOf makes the options of a type, with zero values.
func optionsOf[T any, P interface {
	*T
	options
}]() options {
	return P(new(T))
}

// plain are the options of a command without flags of its own.
type plain func(ctx context.Context, c *call) error

func (plain) flags(flagSet, *harbor.Run) {}

func (p plain) run(ctx context.Context, c *call) error { return p(ctx, c) }

// without makes the options of a command without flags of its own.
func without(run func(ctx context.Context, c *call) error) func() options {
	return func() options { return plain(run) }
}

// sub gives the action of a command by its word, nil when there is none.
func (cmd *command) sub(second string) *command {
	for _, each := range cmd.subs {
		if each.name == cmd.name+" "+second {
			return each
		}
	}
	return nil
}

// actions lists the words of a command's actions.
func (cmd *command) actions() []string {
	var words []string
	for _, each := range cmd.subs {
		words = append(words, strings.TrimPrefix(each.name, cmd.name+" "))
	}
	return words
}

// takesSetting reports whether a command has a flag of a setting. What describes a profile is no
// setting of a run.
func (cmd *command) takesSetting(s profile.Setting) bool {
	return cmd.settings && !(cmd.connects && (s.Scope == profile.OfItself || s.Name == "labels."))
}
