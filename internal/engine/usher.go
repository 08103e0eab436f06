package engine

import (
	"context"
	"errors"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
)

// Usher is an engine that leads clients in at a door: it follows a client's login, encrypts to
// the server for a client that speaks without encryption, and keeps the rules of login methods
// for it. After the login it has no part in what is said.
type Usher interface {
	// Usher follows one client's login. Its error is why the client is not let in; the client was
	// told in the engine's form, where that can be done. It is [ErrAway] where the client went
	// away by itself, or the server refused it.
	Usher(ctx context.Context, client net.Conn, at Threshold) (*Led, error)
}

// Threshold is what a door gives an engine for a client.
type Threshold struct {
	// Connect connects to the server; the same connection is given each time. Back connects to an
	// address where a session of this door is. Their lines have no secret.
	Connect func(ctx context.Context) (Line, route.Address, error)
	Back    func(ctx context.Context, at route.Address) (Line, error)
	// Encrypts says that lines are encrypted to the server.
	Encrypts bool
	// Keys are those by which the door's sessions can be cancelled.
	Keys *Keys
	// Login has the login methods that are accepted, and the time of a leg.
	Login Login
	// Word says a problem in a clean sentence.
	Word func(err error) string
	// Patience is how long the server may take for each of its steps.
	Patience time.Duration
}

// Led is a client that was let in.
type Led struct {
	// Server is the connection over which bytes go from now on, and Saw how it is encrypted, ""
	// for not at all.
	Server net.Conn
	Saw    string
	// Certificate is the name that the server's certificate is for and until when it holds, as
	// [Facts] has it.
	Certificate string
	// ToServer and ToClient came early and go first.
	ToServer, ToClient []byte
	// Leave forgets the session. It is never nil.
	Leave func()
}

// The reasons for which a client is not let in, beside those of the way to its server. Each is a
// sentence for whoever holds the door.
var (
	// ErrAway is for a client that went away by itself, or that the server refused in its own words.
	ErrAway = errors.New("a client went away before its login was done")
	// ErrWantsTLS is for a client that insists on encryption of its own.
	ErrWantsTLS = errors.New("a client insists on encrypting by itself; the door encrypts for it, so the client " +
		"must connect without TLS, or the door must be opened with --pass-through")
	// ErrWantsBinding is for a client that insists on binding its login to a channel that it does
	// not have.
	ErrWantsBinding = errors.New("a client insists on channel binding, which it cannot have at a door that " +
		"encrypts for it; switch it off in the client, or open the door with --pass-through")
	// ErrOutOfTurn is for a client that says what no client of the engine says, or too much of it.
	ErrOutOfTurn = errors.New("a client said what the login does not allow, and was sent away")
)

// Keys are the keys with which sessions of a door can be cancelled, and where each session's
// server is. The zero value has none.
type Keys struct {
	mu sync.Mutex
	at map[string]route.Address
}

// Hold remembers a key until forget is called.
func (k *Keys) Hold(key string, at route.Address) (forget func()) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.at == nil {
		k.at = map[string]route.Address{}
	}
	k.at[key] = at
	return func() {
		k.mu.Lock()
		defer k.mu.Unlock()
		delete(k.at, key)
	}
}

// At gives where a key's session is; false for a key of nobody's.
func (k *Keys) At(key string) (route.Address, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	at, known := k.at[key]
	return at, known
}

// Within ends a connection when something takes too long, or ctx ends, no matter which kind of
// connection it is. Done stops the clock, and reports whether it was too late.
func Within(ctx context.Context, limit time.Duration, conn net.Conn) (done func() (late bool)) {
	var late atomic.Bool
	timer := time.AfterFunc(limit, func() { late.Store(true); _ = conn.Close() })
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	return func() bool { timer.Stop(); stop(); return late.Load() }
}

// Silent gives the problem of a server that does not go on with a leg in time.
func Silent(leg string) *finding.Problem { return &finding.Problem{Code: finding.Of(leg, "silent")} }
