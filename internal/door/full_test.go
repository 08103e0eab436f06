package door

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"sync"
	"testing"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/route/routetest"
)

// slowUsher lets in who says a byte.
type slowUsher struct{}

func (slowUsher) Usher(ctx context.Context, client net.Conn, at engine.Threshold) (*engine.Led, error) {
	if _, err := io.ReadFull(client, make([]byte, 1)); err != nil {
		return nil, engine.ErrAway
	}
	line, _, err := at.Connect(ctx)
	if err != nil {
		return nil, err
	}
	return &engine.Led{Server: line.Conn, Leave: func() {}}, nil
}

// toEcho gives what keeps the way of a door to a server that echoes, and the door's listener.
func toEcho(t *testing.T) (*Keeper, net.Listener) {
	t.Helper()
	port := routetest.Echo(t, "a")
	path, err := route.Route{Locator: route.At{Network: "tcp", Host: "127.0.0.1", Port: port}}.Open(t.Context(),
		func(string, string) {})
	must(t, err)
	k := Keep(t.Context(), path, Keeping{Pauses: quick})
	t.Cleanup(k.Close)
	listener, err := ListenTCP(0)
	must(t, err)
	return k, listener
}

// TestAFullDoor fills a door: a client that is not let in yet makes room once its time is over,
// one that is let in never; who finds no room is told so; and an account that is not this one has
// a quarter of the places.
func TestAFullDoor(t *testing.T) {
	k, listener := toEcho(t)
	told := make(chan error, 99)
	var mu sync.Mutex
	strange := false
	whose := map[string]int{}
	d := Serve(t.Context(), listener, Way{
		Keeper: k, Usher: slowUsher{},
		Limits: Limits{Clients: 8, Login: 50 * time.Millisecond, Step: time.Second},
		Tell:   func(err error) { told <- err },
		Line:   func(c route.Connected) (engine.Line, error) { return engine.Line{}, nil },
		Account: func(conn net.Conn) (int, bool) {
			mu.Lock()
			defer mu.Unlock()
			name := conn.RemoteAddr().String()
			if _, known := whose[name]; !known {
				if whose[name] = os.Geteuid(); strange {
					whose[name]++
				}
			}
			return whose[name], true
		},
	})
	defer d.Close(0)
	call := func() net.Conn {
		conn, err := net.Dial("tcp", d.Addr().String())
		must(t, err)
		t.Cleanup(func() { _ = conn.Close() })
		return conn
	}
	let := func(conn net.Conn) error {
		_, _ = conn.Write([]byte("x"))
		_ = conn.SetReadDeadline(time.Now().Add(5 * time.Second))
		_, err := io.ReadFull(conn, make([]byte, 1))
		return err
	}
	var in []net.Conn
	for range 7 {
		conn := call()
		must(t, let(conn))
		in = append(in, conn)
	}
	waits := call() // the eighth, which says nothing
	for d.Connections() < 8 {
		time.Sleep(time.Millisecond)
	}
	var full *FullError
	if err := let(call()); err == nil {
		t.Error("there is a ninth place")
	}
	if err := <-told; !errors.As(err, &full) || full.Account || full.Clients != 8 {
		t.Errorf("it is told %v", err)
	}
	time.Sleep(60 * time.Millisecond) // the eighth has had its time
	if err := let(call()); err != nil {
		t.Errorf("nobody makes room: %v", err)
	}
	_ = waits.SetReadDeadline(time.Now().Add(5 * time.Second))
	if _, err := waits.Read(make([]byte, 1)); !errors.Is(err, io.EOF) {
		t.Errorf("the slow one: %v", err)
	}
	for _, conn := range in[:6] {
		_ = conn.Close()
	}
	for d.Connections() > 2 {
		time.Sleep(time.Millisecond)
	}
	// Whoever calls now is another account's: it has two of the eight places.
	mu.Lock()
	strange = true
	mu.Unlock()
	for n := range 3 {
		if err := let(call()); (err == nil) != (n < 2) {
			t.Errorf("call %d of another account: %v", n+1, err)
		}
	}
	if err := <-told; !errors.As(err, &full) || !full.Account {
		t.Errorf("it is told %v", err)
	}
}

// TestWhoCalls holds that the system shows whose a client of a port is.
func TestWhoCalls(t *testing.T) {
	l, err := ListenTCP(0)
	must(t, err)
	defer l.Close()
	client, err := net.Dial("tcp", l.Addr().String())
	must(t, err)
	defer client.Close()
	conn, err := l.Accept()
	must(t, err)
	defer conn.Close()
	if account, known := Account(conn); known && account != os.Geteuid() {
		t.Errorf("account %d", account)
	}
}

// TestAFloodOfRefused has a full door refuse one client that does not listen: the next ones are
// closed immediately, and one is told again when that is over.
func TestAFloodOfRefused(t *testing.T) {
	k, listener := toEcho(t)
	telling, goOn := make(chan bool), make(chan bool)
	d := Serve(t.Context(), listener,
		Way{Keeper: k, Limits: Limits{Clients: 1, Login: time.Hour, Refused: 1},
			Refuse: func(net.Conn, error) { telling <- true; <-goOn }})
	defer d.Close(0)
	call := func() net.Conn {
		conn, err := net.Dial("tcp", d.Addr().String())
		must(t, err)
		t.Cleanup(func() { _ = conn.Close() })
		_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
		return conn
	}
	_ = call()
	for d.Connections() < 1 {
		time.Sleep(time.Millisecond)
	}
	_ = call()
	<-telling
	for range 50 {
		if _, err := call().Read(make([]byte, 1)); err == nil || errors.Is(err, os.ErrDeadlineExceeded) {
			t.Fatalf("a further one waits: %v", err)
		}
	}
	goOn <- true
	for told := false; !told; {
		conn := call()
		ended := make(chan bool)
		go func() { _, _ = conn.Read(make([]byte, 1)); close(ended) }()
		select {
		case told = <-telling:
			goOn <- true
		case <-ended: // the one before was not gone yet
		}
	}
}
