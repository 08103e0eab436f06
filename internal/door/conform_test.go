package door

import (
	"net"
	"testing"

	"gentle-harbor/internal/route"
	"gentle-harbor/internal/route/routetest"
)

// TestDoorsConform holds connections through a door to what connections promise.
func TestDoorsConform(t *testing.T) {
	server, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer server.Close()
	path, err := route.Route{Locator: route.At{Network: "tcp", Host: "127.0.0.1",
		Port: server.Addr().(*net.TCPAddr).Port}}.Open(t.Context(), func(string, string) {})
	must(t, err)
	k := Keep(t.Context(), path, Keeping{Pauses: quick})
	defer k.Close()
	listener, err := ListenTCP(0)
	must(t, err)
	d := Serve(t.Context(), listener, Way{Keeper: k})
	defer d.Close(0)
	routetest.Conform(t, func() (net.Conn, net.Conn, func(), error) {
		near, err := net.Dial("tcp", d.Addr().String())
		if err != nil {
			return nil, nil, nil, err
		}
		far, err := routetest.Mate(near, server)
		if err != nil {
			return nil, nil, nil, err
		}
		return near, far, func() { _, _ = near.Close(), far.Close() }, nil
	})
}
