package engine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"sync"
	"sync/atomic"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
)

// Guarded wraps an engine so that no server can take more from this program than the work is
// worth. What a server sends is bounded in bytes: in all until the database is open, and then for
// each question of our own; only what [Session.Run] hands on is not. A panic of a driver, which
// only bytes from a server can bring about, becomes a *finding.Problem with the code
// finding.GreetingMalformed, in Open and in every call on its sessions.
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

// TooLarge gives the failure of a statement of which one message is larger than most bytes; size
// is what the server said that it has, 0 for not known.
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

// budget is how much may be read from the connections of one session, all together. It ends them
// when that is too much.
type budget struct {
	left atomic.Int64
	free atomic.Bool // nothing is counted

	mu    sync.Mutex
	conns []net.Conn
	ended bool
}

func (b *budget) allow(bytes int64) {
	b.left.Store(bytes)
	b.free.Store(false)
}

// over reports whether all was read that may be.
func (b *budget) over() bool { return !b.free.Load() && b.left.Load() <= 0 }

// end ends the connections, and each that comes later.
func (b *budget) end() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.ended = true
	for _, conn := range b.conns {
		_ = conn.Close()
	}
}

// meter gives a connection whose bytes are counted.
func (b *budget) meter(conn net.Conn) net.Conn {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.conns = append(b.conns, conn); b.ended {
		_ = conn.Close()
	}
	return &meter{conn, b}
}

// meter counts what is read from a connection.
type meter struct {
	net.Conn
	budget *budget
}

func (m *meter) Read(p []byte) (int, error) {
	if m.budget.free.Load() {
		return m.Conn.Read(p)
	}
	left := m.budget.left.Load()
	if left <= 0 {
		return 0, errFlood
	}
	n, err := m.Conn.Read(p[:min(int64(len(p)), left)])
	m.budget.left.Add(-int64(n))
	return n, err
}

type guardedEngine struct{ inner Engine }

func (g guardedEngine) Info() Info { return g.inner.Info() }

// Refuse implements Refuser, where the engine does.
func (g guardedEngine) Refuse(conn net.Conn, text string) {
	if r, ok := g.inner.(Refuser); ok {
		r.Refuse(conn, text)
	}
}

// Usher implements Usher, where the engine does. What the server and the client send until the
// client is let in is bounded by the engine.
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
	b := &budget{}
	b.allow(LoginBytes)
	connect := end.Connect
	var open atomic.Bool
	end.Connect = func(ctx context.Context, at route.Address) (Line, error) {
		line, err := connect(ctx, at)
		if err != nil {
			return line, err
		}
		of := b
		if open.Load() { // a further one beside the session's, such as to end its statement
			of = &budget{}
			of.allow(LoginBytes)
		}
		line.Conn = of.meter(line.Conn)
		return line, nil
	}
	leg := "greeting"
	defer caught(b, &leg, &err)
	inner, err := g.inner.Open(ctx, end, login, func(passed, saw string) {
		leg = map[string]string{"greeting": "login", "tls": "login", "login": "database", "database": "database"}[passed]
		if passed == "tls" && g.inner.Info().EncryptsFirst {
			leg = "greeting"
		}
		watch(passed, saw)
	})
	if err != nil {
		return nil, err
	}
	open.Store(true)
	return guardedSession{inner, b}, nil
}

// caught makes a panic, and an end by the budget, a failure.
func caught(b *budget, leg *string, err *error) {
	if cause := recover(); cause != nil {
		*err = Malformed(cause)
		b.end()
	}
	if *err != nil && b.over() {
		*err = TooMuch(*leg)
		b.end()
	}
}

type guardedSession struct {
	inner  Session
	budget *budget
}

// question asks one question of our own.
func (g guardedSession) question(ask func() error) (err error) {
	leg := "query"
	defer caught(g.budget, &leg, &err)
	g.budget.allow(AnswerBytes)
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
		return nil, Cannot(string(Lists))
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
		return nil, Cannot(string(Grants))
	}
	err = g.question(func() (err error) { may, err = rights.May(ctx, right, table); return })
	return may, err
}

func (g guardedSession) Do(ctx context.Context, statement Statement) error {
	runner, can := As[Runner](g.inner)
	if !can {
		return Cannot(string(Runs))
	}
	return g.question(func() error { return runner.Do(ctx, statement) })
}

