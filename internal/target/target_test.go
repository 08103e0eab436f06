package target

import "testing"

func TestTarget(t *testing.T) {
	host := func(name, mode string, hops ...string) Target {
		return Target{Endpoint: Endpoint{Host: name, Port: 5432}, TLS: mode, Hops: hops}
	}
	socket := Target{Endpoint: Endpoint{Socket: "/run/s"}, TLS: "off"}
	for _, c := range []struct {
		name                    string
		target                  Target
		at                      Reached
		here, mayShow, unproven bool
	}{
		{"localhost", host("localhost", "off"), Reached{Loopback: true}, true, true, false},
		{"localhost that leads elsewhere", host("localhost", "off"), Reached{}, true, false, true},
		{"a name below localhost", host("Hut.LOCALHOST.", "encrypt"), Reached{Loopback: true}, true, true, false},
		{"an address of this machine", host("127.8.9.1", "off"), Reached{Loopback: true}, true, true, false},
		{"the same in IPv6's form", host("::ffff:127.0.0.1", "off"), Reached{Loopback: true}, true, true, false},
		{"a name that leads to this machine", host("db.fellside.example", "off"), Reached{Loopback: true},
			false, false, true},
		{"another machine", host("db.fellside.example", "encrypt"), Reached{}, false, false, true},
		{"another machine, verified", host("db.fellside.example", "verify"), Reached{}, false, true, false},
		{"a hop's localhost", host("localhost", "off", "gate"), Reached{Loopback: true}, false, false, true},
		{"a hop's localhost, verified", host("localhost", "verify", "gate"), Reached{}, false, true, false},
		{"a trusted socket", socket, Reached{TrustedPeer: true}, true, true, false},
		{"a socket whose peer is not shown", socket, Reached{}, true, false, false},
		{"nothing", Target{}, Reached{Loopback: true, TrustedPeer: true}, false, false, true},
	} {
		if got := c.target.OnThisMachine(); got != c.here {
			t.Errorf("%s: on this machine %v", c.name, got)
		}
		if got := c.target.MayShow(c.at); got != c.mayShow {
			t.Errorf("%s: may show %v", c.name, got)
		}
		if got := c.target.Unverified(c.at); got != c.unproven {
			t.Errorf("%s: unverified %v", c.name, got)
		}
	}
	for want, a := range map[string]Address{"h:1": {Host, "h", 1}, "[::1]:2": {Host, "::1", 2},
		"/s": {Kind: Socket, Name: "/s"}} {
		if a.String() != want {
			t.Errorf("%s is %s", want, a)
		}
	}
}
