// Package door lets other programs through to a server: a [Door] listens on this machine and
// passes bytes on over a route, a [Keeper] keeps the route open and opens it anew when a hop
// dies, and a [Host] is asked, from other processes, how its doors are.
package door

import (
	"context"
	"errors"
	"net"
	"slices"
	"sync"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
)

// State is how a route is.
type State string

// The states.
const (
	Open         State = "open"
	Reconnecting State = "reconnecting"
	NeedsYou     State = "needs-you" // a login was refused, a host key is another one, or someone would have to be asked
	Closed       State = "closed"
)

// Pauses are the times of a keeper. The zero value stands for [UsualPauses].
type Pauses struct {
	First, Most time.Duration // between two tries to open the route anew, growing
	// Patience is how long a new connection waits while the route is opened anew, and for the server.
	Patience time.Duration
}

// Lasting is an error that is someone's to look at: what is behind a door is not what was there.
type Lasting struct{ Err error }

// Error gives the text of what is in it.
func (l *Lasting) Error() string { return l.Err.Error() }

// Unwrap gives what is in it.
func (l *Lasting) Unwrap() error { return l.Err }

// UsualPauses are the times of keepers.
var UsualPauses = Pauses{First: 200 * time.Millisecond, Most: 15 * time.Second, Patience: 30 * time.Second}

// Keeping says how a route is kept open.
type Keeping struct {
	// Open opens it anew, and asks nobody.
	Open func(ctx context.Context) (*route.Path, error)
	// Only is the one address to connect to, where several servers are behind the route and one
	// has the role that is wanted; "" for any.
	Only string
	// Same looks, at each connection and before a byte passes, whether what is there is what was
	// there at first; nil for always. Its error keeps the connection from being used; a [Lasting]
	// one makes the state needs-you until what was there is back. Sure says that the server has
	// not been out of sight since it was looked at.
	Same func(ctx context.Context, path *route.Path, c route.Connected, sure bool) error
	// Tell is told of each new state, and why; nil for nobody.
	Tell func(State, error)
	Pauses
}

// Keeper keeps a route open. Several doors can share one.
type Keeper struct {
	how    Keeping
	ctx    context.Context
	cancel context.CancelFunc

	mu      sync.Mutex
	path    *route.Path
	state   State
	since   time.Time
	problem error         // of the state needs-you, or of the last try
	changed chan struct{} // closed when the state changes
	done    sync.WaitGroup
	live    int  // connections that are open: while one is, the server is in sight
	doubt   bool // it ended a connection, or could not be reached
	tested  bool // it was tested a moment ago, when the door was opened
	begun   int  // connections that were begun: each has its number
	judged  int  // the number of the latest one that a state was taken from
}

// Keep keeps a route that is open, until ctx ends or [Keeper.Close].
func Keep(ctx context.Context, path *route.Path, how Keeping) *Keeper {
	if how.Pauses == (Pauses{}) {
		how.Pauses = UsualPauses
	}
	k := &Keeper{how: how, path: path, state: Open, since: time.Now(), tested: true, changed: make(chan struct{})}
	k.ctx, k.cancel = context.WithCancel(ctx)
	k.done.Add(1)
	go k.watch()
	return k
}

// State gives how the route is, since when, and why it is not open.
func (k *Keeper) State() (State, time.Time, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.state, k.since, k.problem
}

// become takes on a state. A new reason for the same state is told too.
func (k *Keeper) become(state State, path *route.Path, problem error) {
	k.mu.Lock()
	news := k.turn(state, path, problem)
	k.mu.Unlock()
	k.tell(news, state, problem)
}

// turn is become under the lock. It reports whether this is to be told, which is done outside.
func (k *Keeper) turn(state State, path *route.Path, problem error) (news bool) {
	news = k.state != state || codeOf(k.problem) != codeOf(problem)
	if k.state != state {
		k.since = time.Now()
	}
	k.state, k.path, k.problem = state, path, problem
	close(k.changed)
	k.changed = make(chan struct{})
	return news
}

