package engine

import (
	"crypto/pbkdf2"
	"hash"
	"strconv"
	"time"

	"gentle-harbor/internal/finding"
)

// LeastRounds is how many rounds of its hash a login must have where whoever answers may try to
// guess the password (RFC 7677, section 4).
const LeastRounds = 4096

// Rounds is how often a server asks to have a hash computed at a login.
type Rounds struct {
	Method string
	Hash   func() hash.Hash
	N      int
	// Setting is the server's own setting of the number, "" for none.
	Setting string
	// Unverified is [Line].Unverified, and Limit [Login].Leg.
	Unverified bool
	Limit      time.Duration
}

// Check refuses a number that makes the password easy to guess, or that would keep this machine
// at work for longer than a leg may take: the work cannot be interrupted. Its error is a
// *finding.Problem.
func (r Rounds) Check() error {
	about := finding.Facts{finding.FactMethod: r.Method, finding.FactRounds: strconv.Itoa(r.N), finding.FactLeast: strconv.Itoa(LeastRounds), finding.FactRoundsSetting: r.Setting}
	if r.N < LeastRounds && r.Unverified {
		return &finding.Problem{Code: finding.LoginTooFewRounds, Facts: about}
	}
	limit := r.Limit
	if limit <= 0 {
		limit = 5 * time.Second
	}
	const sample = 4096
	if r.N <= 8*sample {
		return nil
	}
	began := time.Now()
	if _, err := pbkdf2.Key(r.Hash, "a sample", []byte("of the work"), sample, r.Hash().Size()); err != nil {
		return nil
	}
	if took := time.Since(began) / sample * time.Duration(r.N); took > limit {
		about[finding.FactTook] = took.Round(100 * time.Millisecond).String()
		return &finding.Problem{Code: finding.LoginTooManyRounds, Facts: about}
	}
	return nil
}