// Run is not counted: what a person asked for is handed on as it comes, and is as long as it is.
// Its messages are bounded by the engine.
func (g guardedSession) Run(ctx context.Context, statement Statement, out Rows) (summary Summary, err error) {
	runner, can := As[Runner](g.inner)
	if !can {
		return summary, Cannot(string(Runs))
	}
	leg := "query"
	defer caught(g.budget, &leg, &err)
	g.budget.free.Store(true)
	return runner.Run(ctx, statement, out)
}

// Written implements Written, where the engine does.
func (g guardedSession) Written(ctx context.Context) (l Lexical, err error) {
	written, can := As[Written](g.inner)
	if !can {
		return l, Cannot("say how texts are written")
	}
	err = g.question(func() (err error) { l, err = written.Written(ctx); return })
	return l, err
}

// Foreign implements Catalogue, where the engine does.
func (g guardedSession) Foreign(ctx context.Context, names []string) (foreign []string, err error) {
	catalogue, can := As[Catalogue](g.inner)
	if !can {
		return nil, Cannot("say whose a function is")
	}
	err = g.question(func() (err error) { foreign, err = catalogue.Foreign(ctx, names); return })
	return foreign, err
}

// Witness implements Witness, where the engine does.
func (g guardedSession) Witness(ctx context.Context, p *finding.Problem) (seen []string) {
	witness, can := As[Witness](g.inner)
	if !can {
		return nil
	}
	_ = g.question(func() error { seen = witness.Witness(ctx, p); return nil })
	return seen
}

// Shape implements Loader, where the engine does.
func (g guardedSession) Shape(ctx context.Context, schema, table string) (shape Shape, err error) {
	loader, can := As[Loader](g.inner)
	if !can {
		return shape, Cannot(string(Loads))
	}
	err = g.question(func() (err error) { shape, err = loader.Shape(ctx, schema, table); return })
	return shape, err
}

// Load implements Loader, where the engine does. It takes as long as there are rows.
func (g guardedSession) Load(ctx context.Context, l Load) (n int64, err error) {
	loader, can := As[Loader](g.inner)
	if !can {
		return 0, Cannot(string(Loads))
	}
	leg := "query"
	defer caught(g.budget, &leg, &err)
	g.budget.free.Store(true)
	return loader.Load(ctx, l)
}

// Survey implements Surveyor, where the engine does. It is as long as there are things to list.
func (g guardedSession) Survey(ctx context.Context, list List, scope Scope, out Rows) (sight Sight, err error) {
	surveyor, can := As[Surveyor](g.inner)
	if !can {
		return sight, Cannot(string(Surveys))
	}
	leg := "query"
	defer caught(g.budget, &leg, &err)
	g.budget.free.Store(true)
	if sight, err = surveyor.Survey(ctx, list, scope, out); err == nil && !sight.said() {
		err = errNoSight
	}
	return sight, err
}

// Table implements Surveyor, where the engine does.
func (g guardedSession) Table(ctx context.Context, name string) (table Relation, err error) {
	surveyor, can := As[Surveyor](g.inner)
	if !can {
		return table, Cannot(string(Surveys))
	}
	err = g.question(func() (err error) { table, err = surveyor.Table(ctx, name); return })
	return table, err
}

// Examine implements Examiner, where the engine does.
func (g guardedSession) Examine(ctx context.Context, a Attempt) (e Examined, err error) {
	examiner, can := As[Examiner](g.inner)
	if !can {
		return e, Cannot(string(Examines))
	}
	leg := "query"
	defer caught(g.budget, &leg, &err)
	g.budget.allow(2 * AnswerBytes) // several questions, one of them about all rules or accounts
	e, err = examiner.Examine(ctx, a)
	return e, err
}

// Together implements Runner.
func (g guardedSession) Together(ctx context.Context, onlyReads bool, do func() error) (err error) {
	runner, can := As[Runner](g.inner)
	if !can {
		return Cannot(string(Runs))
	}
	leg := "query"
	defer caught(g.budget, &leg, &err)
	g.budget.allow(AnswerBytes)
	return runner.Together(ctx, onlyReads, do)
}

func (g guardedSession) Close() {
	leg, err := "query", error(nil)
	defer caught(g.budget, &leg, &err)
	g.budget.allow(closeBytes)
	g.inner.Close()
}
