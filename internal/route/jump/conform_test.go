//go:build unix

package jump

import (
	"fmt"
	"net"
	"path/filepath"
	"testing"

	"gentle-harbor/internal/route"
	"gentle-harbor/internal/route/routetest"
	"gentle-harbor/internal/target"
)

// pairs gives connections through a dialer to a listener of this test's: "tcp" or "unix".
func pairs(t *testing.T, via route.Dialer, network string) routetest.Pair {
	t.Helper()
	address := "127.0.0.1:0"
	if network == "unix" {
		address = filepath.Join(t.TempDir(), "s")
	}
	listener, err := net.Listen(network, address)
	must(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	return func() (near, far net.Conn, stop func(), err error) {
		if near, err = via.DialContext(t.Context(), network, listener.Addr().String()); err != nil {
			return nil, nil, nil, err
		}
		if far, err = routetest.Mate(near, listener); err != nil {
			return nil, nil, nil, err
		}
		return near, far, func() { _, _ = near.Close(), far.Close() }, nil
	}
}

// TestHopsConform holds connections through real OpenSSH servers to what connections promise:
// through one hop and two, to a port and to a socket, and where the hop itself is reached through
// a program.
func TestHopsConform(t *testing.T) {
	for _, kind := range []string{"one hop", "two hops", "a program"} {
		for _, network := range []string{"tcp", "unix"} {
			t.Run(kind+" "+network, func(t *testing.T) {
				t.Parallel()
				b := newBench(t, nil)
				key := b.key("id_ed25519", "ed25519", "")
				b.sshd.Admit(key.Public)
				h := b.hop()
				if kind == "a program" {
					write(t, filepath.Join(b.home, ".ssh/config"),
						fmt.Sprintf("Host gate\n  HostName 127.0.0.1\n  Port %d\n  ProxyCommand /bin/bash -c "+
							"'exec 3<>/dev/tcp/%%h/%%p; cat <&3 & cat >&3'\n",
							b.sshd.Port))
					h.Hop = target.Hop{Host: "gate"}
				}
				first, err := h.Through(t.Context(), nil)
				must(t, err)
				defer first.Close()
				via := route.Dialer(first)
				if kind == "two hops" {
					second := b.hop()
					second.Before = []target.Hop{h.Hop}
					passed, err := second.Through(t.Context(), first)
					must(t, err)
					defer passed.Close()
					via = passed
				}
				routetest.Conform(t, pairs(t, via, network))
			})
		}
	}
}
