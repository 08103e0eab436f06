package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"

	"gentle-harbor/internal/person"
	"gentle-harbor/internal/secret"
)

// pause takes the live board off the screen while a person is asked something, and gives what puts it back.
func (a *App) pause() (resume func()) {
	if a.board == nil {
		return func() {}
	}
	return a.board.pause()
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
	return person.Yes(ctx, a.who, fmt.Sprintf("The password of %s was typed for %s.\nUse it for %s too?", now.User, described(typed), described(now)), true)
}

// readAll reads standard input to its end, up to limit bytes.
func (a *App) readAll(limit int64) (string, error) {
	data, err := io.ReadAll(bufio.NewReader(io.LimitReader(a.Stdin, limit+1)))
	return string(data), err
}
