package container_test

import (
	"net"
	"testing"

	"gentle-harbor/internal/route/routetest"
)

// TestStreamsConform holds streams through a container engine to what connections promise.
func TestStreamsConform(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer listener.Close()
	c := hut()
	c.Published, c.Streams = nil, map[int]string{5432: listener.Addr().String()}
	_, at := practice(t, c)
	routetest.Conform(t, func() (net.Conn, net.Conn, func(), error) {
		list, _, p := locate(t, "hutdb exec", at)
		if p != nil {
			return nil, nil, nil, p
		}
		near, err := list[0].Dial.DialContext(t.Context(), "tcp", "")
		if err != nil {
			return nil, nil, nil, err
		}
		far, err := routetest.Mate(near, listener)
		if err != nil {
			return nil, nil, nil, err
		}
		return near, far, func() { _, _ = near.Close(), far.Close() }, nil
	})
}
