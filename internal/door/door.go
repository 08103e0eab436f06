package door

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/route"
)

// Limits of a door. The zero value stands for [Usual].
type Limits struct {
	Clients int           // at the same time
	Login   time.Duration // after which a client that is not let in yet makes room for another one, where the door is full
	Step    time.Duration // for each step of a server's in a login
	// Bounded says that there would be room for more clients if this process might open more files.
	Bounded bool
	// clients that are told at the same time that there is no place; further ones are closed
	// without a word, 0 for 64
	Refused int
}

// Usual are the limits of doors.
var Usual = Limits{Clients: 1000, Login: time.Minute, Step: 30 * time.Second}

// A client takes two connections, and on Linux two pipes through which the system passes what it
// sends. Other files need some too.
const (
	perClient = 6
	forOthers = 100
)

// LimitsOf gives the limits of each of several doors of a process that may have a number of files
// open.
func LimitsOf(doors, descriptors int) Limits {
	limits := Usual
	if room := max((descriptors-forOthers)/perClient/max(doors, 1), 1); room < limits.Clients {
		limits.Clients, limits.Bounded = room, true
	}
	return limits
}

// Way is how a door leads clients to the server.
type Way struct {
	// Keeper connects.
	Keeper *Keeper
	// Line says what may be sent over a connection, and how it is to be encrypted.
	Line func(c route.Connected) (engine.Line, error)
	// Usher follows each login; nil for a door that passes bytes from the first one on.
	Usher engine.Usher
	// Login has the login methods that are accepted. Encrypts says that lines are encrypted.
	Login    engine.Login
	Encrypts bool
	// Refuse answers a client that cannot be led to the server, in the form of its engine. It may
	// be nil.
	Refuse func(conn net.Conn, err error)
	// Word says in a clean sentence why a client is not led on; Tell is told of it, for whoever
	// holds the door. Tell may be nil.
	Word func(err error) string
	Tell func(err error)
	// Account says whose a client is; nil where the system does not show it.
	Account func(conn net.Conn) (account int, known bool)
	Limits  Limits
}

// Door is a local listener that leads clients to a server.
type Door struct {
	way      Way
	listener net.Listener
	mu       sync.Mutex
	clients  map[*caller]bool
	closed   bool
	refusing chan struct{} // has one for each client that is being told that there is no place
	keys     engine.Keys
	done     sync.WaitGroup
	ctx      context.Context
	cancel   context.CancelFunc
	expected sync.Map // addresses from which this program itself calls, each with a chan met
}

// caller is a client, and its server once it has one.
type caller struct {
	client  net.Conn
	server  net.Conn
	since   time.Time
	in      bool        // its login is done
	said    atomic.Bool // it has ended its side
	account int
}

func (c *caller) close() {
	_ = c.client.Close()
	if c.server != nil {
		_ = c.server.Close()
	}
}

// ListenTCP listens on 127.0.0.1; port 0 takes any free one.
func ListenTCP(port int) (net.Listener, error) {
	return net.ListenTCP("tcp4", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: port})
}

// ListenSocket listens on a Unix socket of a name in a folder, which is made for this user alone.
func ListenSocket(folder, name string) (net.Listener, error) {
	if err := files.Settle(folder); err != nil {
		return nil, err
	}
	if err := os.Chmod(folder, 0o700); err != nil {
		return nil, err
	}
	return net.ListenUnix("unix", &net.UnixAddr{Name: filepath.Join(folder, name), Net: "unix"})
}

// Serve leads what comes to a listener to a server, until Close.
func Serve(ctx context.Context, listener net.Listener, way Way) *Door {
	if way.Limits == (Limits{}) {
		way.Limits = Usual
	}
	if way.Limits.Refused == 0 {
		way.Limits.Refused = 64
	}
	d := &Door{way: way, listener: listener, clients: map[*caller]bool{},
		refusing: make(chan struct{}, way.Limits.Refused)}
	d.ctx, d.cancel = context.WithCancel(ctx)
	d.done.Add(1)
	go d.accept()
	return d
}

// Addr gives where the door is.
func (d *Door) Addr() net.Addr { return d.listener.Addr() }

// Connections gives how many connections are led now.
func (d *Door) Connections() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.clients)
}

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
		c := &caller{client: conn, since: time.Now(), account: -1}
		if err := d.admit(c); err != nil {
			select {
			case d.refusing <- struct{}{}:
				d.done.Add(1)
				go func() { defer d.done.Done(); defer conn.Close(); d.refuse(conn, err); <-d.refusing }()
			default:
				_ = conn.Close() // a flood takes no descriptors from those who are in
			}
			continue
		}
		d.done.Add(1)
		go func() {
			defer d.done.Done()
			defer d.forget(c)
			d.lead(c)
		}()
	}
}

// errClosed is for clients that come while the door closes.
var errClosed = errors.New("the door is closed")

// FullError says that a door has no room for a client.
type FullError struct {
	Clients int
	// Account says that the client's account has its share of the places; the others are for
	// other accounts.
	Account bool
	// Bounded is that of the door's [Limits].
	Bounded bool
}

// Error says it in a sentence.
func (f *FullError) Error() string {
	if f.Account {
		return fmt.Sprintf("the door has %d clients, and the others are reserved for other accounts of this machine",
			f.Clients)
	}
	if f.Bounded {
		return fmt.Sprintf("the door is full: it has %d clients, and may not open more files (ulimit -n says "+
			"how many it may)",
			f.Clients)
	}
	return fmt.Sprintf("the door is full: it has %d clients", f.Clients)
}

