package route

import (
	"context"
	"errors"
	"iter"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/target"
)

// Dialer makes connections, as net.Dialer does: from this machine, or from the last hop.
type Dialer interface {
	DialContext(ctx context.Context, network, address string) (net.Conn, error)
}

// Address is one address at which the server may answer.
type Address struct {
	Network string // "tcp" or "unix"
	Host    string // an IP address, a name that the dialer resolves, or a path
	Port    int    // 0 for a socket
	// ServerName is the name that the server's certificate must hold, "" for the one that the
	// target says.
	ServerName string
	// From says in a few words where the address comes from, "" when that is plain.
	From string
	// Led is the address whose server led here, "" for none.
	Led string
	// Written is the address of an alias that this one comes from; its zero value for none.
	Written target.Address
	// Marks say what is there, as who found the address knows it: see [Changes]. "" where nothing
	// is known but the address.
	Marks string
	// Shown says, once it is connected, whether what is there is what who found the address
	// means; nil where that needs no look.
	Shown func() bool
	// Dial reaches this address alone; nil for the last hop, or this machine. Met is what is met
	// there.
	Dial Dialer
	Met  target.Reached
}

// Mark is one thing by which a server is known before a byte is sent to it: what it is, as the
// beginning of "… is another one", and a value.
type Mark struct{ What, Value string }

// Marks writes marks for [Address.Marks].
func Marks(list ...Mark) string {
	var b strings.Builder
	for _, each := range list {
		b.WriteString(each.What + "\x00" + each.Value + "\x01")
	}
	return b.String()
}

// Changes names the marks that are other ones than before.
func Changes(before, now string) []string {
	was := map[string]string{}
	for each := range strings.SplitSeq(before, "\x01") {
		what, value, _ := strings.Cut(each, "\x00")
		was[what] = value
	}
	var list []string
	for each := range strings.SplitSeq(now, "\x01") {
		what, value, _ := strings.Cut(each, "\x00")
		if old, known := was[what]; !known || old != value {
			list = append(list, what)
		}
		delete(was, what)
	}
	for what := range was {
		list = append(list, what)
	}
	slices.Sort(list)
	return list
}

// Dialer gives what connects to an address of the path, and knows what it meets there.
func (p *Path) Dialer(at Address) Dialer { return metDialer{p, at} }

type metDialer struct {
	path *Path
	at   Address
}

// DialContext connects to the address, no matter what it is given.
func (d metDialer) DialContext(ctx context.Context, _, _ string) (net.Conn, error) {
	conn, met, _, err := d.path.Connect(ctx, d.at)
	if err != nil {
		return nil, err
	}
	return metConn{conn, met}, nil
}

type metConn struct {
	net.Conn
	met target.Reached
}

// Met gives what was met at the other end.
func (c metConn) Met() target.Reached { return c.met }

// Connected is a connection to an address of a server, and what was met there.
type Connected struct {
	net.Conn
	At  Address
	Met target.Reached
}

// Meeting is a connection that knows itself what was met at its other end, such as one through a
// door.
type Meeting interface{ Met() target.Reached }

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
	// Locate gives the addresses, in the order in which they are to be tried, through the last
	// hop where there is one (via is nil otherwise). Its error ends the sequence; it is a
	// *finding.Problem.
	Locate(ctx context.Context, via Dialer, note Note) iter.Seq2[Address, error]
}

// Hop is one machine on the route, through which further connections are made.
type Hop interface {
	// Through logs in to the hop through the one before it (via is nil for the first). The error
	// is a *finding.Problem, or that of asking a person.
	Through(ctx context.Context, via Dialer) (*Passed, error)
}

// Passed is a hop that was logged in to.
type Passed struct {
	Dialer
	// Close ends the login, and Lost is closed when it has ended for any reason.
	Close func() error
	Lost  <-chan struct{}
	// Name is the hop as it is written, and Saw a line for people: the hop, its key, how it let us in.
	Name, Saw string
	// Known says that the hop's key was known before this run.
	Known bool
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
	var saw []string
	for _, hop := range r.Hops {
		passed, err := hop.Through(ctx, p.via)
		if err != nil {
			err = p.behind(err)
			_ = p.Close()
			return nil, err
		}
		p.via, p.hops = passed.Dialer, append(p.hops, passed)
		saw = append(saw, passed.Saw)
	}
	if len(r.Hops) > 0 {
		note("tunnel", strings.Join(saw, "; "))
	}
	return p, nil
}

// Path is an open route. Several connections can be made over it at the same time.
type Path struct {
	route Route
	via   Dialer // the last hop's, nil for this machine
	hops  []*Passed
	lent  bool // the hops are another path's, which closes them
	once  sync.Once
	err   error
}

