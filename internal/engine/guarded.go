package engine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"sync/atomic"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
)

// Guarded wraps an engine so that no server can take more from this program than the work is worth. What a
// server sends is bounded in bytes: in all until the database is open, and then for each question of our own; only
// what [Session.Run] hands on is not. A panic of a driver, which only bytes from a server can bring about, becomes
// a *finding.Problem with the code finding.GreetingMalformed, in Open and in every call on its sessions.
func Guarded(e Engine) Engine { return guardedEngine{e} }

// How many bytes a server may send.
const (
	LoginBytes  = 2 << 20 // from the greeting to the open database; real ones send some KB
	AnswerBytes = 8 << 20 // in answer to one question of our own
	closeBytes  = 64 << 10
)

// MaxRows is how many rows may come in answer to one question of our own.
const MaxRows = 50_000

// errFlood is the reason for ending a connection whose server sends more than it may.
var errFlood = errors.New("the server sends more than the answer can be long")

// TooMuch gives the failure of a leg whose server sends more than the answer can be long.
func TooMuch(leg string) *finding.Problem {
	return &finding.Problem{Code: finding.Of(leg, "too-much"), Err: errFlood}
}

// TooLarge gives the failure of a statement of which one message is larger than most bytes; size is what the server said that it has, 0 for not
// known.
func TooLarge(size, most int) *finding.Problem {
	p := &finding.Problem{Code: finding.QueryTooLarge, Err: errFlood, Facts: finding.Facts{finding.FactLimit: Size(most)}}
	if most%(1<<10) != 0 {
		p.Facts[finding.FactLimit] += " bytes"
	}
	if size > 0 && size <= MostLargest {
		p.Facts[finding.FactSize] = fmt.Sprintf("%dMB", (size+1<<20-1)>>20)
	}
	return p
}

// Size gives a number of bytes as flags take it: "64MB", "100KB".
func Size(bytes int) string {
	switch {
	case bytes > 0 && bytes%(1<<30) == 0:
		return fmt.Sprintf("%dGB", bytes>>30)
	case bytes > 0 && bytes%(1<<20) == 0:
		return fmt.Sprintf("%dMB", bytes>>20)
	case bytes > 0 && bytes%(1<<10) == 0:
		return fmt.Sprintf("%dKB", bytes>>10)
	}
	return strconv.Itoa(bytes)
}

// meter counts what is read from a connection and ends it when that is too much.
type meter struct {
	net.Conn
	left atomic.Int64
	free atomic.Bool // nothing is counted
}

func (m *meter) Read(p []byte) (int, error) {
	if m.free.Load() {
		return m.Conn.Read(p)
	}
	left := m.left.Load()
	if left <= 0 {
		return 0, errFlood
	}
	n, err := m.Conn.Read(p[:min(int64(len(p)), left)])
	m.left.Add(-int64(n))
	return n, err
}

func (m *meter) end() {
	if m.Conn != nil {
		_ = m.Close()
	}
}

func (m *meter) allow(bytes int64) {
	m.left.Store(bytes)
	m.free.Store(false)
}

type guardedEngine struct{ inner Engine }

func (g guardedEngine) Info() Info { return g.inner.Info() }

// Refuse implements Refuser, where the engine does.
func (g guardedEngine) Refuse(conn net.Conn, text string) {
	if r, ok := g.inner.(Refuser); ok {
		r.Refuse(conn, text)
	}
}

// Usher implements Usher, where the engine does. What the server and the client send until the client is let in is bounded by the engine.
func (g guardedEngine) Usher(ctx context.Context, client net.Conn, at Threshold) (led *Led, err error) {
	u, ok := g.inner.(Usher)
	if !ok {
		return nil, Cannot("lead clients in")
	}
	defer func() {
		if cause := recover(); cause != nil {
			led, err = nil, Malformed(cause)
		}
	}()
	return u.Usher(ctx, client, at)
}

func (g guardedEngine) Identify(first []byte) (Answer, bool) { return g.inner.Identify(first) }
func (g guardedEngine) Advice(about Subject) Advice          { return g.inner.Advice(about) }

