package mysql

import (
	"context"

	"gentle-harbor/internal/engine"
)

// Standing implements engine.Stander: the flags and the changes of the session that end each answer ("OK_Packet", both products' documentation). Who tracks
// no changes says no other database than the login's.
func (s *session) Standing() engine.Standing {
	at := engine.Standing{Database: s.wire.login.Database}
	if said, changed := s.wire.packets.changed[""]; changed {
		at.Database = said
	}
	if s.wire.packets.last.status&statusInTransaction != 0 {
		at.Transaction = engine.InTransaction
	}
	return at
}

// Switch implements engine.Switcher.
func (s *session) Switch(ctx context.Context, database string) error {
	use := "use " + quote(database)
	if err := s.passes(ctx, use); err != nil {
		return err
	}
	return stated(s.do(ctx, use))
}
