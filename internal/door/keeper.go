// Package door lets other programs through to a server: a [Door] listens on this machine and passes bytes on over a route, a [Keeper]
// keeps the route open and opens it anew when a hop dies, and a [Host] is asked, from other processes, how its doors are.
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
	NeedsYou     State = "needs-you" // a login was refused, a host key is another one, or somebody would have to be asked
	Closed       State = "closed"
)

// Bounds of a keeper.
const (
	firstPause = 200 * time.Millisecond
	maxPause   = 15 * time.Second
	// patience is how long a new connection waits while the route is opened anew.
	patience = 30 * time.Second
)

// Keeper keeps a route open. Several doors can share one.
type Keeper struct {
	open   func(ctx context.Context) (*route.Path, error)
	ctx    context.Context
	cancel context.CancelFunc
	tell   func(State, error)

	mu      sync.Mutex
	path    *route.Path
	state   State
	problem error         // of the state needs-you, or of the last try
	changed chan struct{} // closed when the state changes
	done    sync.WaitGroup
	only    string
}

// Keep keeps a route that is open, until ctx ends or [Keeper.Close]. Open opens it anew and asks nobody; tell, which may be nil, is told
// of each new state, and why. Only is the one address to connect to, where several servers are behind the route and one has the role that is
// wanted; "" for any.
func Keep(ctx context.Context, path *route.Path, only string, open func(ctx context.Context) (*route.Path, error), tell func(State, error)) *Keeper {
	k := &Keeper{open: open, tell: tell, path: path, only: only, state: Open, changed: make(chan struct{})}
	k.ctx, k.cancel = context.WithCancel(ctx)
	k.done.Add(1)
	go k.watch()
	return k
}

// State gives how the route is, and why it is not open.
func (k *Keeper) State() (State, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.state, k.problem
}

func (k *Keeper) become(state State, path *route.Path, problem error) {
	k.mu.Lock()
	changed := k.state != state
	k.state, k.path, k.problem = state, path, problem
	close(k.changed)
	k.changed = make(chan struct{})
	k.mu.Unlock()
	if changed && k.tell != nil {
		k.tell(state, problem)
	}
}

// watch waits for the route to be lost, and opens it anew.
func (k *Keeper) watch() {
	defer k.done.Done()
	for {
		k.mu.Lock()
		path := k.path
		k.mu.Unlock()
		if !lost(k.ctx, path) {
			_ = path.Close()
			k.become(Closed, nil, net.ErrClosed)
			return
		}
		_ = path.Close()
		k.become(Reconnecting, nil, nil)
		if !k.again() {
			<-k.ctx.Done()
			k.become(Closed, nil, net.ErrClosed)
			return
		}
	}
}

// again opens the route anew, with growing pauses. It gives up, and reports false, when trying again would not help or would do harm: a
// refused login is never sent twice.
func (k *Keeper) again() bool {
	for pause := firstPause; ; pause = min(2*pause, maxPause) {
		path, err := k.open(k.ctx)
		if err == nil {
			k.become(Open, path, nil)
			return true
		}
		if k.ctx.Err() != nil {
			return false
		}
		if !Passing(err) {
			k.become(NeedsYou, nil, err)
			return false
		}
		k.mu.Lock()
		k.problem = err
		k.mu.Unlock()
		select {
		case <-time.After(pause):
		case <-k.ctx.Done():
			return false
		}
	}
}

// passing are the findings after which the same may work a moment later.
var passing = []finding.Code{
	finding.TunnelRefused, finding.TunnelSilent, finding.TunnelUnreachable, finding.TunnelDropped, finding.TunnelLost, finding.TunnelHopNotFound, finding.TunnelUnknown, finding.TunnelNotSSH,
}

// Passing reports whether what kept a route from being opened may pass by itself.
func Passing(err error) bool {
	var p *finding.Problem
	return errors.As(err, &p) && slices.Contains(passing, p.Code)
}

// lost waits until a hop of a path ends, and reports whether one did before ctx.
func lost(ctx context.Context, path *route.Path) bool {
	hops := path.Lost()
	if len(hops) == 0 {
		<-ctx.Done()
		return false
	}
	gone := make(chan struct{}, len(hops))
	stop := make(chan struct{})
	defer close(stop)
	for _, hop := range hops {
		go func() {
			select {
			case <-hop:
				gone <- struct{}{}
			case <-stop:
			}
		}()
	}
	select {
	case <-gone:
		return ctx.Err() == nil
	case <-ctx.Done():
		return false
	}
}

// Dial connects to the server, at the first of its addresses that accepts. While the route is opened anew it waits. Its error is a
// *finding.Problem where the route says one.
func (k *Keeper) Dial(ctx context.Context) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		k.mu.Lock()
		path, state, problem, changed := k.path, k.state, k.problem, k.changed
		k.mu.Unlock()
		switch state {
		case Open:
			conn, err := dial(ctx, path, k.only)
			if err == nil {
				return conn, nil
			}
			var p *finding.Problem
			if !errors.As(err, &p) || p.Code != finding.TunnelLost || ctx.Err() != nil {
				return nil, err
			}
			// The hop died meanwhile; its end is noticed in a moment.
			select {
			case <-changed:
			case <-time.After(time.Second):
				_ = path.Close()
			case <-ctx.Done():
				return nil, err
			}
		case Reconnecting:
			select {
			case <-changed:
			case <-ctx.Done():
				if problem == nil {
					problem = ctx.Err()
				}
				return nil, problem
			}
		default:
			return nil, problem
		}
	}
}

// dial connects to the server: to an address alone where only is one, else to the first that accepts.
func dial(ctx context.Context, path *route.Path, only string) (net.Conn, error) {
	var last error
	for at, err := range path.Each(ctx, func(string, string) {}) {
		if err != nil {
			last = err // another of several addresses may be found
			continue
		}
		if only != "" && at.String() != only {
			continue
		}
		each, cancel := context.WithTimeout(ctx, patience/3)
		conn, _, _, err := path.Connect(each, at)
		cancel()
		if err == nil {
			return conn, nil
		}
		last = err
	}
	if last == nil {
		last = &finding.Problem{Code: finding.NameNotFound}
	}
	return nil, last
}

// Close ends the route.
func (k *Keeper) Close() {
	k.cancel()
	k.done.Wait()
}
