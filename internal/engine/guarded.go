package engine

import (
	"context"
	"net"
)

// Guarded wraps an engine so that a panic of its driver, which only bytes from a server can bring about,
// becomes a *Failure with the code "greeting.malformed" in Open and in every call on its sessions.
func Guarded(e Engine) Engine { return guardedEngine{e} }

type guardedEngine struct{ inner Engine }

func (g guardedEngine) Open(ctx context.Context, conn net.Conn, login Login, watch Watch) (s Session, err error) {
	defer caught(&err)
	inner, err := g.inner.Open(ctx, conn, login, watch)
	if err != nil {
		return nil, err
	}
	return guardedSession{inner}, nil
}

func caught(err *error) {
	if cause := recover(); cause != nil {
		*err = Malformed(cause)
	}
}

type guardedSession struct{ inner Session }

func (g guardedSession) Ask(ctx context.Context) (err error) {
	defer caught(&err)
	return g.inner.Ask(ctx)
}

func (g guardedSession) Facts(ctx context.Context) (facts Facts, err error) {
	defer caught(&err)
	return g.inner.Facts(ctx)
}

func (g guardedSession) Databases(ctx context.Context) (list []Database, err error) {
	defer caught(&err)
	return g.inner.Databases(ctx)
}

func (g guardedSession) Visible(ctx context.Context, tables []string) (seen map[string]bool, err error) {
	defer caught(&err)
	return g.inner.Visible(ctx, tables)
}

func (g guardedSession) May(ctx context.Context, right, table string) (may *bool, err error) {
	defer caught(&err)
	return g.inner.May(ctx, right, table)
}

func (g guardedSession) Run(ctx context.Context, statement string, out Rows) (summary Summary, err error) {
	defer caught(&err)
	return g.inner.Run(ctx, statement, out)
}

func (g guardedSession) Close() {
	var err error
	defer caught(&err)
	g.inner.Close()
}
