package mysql

import "gentle-harbor/internal/engine"

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
