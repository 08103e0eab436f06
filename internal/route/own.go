package route

import (
	"net"
	"net/netip"
	"slices"
)

// Own reports whether an address is one of this machine's: loopback, or that of a network
// interface.
func Own(addr netip.Addr) bool {
	if addr.IsLoopback() {
		return true
	}
	own, err := net.InterfaceAddrs()
	return err == nil && slices.ContainsFunc(own, func(a net.Addr) bool {
		prefix, err := netip.ParsePrefix(a.String())
		return err == nil && prefix.Addr().Unmap() == addr.Unmap()
	})
}
