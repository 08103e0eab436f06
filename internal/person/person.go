// Package person asks a person at a terminal: a line, a word that nobody may see, a yes or a no.
// It knows how to ask, not what: each question has its words from who asks it. A [Script] answers
// in tests.
package person

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/report"
)

// Terminal is a person at a terminal: In is where answers are typed, Out where questions are
// printed.
type Terminal struct {
	In  io.Reader
	Out io.Writer
	// Pause takes off the screen what is painted there while something is asked, and gives what
	// puts it back; nil for nothing.
	Pause func() (resume func())
}

// Here reports whether input and messages are at a terminal.
func (t *Terminal) Here() bool {
	_, in := report.Terminal(t.In)
	_, out := report.Terminal(t.Out)
	return in && out
}

func (t *Terminal) pause() func() {
	if t.Pause == nil {
		return func() {}
	}
	return t.Pause()
}

// Ask implements Person.
func (t *Terminal) Ask(ctx context.Context, prompt string) (string, error) {
	defer t.pause()()
	fmt.Fprint(t.Out, prompt)
	line, err := t.await(ctx, func() (string, error) { return readLine(t.In) })
	if err != nil {
		fmt.Fprintln(t.Out)
		return "", err
	}
	return strings.TrimSpace(line), nil
}

// Hidden implements Person. The terminal is as it was afterwards, also when ctx ends.
func (t *Terminal) Hidden(ctx context.Context, prompt string) (string, error) {
	file, _ := report.Terminal(t.In)
	defer t.pause()()
	restore, err := echoOff(int(file.Fd())) // before anyone is asked to type
	if err != nil {
		return "", err
	}
	defer restore()
	fmt.Fprint(t.Out, prompt+": ")
	text, err := t.await(ctx, func() (string, error) { return readLine(file) })
	fmt.Fprintln(t.Out)
	return text, err
}

// Say implements Person.
func (t *Terminal) Say(line string) { fmt.Fprintln(t.Out, line) }

// readLine reads up to a newline, a byte at a time, so that nothing that follows is lost to a
// buffer.
func readLine(from io.Reader) (string, error) {
	var line []byte
	one := make([]byte, 1)
	for len(line) < 64<<10 {
		n, err := from.Read(one)
		if n == 1 {
			if one[0] == '\n' {
				return strings.TrimSuffix(string(line), "\r"), nil
			}
			line = append(line, one[0])
		}
		if errors.Is(err, io.EOF) && len(line) > 0 {
			return string(line), nil
		}
		if err != nil {
			return "", world.ErrLeft
		}
	}
	return "", errors.New("the line is too long")
}

// await reads once there is something to read.
func (t *Terminal) await(ctx context.Context, read func() (string, error)) (string, error) {
	if file, is := report.Terminal(t.In); is {
		if err := ready(ctx, file); err != nil {
			return "", err
		}
	}
	return await(ctx, read)
}

// await runs a read that cannot be interrupted, and leaves it behind when ctx ends first: the
// program is about to end then.
func await[T any](ctx context.Context, read func() (T, error)) (T, error) {
	type result struct {
		value T
		err   error
	}
	done := make(chan result, 1)
	go func() {
		value, err := read()
		done <- result{value, err}
	}()
	select {
	case r := <-done:
		return r.value, r.err
	case <-ctx.Done():
		var none T
		return none, ctx.Err()
	}
}
