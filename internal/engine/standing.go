package engine

// Transaction is where a session is in transactions.
type Transaction int

// The states of a transaction. A failed one takes nothing but its end (PostgreSQL's
// "ReadyForQuery"); an engine that has none goes on after a failure.
const (
	NoTransaction Transaction = iota
	InTransaction
	FailedTransaction
)

// Standing is where a session is, as its server says beside its answers: nothing is asked for it.
type Standing struct {
	Transaction Transaction
	Database    string // the one that is open, "" for none
	User        string // the user that the server goes by, "" where it does not say by itself
	Superuser   *bool  // nil where it does not say by itself
}

// Stander is a session that knows where it is.
type Stander interface {
	// Standing says it, as of the last answer.
	Standing() Standing
}

// Standing implements Stander, where the engine does.
func (g guardedSession) Standing() Standing {
	if stander, can := As[Stander](g.inner); can {
		return stander.Standing()
	}
	return Standing{}
}
