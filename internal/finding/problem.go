package finding

import (
	"context"
	"errors"
	"net"
	"os"

	"gentle-harbor/internal/outside"
)

// Problem is why a leg failed: the code of a finding, and what proves it. It is the error of
// everything that has a part in a connection: references and stores of secrets, routes, engines.
type Problem struct {
	Code   Code        // such as LoginRefused; its leg is the part before the dot
	Words  outside.Raw // the server's or the system's own words
	Number outside.Raw // the server's own code for the error, such as "28P01" or "1045"
	// Facts fill the finding's text: what was met, by the names that the catalogue uses. They are
	// not clean yet.
	Facts Facts
	// Tried lists each place that was looked at for a secret, and why it did not answer.
	Tried []string
	// Names lists the databases that there are, for a missing one, where the session could still
	// see them.
	Names []string
	// Missing is the name that was not there, where Names has what a statement may have meant.
	Missing string
	// At is the character of the statement, from 1, that the server names; 0 for none. Beside is
	// what it says beside its message.
	At     int
	Beside []Beside
	// Of has the codes of what failed, for a problem that stands for several.
	Of  []Code
	Err error // the driver's or the system's error
}

// Beside is something that a server says beside its message, such as a hint.
type Beside struct {
	What string // such as "hint"
	Text outside.Raw
}

// Error says in a sentence what was found, else the code with what proves it. It is clean, but no
// secret is masked in it.
func (p *Problem) Error() string {
	switch {
	case p.Facts[FactDetail] != "":
		return p.Facts[FactDetail]
	case !p.Words.Empty():
		return string(p.Code) + ": " + p.Words.String()
	case p.Err != nil:
		return string(p.Code) + ": " + p.Err.Error()
	}
	return string(p.Code)
}

// Unwrap gives Err.
func (p *Problem) Unwrap() error { return p.Err }

// Set puts a fact in.
func (p *Problem) Set(name Fact, value string) {
	if p.Facts == nil {
		p.Facts = Facts{}
	}
	p.Facts[name] = value
}

// Silent reports whether an error means that no answer came in time.
func Silent(ctx context.Context, err error) bool {
	var timeout net.Error
	return ctx.Err() != nil || errors.Is(err, os.ErrDeadlineExceeded) || errors.As(err, &timeout) && timeout.Timeout()
}

// AsProblem takes a Problem out of an error. An error that is none is given back as it is.
func AsProblem(err error) (*Problem, error) {
	var p *Problem
	if errors.As(err, &p) {
		return p, nil
	}
	return nil, err
}