// Behind gives the name of the last hop, "" for none.
func (p *Path) Behind() string {
	if len(p.hops) == 0 {
		return ""
	}
	return p.hops[len(p.hops)-1].Name
}

// behind has a problem say which hop was asked.
func (p *Path) behind(err error) error {
	var problem *finding.Problem
	if hop := p.Behind(); hop != "" && errors.As(err, &problem) && problem.Facts[finding.FactBehind] == "" {
		problem.Set(finding.FactBehind, hop)
	}
	return err
}

// Each locates the server anew, and gives its addresses in turn.
func (p *Path) Each(ctx context.Context, note Note) iter.Seq2[Address, error] {
	return p.route.Locator.Locate(ctx, p.via, note)
}

// Locate gives the addresses that a locator finds, as Each does for the route's own.
func (p *Path) Locate(ctx context.Context, l Locator, note Note) iter.Seq2[Address, error] {
	return l.Locate(ctx, p.via, note)
}

// Connect makes a connection to an address, and says what was met there. Nothing was sent yet.
// The error is a *finding.Problem of the leg "port".
func (p *Path) Connect(ctx context.Context, a Address) (conn net.Conn, met target.Reached, peer Peer, err error) {
	if a.Led != "" {
		return p.follow(ctx, a)
	}
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
		return conn, target.Reached{Loopback: parsed == nil && addr.Unmap().IsLoopback(),
			Contained: a.Met.Contained && (a.Shown == nil || a.Shown())}, Peer{}, err
	}
	met = a.Met
	if a.Dial == nil {
		met.HopKnown = p.known()
	}
	conn, err = dialer.DialContext(ctx, a.Network, a.String())
	if err != nil {
		var known *finding.Problem
		if !errors.As(err, &known) {
			err = PortProblem(ctx, "", a.String(), err) // a socket there is none of this machine's
		}
		if a.Dial == nil {
			err = p.behind(err)
		}
		return nil, target.Reached{}, Peer{}, err
	}
	if itself, knows := conn.(Meeting); knows {
		met = itself.Met()
	}
	return conn, met, Peer{}, nil
}

// follow connects to an address that a server leads to. A server elsewhere cannot lead to this
// machine itself, to the last hop itself, or to what is on the same cable alone: what listens
// there is no part of the server. The error is a *finding.Problem.
func (p *Path) follow(ctx context.Context, a Address) (conn net.Conn, met target.Reached, peer Peer, err error) {
	far := p.via != nil || a.Dial != nil
	first, _, err := net.SplitHostPort(a.Led)
	if err != nil {
		first = a.Led
	}
	from, known := netip.ParseAddr(first)
	allowed := func(addr netip.Addr) bool {
		switch breadth := target.Judge(addr); breadth {
		case target.Own, target.LinkLocal:
			return known == nil && target.Judge(from) == breadth
		default:
			return breadth != target.Several
		}
	}
	astray := func(detail string) error {
		return &finding.Problem{Code: finding.GreetingLedAstray,
			Facts: finding.Facts{finding.FactLedTo: a.String(), finding.FactLedFrom: a.Led,
				finding.FactDetail: detail}}
	}
	led := a.Led
	a.Led = ""
	addr, literal := Literal(a.Host)
	addrs := []netip.Addr{addr}
	switch {
	case !literal && far: // it is looked up at the last hop
		return p.Connect(ctx, a)
	case !literal:
		if addrs, err = Addresses(ctx, net.DefaultResolver, a.Host); err != nil {
			return nil, target.Reached{}, Peer{}, err
		}
	}
	for _, addr := range addrs {
		if !allowed(addr) {
			a.Led = led
			return nil, target.Reached{}, Peer{},
				astray("That is an address of a machine itself, or of its own network alone: a server elsewhere cannot lead there.")
		}
	}
	for _, addr := range addrs {
		a.Host = addr.String()
		conn, met, peer, failed := p.Connect(ctx, a)
		if err = failed; err == nil || ctx.Err() != nil {
			return conn, met, peer, err
		}
	}
	return nil, target.Reached{}, Peer{}, err
}

// known reports whether the keys of all hops were known before this run.
func (p *Path) known() bool {
	return len(p.hops) > 0 && !slices.ContainsFunc(p.hops, func(h *Passed) bool { return !h.Known })
}

// Lost gives each hop with its name; none without hops.
func (p *Path) Lost() []*Passed { return p.hops }

// Close ends the hops, the last one first.
func (p *Path) Close() error {
	p.once.Do(func() {
		if p.lent {
			return
		}
		for _, hop := range slices.Backward(p.hops) {
			p.err = errors.Join(p.err, hop.Close())
		}
	})
	return p.err
}

// Via gives the last hop, through which further connections can be made; nil without hops.
func (p *Path) Via() Dialer { return p.via }
