// Package target says the server that a connection talks to, and how, as it is written: no name
// is looked up and no file is read for it. What is decided by what is written alone, such as
// whether a server is on this machine, is decided here and nowhere else.
package target

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// Kind is a form of address: how it is named where a server is. Each kind has a locator that
// finds it.
type Kind string

// The kinds of address.
const (
	Host   Kind = "host"   // a name or an IP address, with a port
	Socket Kind = "socket" // the path of a Unix socket
	Alias  Kind = "alias"  // a name in a file of aliases, which stands for several addresses
	// Container is a container of a container engine, or a service of a Compose project; see
	// [Contained].
	Container Kind = "container"
	// Cloud is a server of a cloud, which says where it is; see [Clouded].
	Cloud Kind = "cloud"
)

// Address is where a server is, as it is written. Name is the kind's canonical text: a host, a
// path.
type Address struct {
	Kind Kind
	Name string
	Port int // 0 where the kind has none
}

// String gives the address for people: "db.fellside.example:5432", "[::1]:5432", or a path.
func (a Address) String() string {
	switch {
	case a.Port == 0:
		return a.Name
	case strings.Contains(a.Name, ":"):
		return "[" + a.Name + "]:" + strconv.Itoa(a.Port)
	}
	return a.Name + ":" + strconv.Itoa(a.Port)
}

// TLS says how a connection is to be encrypted.
type TLS struct {
	Mode       string // "off", "encrypt" or "verify"
	CA         string // paths, "" for none
	Cert, Key  string
	ServerName string // "" for the host
}

// Address gives where the target is, by its kind.
func (w Target) Address() Address {
	if w.Endpoint.Alias != "" {
		return Address{Kind: Alias, Name: w.Endpoint.Alias}
	}
	if w.Endpoint.Cloud != "" {
		return Address{Kind: Cloud, Name: w.Endpoint.Cloud}
	}
	if w.Endpoint.Container != "" {
		return Address{Kind: Container, Name: w.Endpoint.Container, Port: w.Port}
	}
	if w.Socket != "" {
		return Address{Kind: Socket, Name: w.Socket}
	}
	return Address{Kind: Host, Name: w.Host, Port: w.Port}
}

// IsLoopback reports whether a name stands for this machine alone: localhost and all names below
// it (RFC 6761, section 6.3).
func IsLoopback(name string) bool {
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	return name == "localhost" || strings.HasSuffix(name, ".localhost")
}

// OnThisMachine reports whether the target is this machine's own: no hops, and a socket, a
// loopback address, or a name that stands for one.
func (w Target) OnThisMachine() bool {
	if len(w.Hops) > 0 {
		return false
	}
	addr, err := netip.ParseAddr(w.Host)
	return w.Socket != "" || IsLoopback(w.Host) || err == nil && addr.Unmap().IsLoopback()
}

// Reached is what was really met at an address.
type Reached struct {
	Loopback    bool // the address that was dialled is loopback
	TrustedPeer bool // the process behind a socket is trusted to be the server's
	// HopKnown says that the last hop's key was known before this run.
	HopKnown bool
	// Contained says that the address is a container's at this machine's own container engine, as
	// that engine says.
	Contained bool
}

// MayShow reports whether the server may be shown the password itself: its certificate is
// verified before anything is sent, or it is on this machine both as written and as reached.
func (w Target) MayShow(at Reached) bool {
	return w.TLS == "verify" || w.OnThisMachine() && (at.TrustedPeer || w.Socket == "" && at.Loopback) ||
		w.onLastHop(at) || w.inContainer(at)
}

// onLastHop reports whether the server is on the last hop's own loopback, as it is written, and
// that hop is surely the right one. The hop can read what passes there.
func (w Target) onLastHop(at Reached) bool {
	return len(w.Hops) > 0 && w.Socket == "" && Literal(w.Host) && at.HopKnown
}

// inContainer reports whether the server is in a container of this machine, as it is written and
// as the container engine says.
func (w Target) inContainer(at Reached) bool {
	return w.Endpoint.Container != "" && at.Contained
}

// Unverified reports whether whoever answers could be another than the server: it is on another
// machine, and no certificate is checked.
func (w Target) Unverified(at Reached) bool {
	return w.TLS != "verify" && !(w.OnThisMachine() && (at.Loopback || w.Socket != "")) && !w.onLastHop(at) &&
		!w.inContainer(at)
}

// Define gives the definition of an alias: its addresses, which may be "srv" and a name, how its
// connections are encrypted, the digest of the authority's content ("" for the system's), and its
// hops.
func Define(addresses []Address, srv string, tls TLS, authority string, hops []string) Definition {
	var d Definition
	for _, a := range addresses {
		d.Addresses = append(d.Addresses, digest(string(a.Kind), a.Name, strconv.Itoa(a.Port)))
	}
	if srv != "" {
		d.Addresses = append(d.Addresses, digest("srv", strings.ToLower(srv)))
	}
	slices.Sort(d.Addresses)
	d.How = digest(append([]string{tls.Mode, authority, strings.ToLower(tls.ServerName)}, hops...)...)
	return d
}

// Servers gives what its server is known by, as digests: its address, or those of its alias,
// which stand for one another. Two targets with one in common lead to one server.
func (w Target) Servers() []string {
	if w.Endpoint.Alias != "" && len(w.Defined.Addresses) > 0 {
		return w.Defined.Addresses
	}
	a := w.Address()
	return []string{digest(string(a.Kind), a.Name, strconv.Itoa(a.Port))}
}

// At gives the target at one address of its alias, for what is decided by where the server is.
func (w Target) At(a Address) Target {
	if w.Endpoint.Alias == "" || a.Name == "" {
		return w
	}
	w.Endpoint.Alias = ""
	if a.Kind == Socket {
		w.Socket = a.Name
	} else {
		w.Host, w.Port = a.Name, a.Port
	}
	return w
}
