package door

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"
)

// maxConnections is how many connections a door passes at the same time.
const maxConnections = 1000

// Door is a local listener that passes bytes to a server and back.
type Door struct {
	// Refuse answers a client that cannot be let through, in the form of its engine. It may be nil.
	Refuse func(conn net.Conn, problem error)

	keeper   *Keeper
	listener net.Listener
	mu       sync.Mutex
	conns    map[net.Conn]bool
	open     atomic.Int64
	done     sync.WaitGroup
	ctx      context.Context
	cancel   context.CancelFunc
}

// ListenTCP listens on 127.0.0.1; port 0 takes any free one.
func ListenTCP(port int) (net.Listener, error) {
	return net.ListenTCP("tcp4", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: port})
}

// ListenSocket listens on a Unix socket of a name in a folder, which is made for this user alone.
func ListenSocket(folder, name string) (net.Listener, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	if err := os.Chmod(folder, 0o700); err != nil {
		return nil, err
	}
	return net.ListenUnix("unix", &net.UnixAddr{Name: filepath.Join(folder, name), Net: "unix"})
}

// Serve passes what comes to a listener on over a route, until Close.
func Serve(ctx context.Context, keeper *Keeper, listener net.Listener, refuse func(net.Conn, error)) *Door {
	d := &Door{Refuse: refuse, keeper: keeper, listener: listener, conns: map[net.Conn]bool{}}
	d.ctx, d.cancel = context.WithCancel(ctx)
	d.done.Add(1)
	go d.accept()
	return d
}

// Addr gives where the door is.
func (d *Door) Addr() net.Addr { return d.listener.Addr() }

// Connections gives how many connections are passed now.
func (d *Door) Connections() int { return int(d.open.Load()) }

func (d *Door) accept() {
	defer d.done.Done()
	for {
		conn, err := d.listener.Accept()
		if err != nil {
			if errors.Is(err, net.ErrClosed) || d.ctx.Err() != nil {
				return
			}
			time.Sleep(50 * time.Millisecond) // no descriptors are left, say
			continue
		}
		if d.open.Load() >= maxConnections {
			_ = conn.Close()
			continue
		}
		d.open.Add(1)
		d.done.Add(1)
		go func() {
			defer d.done.Done()
			defer d.open.Add(-1)
			d.pass(conn)
		}()
	}
}

// hold notes a connection, so that it is closed with the door; false when the door is closed already.
func (d *Door) hold(conn net.Conn) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.conns == nil {
		_ = conn.Close()
		return false
	}
	d.conns[conn] = true
	return true
}

func (d *Door) drop(conn net.Conn) {
	_ = conn.Close()
	d.mu.Lock()
	delete(d.conns, conn)
	d.mu.Unlock()
}

// pass connects a client to the server, and copies both ways until both are done.
func (d *Door) pass(client net.Conn) {
	if !d.hold(client) {
		return
	}
	defer d.drop(client)
	server, err := d.keeper.Dial(d.ctx)
	if err != nil {
		if d.Refuse != nil && d.ctx.Err() == nil {
			_ = client.SetDeadline(time.Now().Add(2 * time.Second))
			d.Refuse(client, err)
		}
		return
	}
	if !d.hold(server) {
		return
	}
	defer d.drop(server)
	ended := make(chan bool, 2)
	oneWay := func(to, from net.Conn) {
		_, err := io.Copy(to, from)
		ended <- err == nil && closeWrite(to) == nil
	}
	go oneWay(server, client)
	go oneWay(client, server)
	if clean := <-ended; clean { // one side is done with sending; the other may still have something to say
		<-ended
		return
	}
	d.drop(client)
	d.drop(server)
	<-ended
}

// closeWrite says that nothing more comes, where the connection can say that.
func closeWrite(conn net.Conn) error {
	if half, ok := conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return conn.Close()
}

// Close takes no more connections, gives those that are open a moment to end, and ends them.
func (d *Door) Close(drain time.Duration) {
	_ = d.listener.Close()
	for end := time.Now().Add(drain); d.open.Load() > 0 && time.Now().Before(end); {
		time.Sleep(10 * time.Millisecond)
	}
	d.cancel()
	d.mu.Lock()
	conns := d.conns
	d.conns = nil
	d.mu.Unlock()
	for conn := range conns {
		_ = conn.Close()
	}
	d.done.Wait()
}
