package target

import "net/netip"

// Breadth is how far an IP address reaches. It decides whether an address that someone else names
// may be connected to.
type Breadth int

// The breadths of addresses (RFC 6890 and the registries that it began).
const (
	Public    Breadth = iota
	Private           // of a private network: a neighbour of this machine may have it
	LinkLocal         // of the network cable or of the machine's host, such as 169.254.169.254
	Own               // of the machine itself, or none at all
	Several           // of several machines, or of none that can be connected to
)

// breadths has the ranges that are not public. The first that holds an address counts.
var breadths = []struct {
	netip.Prefix
	Breadth
}{
	{netip.MustParsePrefix("127.0.0.0/8"), Own}, {netip.MustParsePrefix("0.0.0.0/8"), Own},
	{netip.MustParsePrefix("::1/128"), Own}, {netip.MustParsePrefix("::/128"), Own},
	{netip.MustParsePrefix("169.254.0.0/16"), LinkLocal}, {netip.MustParsePrefix("fe80::/10"), LinkLocal},
	{netip.MustParsePrefix("224.0.0.0/4"), Several}, {netip.MustParsePrefix("240.0.0.0/4"), Several},
	{netip.MustParsePrefix("ff00::/8"), Several}, {netip.MustParsePrefix("100::/64"), Several},
	// RFC 1918
	{netip.MustParsePrefix("10.0.0.0/8"), Private}, {netip.MustParsePrefix("172.16.0.0/12"), Private},
	{netip.MustParsePrefix("192.168.0.0/16"), Private},
	{netip.MustParsePrefix("100.64.0.0/10"), Private}, // carrier NAT (RFC 6598)
	{netip.MustParsePrefix("192.0.0.0/24"), Private}, {netip.MustParsePrefix("198.18.0.0/15"), Private},
	{netip.MustParsePrefix("fc00::/7"), Private}, {netip.MustParsePrefix("fec0::/10"), Private}, // RFC 4193; RFC 3879
	{netip.MustParsePrefix("64:ff9b:1::/48"), Private}, // NAT64 of a network's own (RFC 8215)
}

// Judge gives how far an address reaches, by its canonical form.
func Judge(addr netip.Addr) Breadth {
	addr = Canonical(addr)
	if !addr.IsValid() {
		return Own
	}
	for _, each := range breadths {
		if each.Contains(addr) {
			return each.Breadth
		}
	}
	return Public
}

// Canonical gives the IPv4 address that an IPv6 address stands for, where it does, and the
// address without its zone else: the forms ::ffff:a.b.c.d and ::a.b.c.d (RFC 4291, section
// 2.5.5), ::ffff:0:a.b.c.d (RFC 7915), NAT64's (RFC 6052), 6to4's (RFC 3056) and Teredo's (RFC
// 4380). A packet to one of these can arrive at that IPv4 address.
func Canonical(addr netip.Addr) netip.Addr {
	addr = addr.Unmap().WithZone("")
	if !addr.Is6() {
		return addr
	}
	b := addr.As16()
	last := netip.AddrFrom4([4]byte(b[12:16]))
	switch {
	case netip.MustParsePrefix("64:ff9b::/96").Contains(addr), netip.MustParsePrefix("::ffff:0:0:0/96").Contains(addr):
		return last
	case netip.MustParsePrefix("::/96").Contains(addr) && !addr.IsLoopback() && !addr.IsUnspecified():
		return last
	case b[0] == 0x20 && b[1] == 0x02:
		return netip.AddrFrom4([4]byte(b[2:6]))
	case netip.MustParsePrefix("2001::/32").Contains(addr):
		return netip.AddrFrom4([4]byte{^b[12], ^b[13], ^b[14], ^b[15]})
	}
	return addr
}