// admit gives a client a place. Where the system shows whose clients are, an account other than
// that of this process has a quarter of the places at most; in a full door, the client that has
// waited longest with its login makes room.
func (d *Door) admit(c *caller) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.closed {
		return errClosed
	}
	limits := d.way.Limits
	if d.way.Account != nil && len(d.clients) >= limits.Clients/4 {
		if account, known := d.way.Account(c.client); known && account != os.Geteuid() {
			c.account = account
			same := 0
			for each := range d.clients {
				if each.account < 0 {
					each.account, known = d.way.Account(each.client)
					if !known {
						each.account = os.Geteuid() // nobody is shut out for another's sake
					}
				}
				if each.account == account {
					same++
				}
			}
			if same >= limits.Clients/4 {
				return &FullError{len(d.clients), true, limits.Bounded}
			}
		}
	}
	if len(d.clients) >= limits.Clients {
		var slowest *caller
		for each := range d.clients {
			if !each.in && time.Since(each.since) >= limits.Login && (slowest == nil || each.since.Before(slowest.since)) {
				slowest = each
			}
		}
		if slowest == nil {
			return &FullError{len(d.clients), false, limits.Bounded}
		}
		slowest.close()
		delete(d.clients, slowest)
	}
	d.clients[c] = true
	return nil
}

func (d *Door) forget(c *caller) {
	d.mu.Lock()
	defer d.mu.Unlock()
	c.close()
	delete(d.clients, c)
}

// has notes the connection of a client's that is on the server's side, so that it ends with the
// door; false when it has ended already.
func (d *Door) has(c *caller, server net.Conn, in bool) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.clients[c] {
		_ = server.Close()
		return false
	}
	if c.in = in; c.server == nil {
		c.server = server // below any encryption, whose end could be waited for
	}
	return true
}

// refuse says to a client in its engine's form why it is not led on, and whoever holds the door
// too.
func (d *Door) refuse(client net.Conn, err error) {
	if d.ctx.Err() != nil || errors.Is(err, engine.ErrAway) {
		return
	}
	if d.way.Tell != nil {
		d.way.Tell(err)
	}
	if d.way.Refuse != nil {
		_ = client.SetDeadline(time.Now().Add(2 * time.Second))
		d.way.Refuse(client, err)
	}
}

// lead connects a client to the server, and copies both ways until both are done.
func (d *Door) lead(c *caller) {
	connect := sync.OnceValues(func() (route.Connected, error) {
		conn, err := d.way.Keeper.Dial(d.ctx)
		if err == nil && !d.has(c, conn.Conn, d.way.Usher == nil) {
			return conn, net.ErrClosed
		}
		return conn, err
	})
	// This program itself calls to test the way: it is told first what was met there.
	told, ours := d.expected.Load(c.client.RemoteAddr().String())
	var mine *call
	if ours {
		mine = told.(*call)
		conn, err := connect()
		mine.meet(conn.Met, err)
	}
	if d.way.Usher == nil {
		conn, err := connect()
		if err != nil {
			d.refuse(c.client, err)
			return
		}
		d.copy(c, &engine.Led{Server: conn.Conn})
		return
	}
	led, err := d.way.Usher.Usher(d.ctx, c.client, engine.Threshold{
		Connect: func(context.Context) (engine.Line, route.Address, error) {
			conn, err := connect()
			if err != nil {
				return engine.Line{}, conn.At, err
			}
			line, err := d.way.Line(conn)
			line.Conn = conn.Conn
			return line, conn.At, err
		},
		Back: func(ctx context.Context, at route.Address) (engine.Line, error) {
			conn, err := d.way.Keeper.DialAt(ctx, at)
			if err != nil {
				return engine.Line{}, err
			}
			if !d.has(c, conn.Conn, false) {
				return engine.Line{}, net.ErrClosed
			}
			line, err := d.way.Line(conn)
			line.Conn = conn.Conn
			return line, err
		},
		Keys: &d.keys, Login: d.way.Login, Encrypts: d.way.Encrypts, Word: d.way.Word, Patience: d.way.Limits.Step,
	})
	if err != nil {
		if !errors.Is(err, engine.ErrAway) && d.way.Tell != nil && d.ctx.Err() == nil {
			d.way.Tell(err) // the client was told
		}
		return
	}
	defer led.Leave()
	if !d.has(c, led.Server, true) {
		return
	}
	if mine != nil {
		mine.led.Store(led)
	}
	d.copy(c, led)
}

// copy passes bytes both ways until both are done.
func (d *Door) copy(c *caller, led *engine.Led) {
	d.way.Keeper.Live(1)
	unseen := sync.OnceFunc(func() { d.way.Keeper.Live(-1) }) // once either side has ended
	defer unseen()
	ended := make(chan bool, 2)
	oneWay := func(to, from net.Conn, early []byte) {
		if len(early) > 0 {
			if _, err := to.Write(early); err != nil {
				ended <- false
				return
			}
		}
		_, err := io.Copy(to, from)
		if from == led.Server && !c.said.Load() {
			d.way.Keeper.Doubt() // it ended before its client did
		}
		if from == c.client {
			c.said.Store(true)
		}
		unseen()
		ended <- err == nil && closeWrite(to) == nil
	}
	go oneWay(led.Server, c.client, led.ToServer)
	go oneWay(c.client, led.Server, led.ToClient)
	if clean := <-ended; clean { // one side is done with sending; the other may still have something to say
		<-ended
		return
	}
	c.close()
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
	for end := time.Now().Add(drain); d.Connections() > 0 && time.Now().Before(end); {
		time.Sleep(10 * time.Millisecond)
	}
	d.cancel()
	d.mu.Lock()
	d.closed = true
	for c := range d.clients {
		c.close()
		delete(d.clients, c)
	}
	d.mu.Unlock()
	d.done.Wait()
}