func (k *Keeper) tell(news bool, state State, problem error) {
	if news && k.how.Tell != nil {
		k.how.Tell(state, problem)
	}
}

func codeOf(err error) finding.Code {
	var p *finding.Problem
	if errors.As(err, &p) {
		return p.Code
	}
	return ""
}

// watch waits for the route to be lost, and opens it anew.
func (k *Keeper) watch() {
	defer k.done.Done()
	for {
		k.mu.Lock()
		path := k.path
		k.mu.Unlock()
		hop, gone := lost(k.ctx, path)
		if !gone {
			_ = path.Close()
			k.become(Closed, nil, net.ErrClosed)
			return
		}
		_ = path.Close()
		k.become(Reconnecting, nil, &finding.Problem{Code: finding.TunnelLost, Facts: finding.Facts{finding.FactHop: hop}})
		if !k.again() {
			<-k.ctx.Done()
			k.become(Closed, nil, net.ErrClosed)
			return
		}
	}
}

// again opens the route anew, with growing pauses. After what may pass by itself it goes on;
// after a key that is not the known one it goes on too, in the state needs-you, since the known
// one may come back and nothing was sent. It gives up, and reports false, when trying again would
// do harm: a refused login is never sent twice.
func (k *Keeper) again() bool {
	for pause := k.how.First; ; pause = min(2*pause, k.how.Most) {
		path, err := k.how.Open(k.ctx)
		switch {
		case err == nil:
			k.become(Open, path, nil)
			return true
		case k.ctx.Err() != nil:
			return false
		case Passing(err):
			k.become(Reconnecting, nil, err)
		case unproven(err):
			k.become(NeedsYou, nil, err)
		default:
			k.become(NeedsYou, nil, err)
			return false
		}
		select {
		case <-time.After(pause):
		case <-k.ctx.Done():
			return false
		}
	}
}

// unprovens are the findings of a hop that does not prove that it is the known one: nothing was
// sent to it.
var unprovens = []finding.Code{
	finding.TunnelHostKeyChanged, finding.TunnelHostKeyUnknown, finding.TunnelHostKeyRevoked,
	finding.TunnelHostCertificateEnded, finding.TunnelHostCertificateName,
	finding.TunnelHostCertificateAuthority, finding.TunnelHostCertificateUnfit, finding.TunnelKnownHosts,
}

func unproven(err error) bool { return slices.Contains(unprovens, codeOf(err)) }

// Passing reports whether what kept a route from being opened may pass by itself.
func Passing(err error) bool {
	var p *finding.Problem
	if !errors.As(err, &p) || p.Code.Leg() != "tunnel" {
		return false
	}
	entry, _ := finding.Lookup(p.Code)
	return entry.Waiting
}

// lost waits until a hop of a path ends, and gives its name; false when ctx ended before.
func lost(ctx context.Context, path *route.Path) (hop string, gone bool) {
	hops := path.Lost()
	if len(hops) == 0 {
		<-ctx.Done()
		return "", false
	}
	first := make(chan string, len(hops))
	stop := make(chan struct{})
	defer close(stop)
	for _, hop := range hops {
		go func() {
			select {
			case <-hop.Lost:
				first <- hop.Name
			case <-stop:
			}
		}()
	}
	select {
	case hop := <-first:
		return hop, ctx.Err() == nil
	case <-ctx.Done():
		return "", false
	}
}

// Dial connects to the server, at the first of its addresses that accepts. While the route is
// opened anew it waits. Its error is a *finding.Problem where the route says one.
func (k *Keeper) Dial(ctx context.Context) (route.Connected, error) {
	return k.dial(ctx, func(ctx context.Context, path *route.Path) (route.Connected, error) {
		return dial(ctx, path, k.how.Only)
	})
}

