package mysql

import (
	"cmp"
	"context"

	"gentle-harbor/internal/engine"
)

// Standing implements engine.Stander: the flags and the changes of the session that end each
// answer ("OK_Packet", both products' documentation). Who tracks no changes says no other
// database than the one that was opened last by this program.
func (s *session) Standing() engine.Standing {
	at := engine.Standing{Database: cmp.Or(s.opened, s.wire.login.Database)}
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
	err := s.do(ctx, use)
	if err == nil {
		s.opened = database
	}
	return stated(err)
}
