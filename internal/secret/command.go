package secret

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"time"

	"gentle-harbor/internal/child"
	"gentle-harbor/internal/finding"
)

// commandTime is how long a program may take to print a secret, restTime how long its output is
// read for once it has ended: a child that it left behind may hold it open for ever.
const (
	commandTime = 10 * time.Second
	restTime    = 250 * time.Millisecond
)

// command runs a program, without a shell, and takes what it prints as the secret. Its standard
// error is not shown: it may hold the secret too. It runs in a process group of its own, in the
// terminal's foreground so that it can ask a person there, and the whole group is ended when the
// program has ended, takes too long, or ctx ends.
func (f Finder) command(ctx context.Context, args []string) (Secret, error) {
	parent := ctx
	ctx, cancel := context.WithTimeout(ctx, commandTime)
	defer cancel()
	problem := func(format string, more ...any) error {
		return &finding.Problem{Code: finding.SecretCommandFailed,
			Facts: finding.Facts{finding.FactDetail: "The program " + args[0] + " " + fmt.Sprintf(format, more...)}}
	}
	out, in, err := os.Pipe()
	if err != nil {
		return Secret{}, problem("could not be started.")
	}
	defer out.Close()
	program := Program{Words: args}
	if f.Start != nil {
		if program, err = f.Start(args); err != nil {
			return Secret{}, problem("could not be started: %v.", err)
		}
		defer program.Done()
	}
	cmd := exec.Command(program.Words[0], program.Words[1:]...)
	cmd.Dir = program.Dir
	if program.File != nil && runtime.GOOS == "linux" {
		cmd.Path, cmd.ExtraFiles = "/proc/self/fd/3", []*os.File{program.File} // the first of the extra files
	}
	cmd.Env, cmd.Stdout = f.Environ, in
	group := child.InFront(cmd)
	defer group.Close()
	err = group.Start()
	_ = in.Close()
	if err != nil {
		return Secret{}, problem("could not be started: it is not there, or may not be run.")
	}
	read, ended := make(chan []byte, 1), make(chan error, 1)
	go func() {
		data, _ := io.ReadAll(io.LimitReader(out, MaxSize+3))
		read <- data
	}()
	go func() { ended <- cmd.Wait() }()
	var data []byte
	stop := func() {
		group.Kill()
		_ = out.SetReadDeadline(time.Unix(1, 0))
	}
	for reading, running := true, true; reading || running; {
		select {
		case data = <-read:
			if reading = false; len(data) > MaxSize+2 {
				stop()
			}
		case err = <-ended:
			running = false
			_ = out.SetReadDeadline(time.Now().Add(restTime))
		case <-ctx.Done():
			stop()
			if running {
				<-ended
			}
			if reading {
				<-read
			}
			if parent.Err() != nil {
				return Secret{}, parent.Err()
			}
			return Secret{}, problem("printed no password within %s.", commandTime)
		}
	}
	group.Kill() // what it left behind
	text := TrimNewline(string(data))
	var failed *exec.ExitError
	switch {
	case errors.As(err, &failed) && child.Interrupted(failed):
		return Secret{}, context.Canceled // Ctrl-C went to the program, which had the terminal
	case Usable(text) != nil:
		return Secret{}, problem("printed something that is no password: it %v.", Usable(text))
	case errors.As(err, &failed):
		return Secret{}, problem("failed with the exit code %d.", failed.ExitCode())
	case err != nil:
		return Secret{}, problem("failed.")
	case text == "":
		return Secret{}, problem("printed nothing.")
	}
	return New(text), nil
}