// DialAt is Dial for one address, as Dial has given it.
func (k *Keeper) DialAt(ctx context.Context, at route.Address) (route.Connected, error) {
	return k.dial(ctx, func(ctx context.Context, path *route.Path) (route.Connected, error) {
		conn, met, _, err := path.Connect(ctx, at)
		return route.Connected{Conn: conn, At: at, Met: met}, err
	})
}

func (k *Keeper) dial(ctx context.Context,
	connect func(ctx context.Context, path *route.Path) (route.Connected, error)) (route.Connected, error) {
	ctx, cancel := context.WithTimeout(ctx, k.how.Patience)
	defer cancel()
	for {
		k.mu.Lock()
		path, state, problem, changed := k.path, k.state, k.problem, k.changed
		k.begun++
		number := k.begun
		k.mu.Unlock()
		switch {
		case path != nil: // open, or another server than the known one was behind it
			conn, err := connect(ctx, path)
			if err != nil {
				k.Doubt()
			}
			if err == nil {
				if err = k.same(ctx, conn, path, number); err == nil {
					return conn, nil
				}
				_ = conn.Close()
				return route.Connected{}, err
			}
			if codeOf(err) != finding.TunnelLost || ctx.Err() != nil {
				return route.Connected{}, err
			}
			// The hop died meanwhile; its end is noticed in a moment.
			select {
			case <-changed:
			case <-time.After(time.Second):
				_ = path.Close()
			case <-ctx.Done():
				return route.Connected{}, err
			}
		case state == Reconnecting:
			select {
			case <-changed:
			case <-ctx.Done():
				if problem == nil {
					problem = ctx.Err()
				}
				return route.Connected{}, problem
			}
		default:
			return route.Connected{}, problem
		}
	}
}

// same looks whether a connection leads to what was there at first. The route is open all the
// same: the next client finds what is there then. Number is the connection's own: what an earlier
// one met says nothing about the state once a later one has looked.
func (k *Keeper) same(ctx context.Context, c route.Connected, path *route.Path, number int) error {
	if k.how.Same == nil {
		return nil
	}
	k.mu.Lock()
	sure := !k.doubt && (k.live > 0 || k.tested)
	k.tested = false
	k.mu.Unlock()
	err := k.how.Same(ctx, path, c, sure)
	k.mu.Lock()
	lasting := (*Lasting)(nil)
	bad := errors.As(err, &lasting)
	if k.path != path || number < k.judged || err != nil && !bad {
		k.mu.Unlock()
		return err
	}
	k.judged = number
	if err == nil && !sure {
		k.doubt = false
	}
	state, news := k.state, false
	switch {
	case bad:
		state, news = NeedsYou, k.turn(NeedsYou, path, err)
	case state == NeedsYou:
		state, news = Open, k.turn(Open, path, nil)
	}
	k.mu.Unlock()
	k.tell(news, state, err)
	return err
}

// Doubt says that the server may be another one now: it ended a connection, or could not be
// reached.
func (k *Keeper) Doubt() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.doubt = true
}

// Live counts the connections that are open: while one is, the server is in sight.
func (k *Keeper) Live(more int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.live += more
}

// dial connects to the server: to an address alone where only is one, else to the first that
// accepts. No name and no address takes the time of all.
func dial(ctx context.Context, path *route.Path, only string) (route.Connected, error) {
	var last error
	steps := route.NewSteps(ctx)
	defer steps.End()
	for at, err := range path.Each(steps, func(string, string) {}) {
		steps.Next() // what was looked up took a step
		if err != nil {
			last = err // another of several addresses may be found
			continue
		}
		if only != "" && at.String() != only {
			continue
		}
		conn, met, _, err := path.Connect(steps, at)
		steps.Next()
		if err == nil {
			return route.Connected{Conn: conn, At: at, Met: met}, nil
		}
		last = err
	}
	if last == nil {
		last = &finding.Problem{Code: finding.NameNotFound}
	}
	return route.Connected{}, last
}

// Close ends the route.
func (k *Keeper) Close() {
	k.cancel()
	k.done.Wait()
}
