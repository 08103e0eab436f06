package route

import (
	"context"
	"errors"
	"io"
	"iter"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"sync"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/target"
)

// Dialer makes connections, as net.Dialer does: from this machine, or from the last hop.
type Dialer interface {
	DialContext(ctx context.Context, network, address string) (net.Conn, error)
}

// Address is one place where the server may answer.
type Address struct {
	Network string // "tcp" or "unix"
	Host    string // an IP address, a name that the dialer resolves, or a path
	Port    int    // 0 for a socket
	// ServerName is the name that the server's certificate must hold, "" for the one that the target says.
	ServerName string
	// From says in a few words where the address comes from, "" when that is plain.
	From string
	// Dial reaches this address alone; nil for the last hop, or this machine.
	Dial Dialer
}

// String gives the address as a dialer takes it: "127.0.0.1:5432", or a path.
func (a Address) String() string {
	if a.Network == "unix" || a.Port == 0 {
		return a.Host
	}
	return net.JoinHostPort(a.Host, strconv.Itoa(a.Port))
}

// Note is told of each leg that passed, and of what was seen in passing.
type Note func(leg, saw string)

// Locator finds the addresses of a server. Each kind of address has one.
type Locator interface {
	// Legs names the legs that it walks, in order; it notes each that passes.
	Legs() []string
	// Locate gives the addresses, in the order in which they are to be tried, by way of the last hop where there is one
	// (via is nil otherwise). Its error ends the sequence; it is a *finding.Problem.
	Locate(ctx context.Context, via Dialer, note Note) iter.Seq2[Address, error]
}

// Hop is one machine on the way, through which further connections are made.
type Hop interface {
	// Through connects to the hop by way of the one before it (via is nil for the first), and gives what dials from there.
	// Closing it ends the hop. The error is a *finding.Problem.
	Through(ctx context.Context, via Dialer, note Note) (Dialer, io.Closer, error)
}

// Route is how a target is reached: through hops, to what a locator finds.
type Route struct {
	Hops    []Hop
	Locator Locator
	// Trust says whose server may be behind a socket.
	Trust Trust
}

// Legs names the legs of the route, in the order in which they are walked.
func (r Route) Legs() []string {
	var legs []string
	if len(r.Hops) > 0 {
		legs = append(legs, "tunnel")
	}
	return append(append(legs, r.Locator.Legs()...), "port")
}

// Open goes through the hops. What it gives must be closed. The error is a *finding.Problem.
func (r Route) Open(ctx context.Context, note Note) (*Path, error) {
	p := &Path{route: r}
	for _, hop := range r.Hops {
		dialer, closer, err := hop.Through(ctx, p.via, note)
		if err != nil {
			return nil, errors.Join(err, p.Close())
		}
		p.via, p.hops = dialer, append(p.hops, closer)
	}
	if len(r.Hops) > 0 {
		note("tunnel", strconv.Itoa(len(r.Hops))+" hops")
	}
	return p, nil
}

// Path is an open route. Several connections can be made over it at once.
type Path struct {
	route Route
	via   Dialer // the last hop's, nil for this machine
	hops  []io.Closer
	once  sync.Once
	err   error
}

// Each locates the server anew, and gives its addresses in turn.
func (p *Path) Each(ctx context.Context, note Note) iter.Seq2[Address, error] {
	return p.route.Locator.Locate(ctx, p.via, note)
}

// Connect makes a connection to an address, and tells what was met there. Nothing was sent yet. The error is a
// *finding.Problem of the leg "port".
func (p *Path) Connect(ctx context.Context, a Address) (net.Conn, target.Reached, Peer, error) {
	dialer := a.Dial
	if dialer == nil {
		dialer = p.via
	}
	if dialer == nil && a.Network == "unix" {
		conn, peer, err := DialSocket(ctx, a.Host, p.route.Trust)
		return conn, target.Reached{TrustedPeer: peer.Trusted}, peer, err
	}
	if dialer == nil {
		conn, err := Dial(ctx, a.Network, a.String())
		addr, parsed := netip.ParseAddr(a.Host)
		return conn, target.Reached{Loopback: parsed == nil && addr.Unmap().IsLoopback()}, Peer{}, err
	}
	conn, err := dialer.DialContext(ctx, a.Network, a.String())
	if err != nil {
		var known *finding.Problem
		if !errors.As(err, &known) {
			err = portProblem(ctx, a.Network, err)
		}
		return nil, target.Reached{}, Peer{}, err
	}
	return conn, target.Reached{}, Peer{}, nil
}

// Close ends the hops, the last one first.
func (p *Path) Close() error {
	p.once.Do(func() {
		for _, hop := range slices.Backward(p.hops) {
			p.err = errors.Join(p.err, hop.Close())
		}
	})
	return p.err
}
