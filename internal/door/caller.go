package door

import (
	"context"
	"crypto/rand"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
)

// Caller calls a door from this program itself, to test it. It implements [route.Dialer].
type Caller struct {
	door *Door
	last atomic.Pointer[call]
}

// Call gives what calls the door.
func (d *Door) Call() *Caller { return &Caller{door: d} }

// DialContext connects to the door, no matter which address it is given, and waits until the door
// has connected to the server. Its error is what kept the door from that.
func (c *Caller) DialContext(ctx context.Context, _, _ string) (net.Conn, error) {
	addr := c.door.Addr()
	made := &call{done: make(chan struct{}), gone: func() {}}
	var dialer net.Dialer
	if addr.Network() == "unix" {
		// A name of its own, beside the door's, by which the door knows it.
		name := filepath.Join(filepath.Dir(addr.String()), "t"+rand.Text()[:8])
		dialer.LocalAddr = &net.UnixAddr{Name: name, Net: "unix"}
		c.door.expected.Store(name, made)
		made.gone = sync.OnceFunc(func() { c.door.expected.Delete(name); _ = os.Remove(name) })
	} else {
		// The port is taken before the door can see it.
		taken, err := net.ListenTCP("tcp4", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)})
		if err != nil {
			return nil, err
		}
		name := taken.Addr().String()
		_ = taken.Close()
		dialer.LocalAddr, _ = net.ResolveTCPAddr("tcp4", name)
		c.door.expected.Store(name, made)
		made.gone = func() { c.door.expected.Delete(name) }
	}
	conn, err := dialer.DialContext(ctx, addr.Network(), addr.String())
	if err != nil {
		made.gone()
		return nil, err
	}
	made.Conn = conn
	select {
	case <-made.done:
	case <-ctx.Done():
		_ = made.Close()
		return nil, ctx.Err()
	}
	if made.err != nil {
		_ = made.Close()
		return nil, made.err
	}
	c.last.Store(made)
	return made, nil
}

// Encrypted says how the door encrypts the last connection that was let in, and what certificate
// it met; "" for not at all.
func (c *Caller) Encrypted() (saw, certificate string) {
	last := c.last.Load()
	if last == nil {
		return "", ""
	}
	if led := last.led.Load(); led != nil {
		return led.Saw, led.Certificate
	}
	return "", ""
}
