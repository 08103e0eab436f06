package postgres

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// A pooler lends the server's sessions to its clients. One that lends them by transaction gives
// what a client sets in a session to the next client. So behind one the role and the options are
// set in each transaction anew ("SET", set_config; PostgreSQL's manual), and what would last is
// refused.

// settle takes the role and the options on, in the way that fits what is between us and the server.
func (s *session) settle(ctx context.Context) error {
	if s.login.Role == "" && len(s.login.Options) == 0 {
		return nil
	}
	shared, err := s.Shared(ctx)
	if err != nil {
		return err
	}
	switch {
	case shared:
		s.local = s.sets(true)
		_, err = s.texts(ctx, "select 1")
		return s.refusedSetting(ctx, err)
	case s.login.Pooled == engine.BySession:
		// The pooler would not take the options at the login. What was set is taken back before
		// the session is another client's.
		if s.login.Role != "" {
			s.undo = append(s.undo, "reset role")
		}
		for _, name := range slices.Sorted(maps.Keys(s.login.Options)) {
			s.undo = append(s.undo, "reset "+name)
		}
		_, err = s.texts(ctx, s.sets(false))
		return s.refusedSetting(ctx, err)
	case s.login.Role != "":
		return s.takeRole(ctx, s.login.Role)
	}
	return nil
}

// sets is the statement that sets the options and the role, for the transaction or for the session.
func (s *session) sets(local bool) string {
	var calls []string
	set := func(name, value string) {
		calls = append(calls, fmt.Sprintf("pg_catalog.set_config(%s, %s, %t)", literal(name), literal(value), local))
	}
	for _, name := range slices.Sorted(maps.Keys(s.login.Options)) {
		set(name, s.login.Options[name])
	}
	if s.login.Role != "" {
		set("role", s.login.Role)
	}
	return "select " + strings.Join(calls, ", ")
}

// refusedSetting says which of the settings was refused: the role where it has the words of one.
func (s *session) refusedSetting(ctx context.Context, err error) error {
	var p *finding.Problem
	if !errors.As(err, &p) || p.Number.Empty() {
		return err
	}
	local := s.local
	s.local = ""
	role := s.roleRefused(ctx, p)
	s.local = local
	if role || len(s.login.Options) == 0 {
		return p
	}
	p.Code = finding.SettingsOptionRefused
	return p
}

// Shared implements engine.Shared. The number of the process that serves a session is told at the
// login; where the session says another, a pooler is in between, and has told its own.
func (s *session) Shared(ctx context.Context) (bool, error) {
	switch s.login.Pooled {
	case engine.NotPooled, engine.BySession:
		return false, nil
	case engine.ByTransaction:
		return true, nil
	}
	if s.pooled == nil {
		rows, err := s.texts(ctx, "select pg_catalog.pg_backend_pid()")
		var p *finding.Problem
		if errors.As(err, &p) && !p.Number.Empty() {
			return false, nil // it has no such number
		}
		if err != nil {
			return false, err
		}
		if len(rows) != 1 || len(rows[0]) != 1 {
			return false, engine.Malformed("a row of another size than was asked for")
		}
		s.served(string(rows[0][0]))
	}
	return s.pooled != nil && *s.pooled, nil
}

// served compares the number of the process that serves the session with the one that the login
// told.
func (s *session) served(process string) {
	told := fmt.Sprint(s.pg.PID())
	pooled := process != "" && told != "0" && process != told
	s.pooled = &pooled
}

// within runs something in a transaction of its own with the role and the options, where they are
// set for each transaction; else as it is.
func (s *session) within(ctx context.Context, do func() error) error {
	if s.local == "" {
		return do()
	}
	return s.transaction(ctx, false, do)
}

// transaction has do run in one transaction, with the role and the options where they are set for
// each.
func (s *session) transaction(ctx context.Context, onlyReads bool, do func() error) error {
	local := s.local
	s.local = ""
	defer func() { s.local = local }()
	begin := "begin"
	if onlyReads {
		begin = "begin read only"
	}
	if local != "" {
		begin += "; " + local
	}
	if _, err := s.results(ctx, begin); err != nil {
		return err
	}
	err := do()
	if s.pg.IsClosed() {
		return err
	}
	if err != nil {
		limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		_, _ = s.results(limited, "rollback")
		return err
	}
	_, err = s.results(ctx, "commit")
	return err
}
