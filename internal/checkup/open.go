package checkup

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/target"
)

// Role is what a server must be to do, where several stand for one another.
type Role string

// The roles. A server's own word decides, after the login.
const (
	AnyRole Role = ""
	Primary Role = "primary" // it takes changes
	Replica Role = "replica" // it can only be read from
)

// Watch is told how the opening of a session goes.
type Watch interface {
	// Try is told of the address that is tried next. It gives the context of the attempt, or why it is not made.
	Try(at route.Address) (context.Context, error)
	// Pass is told of each leg that passed, and of what was seen in passing.
	Pass(leg, saw string)
	// Fail is told why an address did not do, when another is tried.
	Fail(at route.Address, err error)
}

// Lines gives what may be sent over a connection to an address, by what was met at its other end. Its Conn is not set.
type Lines func(at route.Address, met target.Reached) engine.Line

// Open opens a session over a path: it tries one address after the other, until one lets it in or no other may be tried,
// and asks the server for its role after the login. Its error is a *finding.Problem, or what the path's locator gave.
func Open(ctx context.Context, path *route.Path, e engine.Engine, login engine.Login, lines Lines, wants Role, watch Watch) (engine.Session, error) {
	var last error
	var lastAt route.Address
	var others []string // what servers of another role are
	for at, err := range path.Each(ctx, watch.Pass) {
		if err != nil {
			return nil, errors.Join(err, last)
		}
		if last != nil {
			watch.Fail(lastAt, last)
		}
		session, is, err := attempt(path, e, at, login, lines, wants, watch)
		if err == nil && (wants == AnyRole || is == wants) {
			return session, nil
		}
		if err == nil {
			session.Close()
			others = append(others, fmt.Sprintf("%s is a %s", at, is))
			err = &finding.Problem{Code: "alias.no-primary", Facts: map[string]string{"wants": string(wants), "servers": strings.Join(others, "; ")}}
		}
		if last, lastAt = err, at; !elsewhere(err) {
			return nil, err
		}
	}
	if last == nil {
		last = &finding.Problem{Code: "name.not-found"}
	}
	return nil, last
}

// attempt opens a session at one address, and asks for its role where one is wanted.
func attempt(path *route.Path, e engine.Engine, at route.Address, login engine.Login, lines Lines, wants Role, watch Watch) (engine.Session, Role, error) {
	ctx, err := watch.Try(at)
	if err != nil {
		return nil, AnyRole, err
	}
	connected := false
	session, err := e.Open(ctx, engine.Endpoint{At: at, Connect: func(ctx context.Context, to route.Address) (engine.Line, error) {
		conn, met, peer, err := path.Connect(ctx, to)
		if err != nil {
			return engine.Line{}, err
		}
		if !connected { // a server may lead elsewhere; that is one leg
			connected = true
			saw := to.String() + " accepts the connection"
			if peer.Shown {
				saw += "; the process behind it is " + peer.Who() + "'s"
			}
			watch.Pass("port", saw)
		}
		line := lines(to, met)
		line.Conn = conn
		return line, nil
	}}, login, watch.Pass)
	if err != nil || wants == AnyRole {
		return session, AnyRole, err
	}
	is, err := roleOf(ctx, session)
	if err != nil {
		session.Close()
		return nil, AnyRole, err
	}
	return session, is, nil
}

// elsewhere reports whether another address of the same server may do better: not once a login was tried.
func elsewhere(err error) bool {
	var problem *finding.Problem
	if !errors.As(err, &problem) {
		return false
	}
	switch finding.Leg(problem.Code) {
	case "port", "greeting", "tls", "alias":
		return problem.Code != "greeting.too-many-failures"
	}
	return false
}

// roleOf asks a server what it is.
func roleOf(ctx context.Context, session engine.Session) (Role, error) {
	facts, err := session.Facts(ctx)
	switch {
	case err != nil:
		return AnyRole, err
	case facts.ReadOnly != nil && *facts.ReadOnly:
		return Replica, nil
	}
	return Primary, nil
}
