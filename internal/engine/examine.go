package engine

import (
	"context"
	"net"
	"net/netip"
	"strconv"
)

// Examines is the ability of an [Examiner].
const Examines Ability = "say which of its rules applies to a login"

// Attempt is a login that failed.
type Attempt struct {
	User, Database string
	Socket         bool // over a socket of the server's machine
	// From is the address from which the server saw the client, "" for not known: then SameWay
	// says whether the session that looks came by the same way.
	From      string
	SameWay   bool
	Encrypted bool
	Card      bool // a client certificate was sent
}

// Fits says whether a rule is about a login.
type Fits int

// The answers.
const (
	FitsNot Fits = iota
	FitsPerhaps
	FitsWell
)

// Rule is a rule, or an account, that decides whether a server lets someone in.
type Rule struct {
	Where string // where it is: a line of a file, or an account's name
	Says  string
	Fits  Fits
	Why   string // why it does not fit, or may not; "" where it fits
}

// Examined is what an administrator's session sees of a login that failed.
type Examined struct {
	// Client is the host as which the server sees the client, "" for not known.
	Client string
	// Rules are those that the server looks at, in its order; the first that fits decides.
	Rules []Rule
	// Says are sentences on what keeps the login from succeeding; it is empty where nothing was seen.
	Says []string
	// Fixes are statements that an administrator can run, each of which takes one of those away.
	// A … in it stands for a secret.
	Fixes []string
	// Flags are what to add to the test of the profile instead.
	Flags [][]string
}

// Examiner is a session of an administrator, who sees why its server let someone in or not.
type Examiner interface {
	Examine(ctx context.Context, a Attempt) (Examined, error)
}

// Decides gives the number of the rule that decides, -1 for none: the first that fits, where none
// before it may fit.
func (e Examined) Decides() int {
	for i, r := range e.Rules {
		switch r.Fits {
		case FitsWell:
			return i
		case FitsPerhaps:
			return -1
		}
	}
	return -1
}

// Network gives the network that servers write as an address and a mask, be it 255.255.255.0, 24,
// or "" for the address alone.
func Network(address, mask string) (netip.Prefix, bool) {
	addr, err := netip.ParseAddr(address)
	if err != nil {
		return netip.Prefix{}, false
	}
	bits := addr.BitLen()
	if m, err := netip.ParseAddr(mask); err == nil {
		if m.BitLen() != bits {
			return netip.Prefix{}, false
		}
		bits, _ = net.IPMask(m.AsSlice()).Size()
	} else if mask != "" {
		if bits, err = strconv.Atoi(mask); err != nil {
			return netip.Prefix{}, false
		}
	}
	prefix, err := addr.Prefix(bits)
	return prefix, err == nil
}
