package route

import (
	"context"
	"iter"
	"net"
	"net/netip"
	"strings"

	"gentle-harbor/internal/finding"
)

// AtHost locates a server by a name or an IP address, and a port.
type AtHost struct {
	Host     string
	Port     int
	Resolver Resolver // nil for the system's
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
			yield(Address{Network: "tcp", Host: h.Host, Port: h.Port}, nil)
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
			note("name", h.Host+" is "+joined(addrs))
		}
		for _, addr := range addrs {
			if !yield(Address{Network: "tcp", Host: addr.String(), Port: h.Port}, nil) {
				return
			}
		}
	}
}

func joined(addrs []netip.Addr) string {
	texts := make([]string, len(addrs))
	for i, addr := range addrs {
		texts[i] = addr.String()
	}
	return strings.Join(texts, ", ")
}

// AtSocket locates a server by the path of its Unix socket.
type AtSocket struct{ Path string }

// Legs names none: there is nothing to look up.
func (AtSocket) Legs() []string { return nil }

// Locate gives the socket.
func (s AtSocket) Locate(_ context.Context, via Dialer, _ Note) iter.Seq2[Address, error] {
	return func(yield func(Address, error) bool) {
		if via != nil {
			yield(Address{}, &finding.Problem{Code: "settings.invalid", Facts: map[string]string{
				"wrong": "A socket is on this machine, and the route goes through a hop.", "setting": "socket", "origin": "the profile"}})
			return
		}
		yield(Address{Network: "unix", Host: s.Path}, nil)
	}
}
