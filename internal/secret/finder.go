package secret

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"strings"
	"time"
)

// MaxSize is how many bytes a secret may have. Both servers stop well below it.
const MaxSize = 16 << 10

// Finder follows references. Its zero value reads files, knows no environment and asks nobody.
type Finder struct {
	// Env looks an environment variable up; nil knows none.
	Env func(name string) (string, bool)
	// Known is a secret that came with the connection itself, in a connection string. It serves where no
	// reference was written.
	Known Secret
	// KnownSaw says where Known came from; "from the connection string" when empty.
	KnownSaw string
	// Environ is the environment of programs that print a secret.
	Environ []string
	// Ask has a person type a secret; nil where nobody can be asked. Its error is passed on as it is.
	Ask func(ctx context.Context, prompt string) (Secret, error)
}

// Problem is why a reference led to no secret. Code is a finding's code of the leg "secret".
type Problem struct {
	Code   string   // such as "secret.file-unsafe"
	Detail string   // what was found, in a sentence
	Mend   string   // what to do, "" when the finding's own remedies say it
	Tried  []string // each place that was looked at and why it did not answer
}

// Error gives the detail.
func (p *Problem) Error() string { return p.Detail }

// Want says what a secret is for.
type Want struct {
	Ref    Reference
	User   string // whose secret, for the prompt
	Where  string // which server's, for the prompt
	Spared bool   // a socket or a client certificate may make a password needless
}

// Find gives the secret that want.Ref leads to, and a line on where it came from. A Secret that is not
// Given means that none is to be sent. The error is a *Problem, or what Ask returned.
func (f Finder) Find(ctx context.Context, want Want) (Secret, string, error) {
	switch want.Ref.Kind {
	case None:
		return Secret{}, "none is sent, as the profile says", nil
	case Empty:
		return New(""), "an empty password, as the profile says", nil
	case Variable:
		return f.variable(want.Ref.Of)
	case File:
		secret, err := ReadFile(want.Ref.Of)
		return secret, "read from the file " + want.Ref.Of, err
	case Command:
		secret, err := f.command(ctx, want.Ref.Args)
		return secret, "printed by the program " + want.Ref.Args[0], err
	case Ask:
		if f.Ask == nil {
			return Secret{}, "", &Problem{Code: "secret.nobody-to-ask",
				Detail: "The profile says secret: ask, and there is no terminal to ask at."}
		}
		return f.ask(ctx, want)
	}
	if f.Known.Given() {
		saw := f.KnownSaw
		if saw == "" {
			saw = "from the connection string"
		}
		return f.Known, saw, nil
	}
	if want.Spared {
		return Secret{}, "none kept; none is sent on this way in", nil
	}
	if f.Ask != nil {
		return f.ask(ctx, want)
	}
	return Secret{}, "", &Problem{Code: "secret.none",
		Detail: "The profile says nothing about its secret, and no place that was looked at holds one.",
		Tried: []string{
			"secret: the profile has no such setting",
			"way in: neither a socket nor a client certificate, so a password is to be expected",
			"terminal: there is none to ask at",
		}}
}

func (f Finder) ask(ctx context.Context, want Want) (Secret, string, error) {
	secret, err := f.Ask(ctx, fmt.Sprintf("Password of %s at %s", want.User, want.Where))
	if err != nil {
		return Secret{}, "", err
	}
	if !secret.Given() {
		return secret, "none, as was answered", nil
	}
	return secret, "typed at the terminal", nil
}

func (f Finder) variable(name string) (Secret, string, error) {
	text, ok := "", false
	if f.Env != nil {
		text, ok = f.Env(name)
	}
	if !ok {
		return Secret{}, "", &Problem{Code: "secret.variable-unset",
			Detail: "The environment variable " + name + " is not set, and the profile's secret is to come from it."}
	}
	if err := usable(text); err != nil {
		return Secret{}, "", &Problem{Code: "secret.unusable", Detail: "The environment variable " + name + " " + err.Error() + "."}
	}
	return New(text), "from the environment variable " + name, nil
}

// commandTime is how long a program may take to print a secret.
const commandTime = 10 * time.Second

// command runs a program, without a shell, and takes what it prints as the secret. Its standard error is not
// shown: it may hold the secret too.
func (f Finder) command(ctx context.Context, args []string) (Secret, error) {
	ctx, cancel := context.WithTimeout(ctx, commandTime)
	defer cancel()
	problem := func(format string, more ...any) error {
		return &Problem{Code: "secret.command-failed", Detail: "The program " + args[0] + " " + fmt.Sprintf(format, more...)}
	}
	cmd := exec.CommandContext(ctx, args[0], args[1:]...)
	cmd.Env, cmd.WaitDelay = f.Environ, time.Second
	out, err := cmd.StdoutPipe()
	if err != nil {
		return Secret{}, problem("could not be started.")
	}
	if err := cmd.Start(); err != nil {
		return Secret{}, problem("could not be started: it is not there, or may not be run.")
	}
	data, _ := io.ReadAll(io.LimitReader(out, MaxSize+3))
	if len(data) > MaxSize+2 {
		cancel()
	}
	err = cmd.Wait()
	text := strings.TrimSuffix(strings.TrimSuffix(string(data), "\n"), "\r")
	var ended *exec.ExitError
	switch {
	case ctx.Err() == context.DeadlineExceeded:
		return Secret{}, problem("printed no password within %s.", commandTime)
	case usable(text) != nil:
		return Secret{}, problem("printed something that is no password: it %v.", usable(text))
	case errors.As(err, &ended):
		return Secret{}, problem("failed with the exit code %d.", ended.ExitCode())
	case err != nil:
		return Secret{}, problem("failed.")
	case text == "":
		return Secret{}, problem("printed nothing.")
	}
	return New(text), nil
}

// ReadFile gives the whole of a file, one trailing newline (LF or CRLF) cut, as a secret. The file must be a
// regular one of at most MaxSize bytes that only its owner can read, and its owner must be this user or root;
// its folder must be closed to others' writes. The error is a *Problem.
func ReadFile(path string) (Secret, error) {
	file, err := os.Open(path)
	if err != nil {
		return Secret{}, fileProblem(path, err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return Secret{}, fileProblem(path, err)
	}
	if !info.Mode().IsRegular() {
		return Secret{}, &Problem{Code: "secret.file-missing", Detail: path + " is not a regular file."}
	}
	if problem := guarded(path, info); problem != nil {
		return Secret{}, problem
	}
	data, err := io.ReadAll(io.LimitReader(file, MaxSize+3))
	if err != nil {
		return Secret{}, fileProblem(path, err)
	}
	text := strings.TrimSuffix(strings.TrimSuffix(string(data), "\n"), "\r")
	if err := usable(text); err != nil {
		return Secret{}, &Problem{Code: "secret.unusable", Detail: "The file " + path + " " + err.Error() + "."}
	}
	return New(text), nil
}

func fileProblem(path string, err error) *Problem {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return &Problem{Code: "secret.file-missing", Detail: "There is no file " + path + "."}
	case errors.Is(err, fs.ErrPermission):
		return &Problem{Code: "secret.file-missing", Detail: "This user may not read " + path + "."}
	}
	return &Problem{Code: "secret.file-missing", Detail: "The file " + path + " could not be read: " + err.Error() + "."}
}

// usable tells whether a text can be a password at all: both protocols end it at a zero byte.
func usable(text string) error {
	switch {
	case len(text) > MaxSize:
		return fmt.Errorf("holds more than %d KB, which is no password", MaxSize>>10)
	case strings.ContainsRune(text, 0):
		return errors.New("holds a zero byte, which no password can")
	}
	return nil
}