func (g guardedEngine) Open(ctx context.Context, end Endpoint, login Login, watch Watch) (s Session, err error) {
	m := &meter{}
	m.allow(LoginBytes)
	connect := end.Connect
	var open atomic.Bool
	end.Connect = func(ctx context.Context, at route.Address) (Line, error) {
		line, err := connect(ctx, at)
		switch {
		case err != nil:
		case open.Load(): // a further one beside the session's, such as to end its statement
			further := &meter{Conn: line.Conn}
			further.allow(LoginBytes)
			line.Conn = further
		default:
			m.Conn, line.Conn = line.Conn, m
		}
		return line, err
	}
	leg := "greeting"
	defer caught(m, &leg, &err)
	inner, err := g.inner.Open(ctx, end, login, func(passed, saw string) {
		leg = map[string]string{"greeting": "login", "tls": "login", "login": "database", "database": "database"}[passed]
		watch(passed, saw)
	})
	if err != nil {
		return nil, err
	}
	open.Store(true)
	return guardedSession{inner, m}, nil
}

// caught makes a panic, and an end by the meter, a failure.
func caught(m *meter, leg *string, err *error) {
	if cause := recover(); cause != nil {
		*err = Malformed(cause)
		m.end()
	}
	if *err != nil && !m.free.Load() && m.left.Load() <= 0 {
		*err = TooMuch(*leg)
		m.end()
	}
}

type guardedSession struct {
	inner Session
	meter *meter
}

// question asks one question of our own.
func (g guardedSession) question(ask func() error) (err error) {
	leg := "query"
	defer caught(g.meter, &leg, &err)
	g.meter.allow(AnswerBytes)
	return ask()
}

func (g guardedSession) Ask(ctx context.Context) error {
	return g.question(func() error { return g.inner.Ask(ctx) })
}

func (g guardedSession) Facts(ctx context.Context) (facts Facts, err error) {
	err = g.question(func() (err error) { facts, err = g.inner.Facts(ctx); return })
	return facts, err
}

// Inner implements Wrapper.
func (g guardedSession) Inner() Session { return g.inner }

// Shared implements Shared, where the engine does.
func (g guardedSession) Shared(ctx context.Context) (is bool, err error) {
	shared, can := As[Shared](g.inner)
	if !can {
		return false, nil
	}
	err = g.question(func() (err error) { is, err = shared.Shared(ctx); return })
	return is, err
}

func (g guardedSession) Databases(ctx context.Context) (list []Database, err error) {
	lister, can := As[Lister](g.inner)
	if !can {
		return nil, Cannot("list databases")
	}
	err = g.question(func() (err error) { list, err = lister.Databases(ctx); return })
	return list, err
}

func (g guardedSession) Visible(ctx context.Context, tables []string) (seen map[string]bool, err error) {
	lister, can := As[Lister](g.inner)
	if !can {
		return nil, Cannot("list tables")
	}
	err = g.question(func() (err error) { seen, err = lister.Visible(ctx, tables); return })
	return seen, err
}

func (g guardedSession) May(ctx context.Context, right, table string) (may *bool, err error) {
	rights, can := As[Rights](g.inner)
	if !can {
		return nil, Cannot("say what a user may do")
	}
	err = g.question(func() (err error) { may, err = rights.May(ctx, right, table); return })
	return may, err
}

func (g guardedSession) Do(ctx context.Context, statement string) error {
	runner, can := As[Runner](g.inner)
	if !can {
		return Cannot("run statements")
	}
	return g.question(func() error { return runner.Do(ctx, statement) })
}

// Run is not counted: what a person asked for is handed on as it comes, and is as long as it is. Its messages are bounded by the engine.
func (g guardedSession) Run(ctx context.Context, statement Statement, out Rows) (summary Summary, err error) {
	runner, can := As[Runner](g.inner)
	if !can {
		return summary, Cannot("run statements")
	}
	leg := "query"
	defer caught(g.meter, &leg, &err)
	g.meter.free.Store(true)
	return runner.Run(ctx, statement, out)
}

func (g guardedSession) Close() {
	leg, err := "query", error(nil)
	defer caught(g.meter, &leg, &err)
	g.meter.allow(closeBytes)
	g.inner.Close()
}
