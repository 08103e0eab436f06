package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
)

// errLeft says that a person left a question unanswered.
var errLeft = errors.New("left")

// interactive tells whether there is a person to ask: input and messages are at a terminal.
func (a *App) interactive() bool {
	_, in := terminal(a.Stdin)
	_, out := terminal(a.Stderr)
	return in && out
}

// ask prints a prompt and reads a line; the line's blanks at both ends are cut. It ends with ctx.
func (a *App) ask(ctx context.Context, prompt string) (string, error) {
	defer a.pause()()
	fmt.Fprint(a.Stderr, prompt)
	line, err := await(ctx, func() (string, error) { return readLine(a.Stdin) })
	if err != nil {
		fmt.Fprintln(a.Stderr)
		return "", err
	}
	return strings.TrimSpace(line), nil
}

// pause takes the live board off the screen while a person is asked something, and gives what puts it back.
func (a *App) pause() (resume func()) {
	if a.board == nil {
		return func() {}
	}
	return a.board.pause()
}

// readLine reads up to a newline, a byte at a time, so that nothing that follows is lost to a buffer.
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
			return "", errLeft
		}
	}
	return "", errors.New("the line is too long")
}

// await runs a read that cannot be interrupted, and leaves it behind when ctx ends first: the program is
// about to end then.
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

// askSecret reads a secret with echo off. Enter alone asks whether there is no password; then the Secret may
// be one that is not Given. The terminal is as it was afterwards, also when ctx ends.
func (a *App) askSecret(ctx context.Context, prompt string) (secret.Secret, error) {
	for {
		text, err := a.hidden(ctx, prompt)
		if err != nil {
			return secret.Secret{}, err
		}
		if len(text) > 0 {
			return secret.New(text), nil
		}
		answer, err := a.ask(ctx, "Is there no password (none), is it empty (empty), or type it again (again)? [again] ")
		if err != nil {
			return secret.Secret{}, err
		}
		switch answer {
		case "none":
			return secret.Secret{}, nil
		case "empty":
			return secret.New(""), nil
		}
	}
}

// typedSecrets remembers what was typed in this run, so that a profile that is tested again does not ask again. What
// was typed serves the one target that it was typed for; for another one of the same user and place, a person is asked
// whether it may be used there too. Several tests at once ask one after the other.
type typedSecrets struct {
	mu    sync.Mutex
	known []typedSecret
}

type typedSecret struct {
	way    secret.Way
	secret secret.Secret
}

// same reports whether two ways are one target.
func same(a, b secret.Way) bool { return a.Key() == b.Key() && a.TLS == b.TLS }

// asking gives what asks for the secret of a way: ask has it typed, and offer asks whether one that was typed for
// another way may be used.
func (t *typedSecrets) asking(ask func(context.Context, secret.Way) (secret.Secret, error), offer func(ctx context.Context, typed, now secret.Way) (bool, error)) func(context.Context, secret.Way) (secret.Secret, error) {
	return func(ctx context.Context, way secret.Way) (secret.Secret, error) {
		t.mu.Lock()
		defer t.mu.Unlock()
		for _, each := range t.known {
			if same(each.way, way) {
				return each.secret, nil
			}
		}
		for _, each := range slices.Backward(t.known) {
			if offer == nil || each.way.User != way.User || each.way.Place() != way.Place() {
				continue
			}
			yes, err := offer(ctx, each.way, way)
			if err != nil {
				return secret.Secret{}, err
			}
			if yes {
				t.known = append(t.known, typedSecret{way, each.secret})
				return each.secret, nil
			}
			break
		}
		s, err := ask(ctx, way)
		if err == nil {
			t.known = append(t.known, typedSecret{way, s})
		}
		return s, err
	}
}

// offerTyped asks whether a password that was typed for one target may be used for another.
func (a *App) offerTyped(ctx context.Context, typed, now secret.Way) (bool, error) {
	described := func(way secret.Way) string {
		text := way.Place()
		if way.Database != "" {
			text += ", database " + way.Database
		}
		return text + ", " + secret.Travel[way.TLS]
	}
	answer, err := a.ask(ctx, fmt.Sprintf("The password of %s was typed for %s.\nUse it for %s too? (yes, no) [yes] ", now.User, described(typed), described(now)))
	return err == nil && (answer == "" || strings.HasPrefix("yes", answer)), err
}

// of gives what was typed for a profile's target, and whether anything was.
func (t *typedSecrets) of(e profile.Effective) (secret.Secret, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, each := range t.known {
		if same(each.way, e.Way()) {
			return each.secret, true
		}
	}
	return secret.Secret{}, false
}

// forget drops what was typed: the server refused it.
func (t *typedSecrets) forget() { t.known = nil }

// readAll reads standard input to its end, up to limit bytes.
func (a *App) readAll(limit int64) (string, error) {
	data, err := io.ReadAll(bufio.NewReader(io.LimitReader(a.Stdin, limit+1)))
	return string(data), err
}
