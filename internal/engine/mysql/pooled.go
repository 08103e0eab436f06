package mysql

import (
	"context"
	"strconv"

	"gentle-harbor/internal/engine"
)

// Shared implements engine.Shared. The greeting has the number of the session; where the session
// says another, a pooler is in between, and has told its own.
func (s *session) Shared(ctx context.Context) (bool, error) {
	switch s.wire.login.Pooled {
	case engine.NotPooled, engine.BySession:
		return false, nil
	case engine.ByTransaction:
		return true, nil
	}
	if s.pooled == nil {
		row, refused, err := s.row(ctx, "connection_id()")
		if err != nil || refused[0] {
			return false, err
		}
		s.served(row[0])
	}
	return s.pooled != nil && *s.pooled, nil
}

// served compares the session's number with the one in the greeting.
func (s *session) served(number string) {
	is, err := strconv.ParseUint(number, 10, 64)
	// the greeting has the lower half of a long one
	pooled := err == nil && s.wire.number != 0 && uint32(is) != s.wire.number
	s.pooled = &pooled
}

// passes refuses a statement that would change a session which others get.
func (s *session) passes(ctx context.Context, statement string) error {
	word := language().Lasting(statement)
	if word == "" {
		return nil
	}
	shared, err := s.Shared(ctx)
	if err == nil && shared {
		err = engine.Pooled("a statement that begins with " + word)
	}
	return err
}
