package route

import (
	"errors"
	"io"
	"net"
	"path/filepath"
	"testing"
	"time"

	"gentle-harbor/internal/route/routetest"
)

// deaf is a stream without deadlines, whose Close wakes no reader, as a channel of an SSH
// connection is.
type deaf struct{ net.Conn }

func (d deaf) CloseWrite() error                { return d.Conn.(*net.TCPConn).CloseWrite() }
func (d deaf) Close() error                     { return d.CloseWrite() }
func (d deaf) SetDeadline(time.Time) error      { return errors.New("no deadlines") }
func (d deaf) SetReadDeadline(time.Time) error  { return errors.New("no deadlines") }
func (d deaf) SetWriteDeadline(time.Time) error { return errors.New("no deadlines") }

// looped gives two ends of a connection over loopback.
func looped() (near, far *net.TCPConn, err error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, nil, err
	}
	defer listener.Close()
	dialled, err := net.Dial("tcp", listener.Addr().String())
	if err != nil {
		return nil, nil, err
	}
	accepted, err := routetest.Mate(dialled, listener)
	if err != nil {
		return nil, nil, err
	}
	return dialled.(*net.TCPConn), accepted.(*net.TCPConn), nil
}

// TestTimed holds a connection over a stream without deadlines to what connections promise.
func TestTimed(t *testing.T) {
	routetest.Conform(t, func() (net.Conn, net.Conn, func(), error) {
		near, far, err := looped()
		if err != nil {
			return nil, nil, nil, err
		}
		timed := NewTimed(deaf{near}, near.LocalAddr(), near.RemoteAddr())
		return timed, far, func() { _, _, _ = timed.Close(), near.Close(), far.Close() }, nil
	})
}

// stuck is a stream that takes nothing and gives nothing until it is closed.
type stuck struct{ closed chan struct{} }

func (s stuck) Read([]byte) (int, error)  { <-s.closed; return 0, io.EOF }
func (s stuck) Write([]byte) (int, error) { <-s.closed; return 0, io.ErrClosedPipe }
func (s stuck) CloseWrite() error         { return nil }
func (s stuck) Close() error              { close(s.closed); return nil }

// TestAStuckStream closes a connection whose stream takes nothing: it settles all the same, and
// its goroutines end.
func TestAStuckStream(t *testing.T) {
	conn := NewTimed(stuck{make(chan struct{})}, nil, nil)
	_, _ = conn.Write([]byte("never"))
	began := time.Now()
	_ = conn.Close()
	if took := time.Since(began); took > 2*time.Second {
		t.Errorf("Close took %s", took)
	}
	select {
	case <-conn.Settled():
	case <-time.After(4 * flushTime):
		t.Error("it does not settle")
	}
	<-conn.written
	for range conn.in { // it is closed when the goroutine that reads has ended
	}
}

// TestDirectConforms holds connections of this machine's own, to a port and to a socket, to what
// connections promise.
func TestDirectConforms(t *testing.T) {
	for _, network := range []string{"tcp", "unix"} {
		t.Run(network, func(t *testing.T) {
			address := "127.0.0.1:0"
			if network == "unix" {
				address = filepath.Join(t.TempDir(), "s")
			}
			listener, err := net.Listen(network, address)
			must(t, err)
			defer listener.Close()
			at := Address{Network: network, Host: address}
			if network == "tcp" {
				at.Host, at.Port = "127.0.0.1", listener.Addr().(*net.TCPAddr).Port
			}
			path, err := Route{Locator: At(at)}.Open(t.Context(), func(string, string) {})
			must(t, err)
			defer path.Close()
			routetest.Conform(t, func() (net.Conn, net.Conn, func(), error) {
				near, _, _, err := path.Connect(t.Context(), at)
				if err != nil {
					return nil, nil, nil, err
				}
				far, err := routetest.Mate(near, listener)
				if err != nil {
					return nil, nil, nil, err
				}
				return near, far, func() { _, _ = near.Close(), far.Close() }, nil
			})
		})
	}
}
