package target

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
)

// Hop is a machine on the route that is logged in to by SSH (RFC 4251), as it is written.
type Hop struct {
	User string // "" for the one that the SSH configuration says, else your own account
	Host string // a name, an address, or a Host name of the SSH configuration
	Port int    // 0 for the one that the SSH configuration says, else 22
	// Key, Certificate and KnownHosts are paths, Agent the path of an agent's socket; "" for
	// those of the SSH configuration. Agent may be "none".
	Key, Certificate, KnownHosts, Agent string
	// Secret is the reference to the password or to the key's passphrase, "" for a search.
	Secret string
}

// String gives [user@]host[:port], the host in lower case: what a secret behind the hop is bound
// to.
func (h Hop) String() string {
	text := strings.ToLower(h.Host)
	if h.Port != 0 {
		text = Address{Kind: Host, Name: text, Port: h.Port}.String()
	} else if strings.Contains(text, ":") {
		text = "[" + text + "]"
	}
	if h.User != "" {
		text = h.User + "@" + text
	}
	return text
}

// Target gives the hop as what a password or a passphrase is bound to: the user at the hop,
// behind the hops before it. The encryption is SSH's own, with the host's key known.
func (h Hop) Target(before []Hop) Target {
	t := Target{Service: SSH, User: h.User, Endpoint: Endpoint{Host: strings.ToLower(h.Host), Port: h.Port}, TLS: "verify"}
	for _, each := range before {
		t.Hops = append(t.Hops, each.String())
	}
	return t
}

// ParseHop reads [user@]host[:port]. An IPv6 address with a port is in brackets.
func ParseHop(text string) (Hop, error) {
	var h Hop
	rest := text
	if at := strings.LastIndexByte(rest, '@'); at >= 0 {
		if h.User, rest = rest[:at], rest[at+1:]; h.User == "" {
			return h, fmt.Errorf("a user is missing before the @")
		}
		if strings.Contains(h.User, ":") {
			return h, fmt.Errorf("a hop is [user@]host[:port], without a password; the setting secret of a hop " +
				"says where that comes from")
		}
	}
	host, port := rest, ""
	if inside, ok := strings.CutPrefix(rest, "["); ok {
		var after string
		if host, after, ok = strings.Cut(inside, "]"); !ok || after != "" && after[0] != ':' {
			return h, fmt.Errorf("an IPv6 address with a port is written [ADDRESS]:PORT")
		}
		port = strings.TrimPrefix(after, ":")
	} else if strings.Count(rest, ":") == 1 {
		host, port, _ = strings.Cut(rest, ":")
	}
	if port != "" {
		n, err := strconv.Atoi(port)
		if err != nil || n < 1 || n > 65535 || strconv.Itoa(n) != port {
			return h, fmt.Errorf("a hop's port is a whole number from 1 to 65535")
		}
		h.Port = n
	} else if strings.HasSuffix(rest, ":") && strings.Count(rest, ":") == 1 {
		return h, fmt.Errorf("a port is missing behind the colon")
	}
	h.Host = host
	return h, h.check()
}

func (h Hop) check() error {
	if addr, err := netip.ParseAddr(h.Host); err == nil && IsZone(addr.Zone()) {
		return nil
	}
	// A Host name of the SSH configuration may be any word; one that begins with a dash would be
	// an option elsewhere.
	switch {
	case h.Host == "":
		return fmt.Errorf("a hop's host is missing")
	case h.Host[0] == '-' || len(h.Host) > 253 || !IsSimple(h.Host) ||
		strings.ContainsAny(h.Host, " /@,:*?!\"'`$;&|<>()[]{}#"):
		return fmt.Errorf("a hop's host is a name, an address, or a Host name of the SSH configuration")
	case h.User != "" && (h.User[0] == '-' || len(h.User) > 128 || !IsVisible(h.User) ||
		strings.ContainsAny(h.User, " /\"'`$;&|<>(){}")):
		return fmt.Errorf("this cannot be the name of a user on a hop")
	}
	return nil
}

// NewHop checks a hop that was put together from its parts.
func NewHop(h Hop) (Hop, error) {
	if h.Port < 0 || h.Port > 65535 {
		return h, fmt.Errorf("a hop's port is a whole number from 1 to 65535")
	}
	return h, h.check()
}
