package engine

import (
	"context"
	"errors"
	"net"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
)

// Knock asks a server whether it greets as this engine, and no more. It ends the handshake with a
// login of no user and no password, since some servers count handshakes that are aborted and then
// refuse the whole machine. What a listener is asked for is in asks. It gives when the greeting
// came, the zero time for never, and what the server said after it: nil where it would let
// someone in, else a *finding.Problem. Before the greeting the problem is why there was none.
func Knock(ctx context.Context, e Engine, asks Login, at route.Address,
	dial func(context.Context, route.Address) (net.Conn, error)) (greeted time.Time, err error) {
	watch := func(leg, _ string) {
		if leg == "greeting" && greeted.IsZero() {
			greeted = time.Now()
		}
	}
	session, err := e.Open(ctx, Endpoint{At: at, Connect: func(ctx context.Context, at route.Address) (Line, error) {
		conn, err := dial(ctx, at)
		return Line{Conn: conn, Unverified: true, Secret: func(string) secret.Secret { return secret.Secret{} }}, err
	}}, asks, watch)
	if err == nil {
		session.Close()
		return greeted, nil
	}
	var p *finding.Problem
	if errors.As(err, &p) && p.Code.OfListener() && greeted.IsZero() {
		return time.Now(), err
	}
	if !greeted.IsZero() && errors.As(err, &p) {
		switch p.Code.Leg() {
		case "login", "tls", "settings": // it does not let nobody in, which is right
			return greeted, nil
		}
	}
	return greeted, err
}
