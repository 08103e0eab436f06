package route

import (
	"context"
	"iter"
	"net"
	"net/netip"
	"strings"

	"gentle-harbor/internal/target"
)

// AtHost locates a server by a name or an IP address, and a port.
type AtHost struct {
	Host     string
	Port     int
	Resolver Resolver // nil for the system's
	// Origin says where a name's addresses come from, "" for nothing; it may be nil.
	Origin func(host string, addrs []netip.Addr) string
}

// Legs names the leg "name" for a name, and none for an address.
func (h AtHost) Legs() []string {
	if _, literal := Literal(h.Host); literal {
		return nil
	}
	return []string{"name"}
}

// Locate looks the name up. Behind a hop the hop does that: the name itself is the address.
func (h AtHost) Locate(ctx context.Context, via Dialer, note Note) iter.Seq2[Address, error] {
	return func(yield func(Address, error) bool) {
		if via != nil {
			if len(h.Legs()) > 0 {
				note("name", "asked of the last hop, together with the port")
			}
			// The names of this machine alone are literals there too (RFC 6761).
			for _, host := range literals(h.Host) {
				if !yield(Address{Network: "tcp", Host: host, Port: h.Port}, nil) {
					return
				}
			}
			return
		}
		resolver := h.Resolver
		if resolver == nil {
			resolver = net.DefaultResolver
		}
		addrs, err := Addresses(ctx, resolver, h.Host)
		if err != nil {
			yield(Address{}, err)
			return
		}
		if len(h.Legs()) > 0 {
			saw := h.Host + " is " + joined(addrs)
			if h.Origin != nil {
				if from := h.Origin(h.Host, addrs); from != "" {
					saw += " (" + from + ")"
				}
			}
			note("name", saw)
		}
		for _, addr := range addrs {
			if !yield(Address{Network: "tcp", Host: addr.String(), Port: h.Port}, nil) {
				return
			}
		}
	}
}

// literals gives the addresses of a name that stands for the machine itself; any other is its own.
func literals(host string) []string {
	if target.IsLoopback(host) {
		return []string{"127.0.0.1", "::1"}
	}
	return []string{host}
}

func joined(addrs []netip.Addr) string {
	texts := make([]string, len(addrs))
	for i, addr := range addrs {
		texts[i] = addr.String()
	}
	return strings.Join(texts, ", ")
}

// At is an address that is known.
type At Address

// Legs names none: there is nothing to look up.
func (At) Legs() []string { return nil }

// Locate gives the address.
func (a At) Locate(_ context.Context, _ Dialer, _ Note) iter.Seq2[Address, error] {
	return func(yield func(Address, error) bool) { yield(Address(a), nil) }
}

// Only gives the same way, to one of its addresses: through the hops that are logged in to. Its
// Close closes nothing.
func (p *Path) Only(at Address) *Path {
	return &Path{route: Route{Locator: At(at), Trust: p.route.Trust}, via: p.via, hops: p.hops, lent: true}
}

// AtSocket locates a server by the path of its Unix socket.
type AtSocket struct{ Path string }

// Legs names none: there is nothing to look up.
func (AtSocket) Legs() []string { return nil }

// Locate gives the socket.
func (s AtSocket) Locate(_ context.Context, via Dialer, _ Note) iter.Seq2[Address, error] {
	return func(yield func(Address, error) bool) {
		// Behind a hop it is a socket of the last hop's.
		yield(Address{Network: "unix", Host: s.Path}, nil)
	}
}
