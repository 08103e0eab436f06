package postgres

import "gentle-harbor/internal/engine"

// Standing implements engine.Stander ("ReadyForQuery", "ParameterStatus", "Protocol Flow",
// PostgreSQL's manual). A role that was set has no parameter: the server says the session's user,
// and whether the role is a superuser.
func (s *session) Standing() engine.Standing {
	at := engine.Standing{Database: s.login.Database, User: s.pg.ParameterStatus("session_authorization")}
	switch s.pg.TxStatus() {
	case 'T':
		at.Transaction = engine.InTransaction
	case 'E':
		at.Transaction = engine.FailedTransaction
	}
	if said := s.pg.ParameterStatus("is_superuser"); said == "on" || said == "off" {
		super := said == "on"
		at.Superuser = &super
	}
	return at
}
