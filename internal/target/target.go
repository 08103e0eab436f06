// Package target says whom a connection talks to and how, as it is written: no name is looked up and no file is read for
// it. What is decided by what is written alone, such as whether a server is on this machine, is decided here and nowhere else.
package target

import (
	"net/netip"
	"strconv"
	"strings"
)

// Kind is a way of naming where a server is. Each kind has a locator that finds it.
type Kind string

// The kinds of address.
const (
	Host   Kind = "host"   // a name or an IP address, with a port
	Socket Kind = "socket" // the path of a Unix socket
)

// Address is where a server is, as it is written. Name is the kind's canonical text: a host, a path.
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
	if w.Socket != "" {
		return Address{Kind: Socket, Name: w.Socket}
	}
	return Address{Kind: Host, Name: w.Host, Port: w.Port}
}

// IsLoopback reports whether a name stands for this machine alone: localhost and all names below it (RFC 6761, section
// 6.3).
func IsLoopback(name string) bool {
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	return name == "localhost" || strings.HasSuffix(name, ".localhost")
}

// OnThisMachine reports whether the target is this machine's own: no hops, and a socket, a loopback address, or a name that
// stands for one.
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
}

// MayShow reports whether the server may be shown the password itself: its certificate is verified before anything is
// sent, or it is on this machine both as written and as reached.
func (w Target) MayShow(at Reached) bool {
	return w.TLS == "verify" || w.OnThisMachine() && (at.TrustedPeer || w.Socket == "" && at.Loopback)
}

// Unverified reports whether whoever answers could be another than the server: it is on another machine, and no
// certificate is checked.
func (w Target) Unverified(at Reached) bool {
	return w.TLS != "verify" && !(w.OnThisMachine() && (at.Loopback || w.Socket != ""))
}
