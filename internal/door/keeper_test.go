package door

import (
	"context"
	"errors"
	"iter"
	"net"
	"os"
	"slices"
	"sync"
	"testing"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/route/routetest"
)

// hop is a hop of a test's: it dials from here, and is lost when the test says so.
type hop struct{ lost chan struct{} }

func (h *hop) Through(context.Context, route.Dialer) (*route.Passed, error) {
	return &route.Passed{Dialer: &net.Dialer{}, Close: func() error { return nil }, Lost: h.lost, Saw: "a hop",
		Known: true}, nil
}

var quick = Pauses{First: time.Millisecond, Most: 10 * time.Millisecond, Patience: 10 * time.Second}

// TestKeeper has a route lost: it comes back by itself after what may pass, and waits for a
// person after a refused login.
func TestKeeper(t *testing.T) {
	port := routetest.Echo(t, "a")
	lost := make(chan struct{})
	way := func() *route.Path {
		path, err := route.Route{Hops: []route.Hop{&hop{lost}},
			Locator: route.At{Network: "tcp", Host: "127.0.0.1", Port: port}}.Open(t.Context(),
			func(string, string) {})
		must(t, err)
		return path
	}
	var mu sync.Mutex
	var states []State
	tries := 0
	answers := []error{&finding.Problem{Code: finding.TunnelRefused},
		&finding.Problem{Code: finding.TunnelDropped}, nil, &finding.Problem{Code: finding.TunnelLoginRefused}}
	k := Keep(t.Context(), way(), Keeping{Pauses: quick, Open: func(context.Context) (*route.Path, error) {
		mu.Lock()
		defer mu.Unlock()
		err := answers[min(tries, len(answers)-1)]
		if tries++; err != nil {
			return nil, err
		}
		return way(), nil
	}, Tell: func(s State, _ error) {
		mu.Lock()
		defer mu.Unlock()
		if len(states) == 0 || states[len(states)-1] != s {
			states = append(states, s)
		}
	}})
	defer k.Close()
	listener, err := ListenTCP(0)
	must(t, err)
	refused := make(chan error, 9)
	d := Serve(t.Context(), listener, Way{Keeper: k, Refuse: func(_ net.Conn, err error) { refused <- err }})
	defer d.Close(0)
	says := func() string {
		conn, err := net.Dial("tcp", d.Addr().String())
		must(t, err)
		defer conn.Close()
		_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
		word := make([]byte, 1)
		n, _ := conn.Read(word)
		return string(word[:n])
	}
	if says() != "a" {
		t.Error("the door leads nowhere")
	}
	ended := lost
	mu.Lock()
	lost = make(chan struct{})
	mu.Unlock()
	close(ended)
	if says() != "a" { // it waits for the route
		t.Error("the door does not come back")
	}
	close(lost)
	for range 200 {
		if s, _, _ := k.State(); s == NeedsYou {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	state, _, why := k.State()
	var p *finding.Problem
	if state != NeedsYou || !errors.As(why, &p) || p.Code != finding.TunnelLoginRefused {
		t.Errorf("%s: %v", state, why)
	}
	mu.Lock()
	before := tries
	mu.Unlock()
	if says() != "" {
		t.Error("there is an answer")
	}
	if err := <-refused; !errors.As(err, &p) || p.Code != finding.TunnelLoginRefused {
		t.Errorf("a client is told %v", err)
	}
	mu.Lock()
	defer mu.Unlock()
	if want := []State{Reconnecting, Open, Reconnecting, NeedsYou}; !slices.Equal(states, want) ||
		tries != before || tries != 4 {
		t.Errorf("%v after %d tries", states, tries)
	}
}

// TestOneAddress holds a door to the one address that has the role which is wanted, and passes
// over what is not found.
func TestOneAddress(t *testing.T) {
	first, second := routetest.Echo(t, "1"), routetest.Echo(t, "2")
	addresses := many{{Network: "tcp", Host: "127.0.0.1", Port: first}, {Network: "tcp", Host: "127.0.0.1", Port: second}}
	path, err := route.Route{Locator: addresses}.Open(t.Context(), func(string, string) {})
	must(t, err)
	for only, want := range map[string]string{"": "1", addresses[1].String(): "2"} {
		conn, err := dial(t.Context(), path, only)
		must(t, err)
		word := make([]byte, 1)
		_, _ = conn.Read(word)
		_ = conn.Close()
		if string(word) != want {
			t.Errorf("only %q leads to %s", only, word)
		}
	}
	if _, err := dial(t.Context(), path, "127.0.0.1:1"); err == nil {
		t.Error("another address is taken")
	}
}

// TestALaterLookCounts has two clients come together: the first is looked at before the server
// becomes another one and is done after the second has met that. What the first met is old, so
// the door stays as the second found it.
func TestALaterLookCounts(t *testing.T) {
	path, err := route.Route{Locator: route.At{Network: "tcp", Host: "127.0.0.1",
		Port: routetest.Echo(t, "a")}}.Open(t.Context(), func(string, string) {})
	must(t, err)
	another := &Lasting{Err: &finding.Problem{Code: finding.ContainerChanged}}
	for _, c := range []struct {
		name         string
		early, later error
		want         State
	}{{"old good, new bad", nil, another, NeedsYou}, {"old bad, new good", another, nil, Open}} {
		begun, first := make(chan struct{}), make(chan struct{})
		looks := 0
		k := Keep(t.Context(), path, Keeping{Pauses: quick,
			Same: func(context.Context, *route.Path, route.Connected, bool) error {
				if looks++; looks > 1 {
					return c.later
				}
				close(begun)
				<-first
				return c.early
			}})
		enter := func() {
			if conn, err := k.Dial(t.Context()); err == nil {
				_ = conn.Close()
			}
		}
		ended := make(chan struct{})
		go func() { enter(); close(ended) }()
		<-begun
		enter()
		close(first)
		<-ended
		if state, _, _ := k.State(); state != c.want {
			t.Errorf("%s: %s", c.name, state)
		}
	}
}

// silentFirst is a name that is never found, and then an address.
type silentFirst struct{ many }

func (silentFirst) Legs() []string { return nil }

func (l silentFirst) Locate(ctx context.Context, via route.Dialer, note route.Note) iter.Seq2[route.Address, error] {
	return func(yield func(route.Address, error) bool) {
		<-ctx.Done()
		if !yield(route.Address{}, &finding.Problem{Code: finding.NameSilent}) || ctx.Err() != nil {
			return
		}
		l.many.Locate(ctx, via, note)(yield)
	}
}

// TestASilentNameOfADoor has a door pass over a name that is looked up without an answer: the
// address after it has its time.
func TestASilentNameOfADoor(t *testing.T) {
	at := routetest.Echo(t, "1")
	path, err := route.Route{Locator: silentFirst{many{{Network: "tcp", Host: "127.0.0.1",
		Port: at}}}}.Open(t.Context(), func(string, string) {})
	must(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 6*time.Second)
	defer cancel()
	conn, err := dial(ctx, path, "")
	must(t, err)
	_ = conn.Close()
}

// TestControl asks a process with doors how they are, has it release one, and takes away what a
// killed one left.
func TestControl(t *testing.T) {
	folder := t.TempDir()
	released := make(chan string, 1)
	h, err := NewHost(t.Context(), folder, func() []Record { return []Record{{Profile: "p", State: Open}} },
		func(name string) { released <- name })
	must(t, err)
	list, err := List(t.Context(), folder)
	if err != nil || len(list) != 1 || list[0].Profile != "p" {
		t.Errorf("%+v %v", list, err)
	}
	if n, err := Release(t.Context(), folder, "p"); err != nil || n != 1 || <-released != "p" {
		t.Errorf("%d %v", n, err)
	}
	// Killed: the listener is gone, and its files are still there.
	_ = h.listener.Close()
	if list, err := List(t.Context(), folder); err != nil || len(list) != 1 || list[0].State != Gone {
		t.Errorf("%+v %v", list, err)
	}
	if list, err := List(t.Context(), folder); err != nil || len(list) != 0 {
		t.Errorf("%+v %v", list, err)
	}
}

// TestADoorThatDoesNotAnswer has a process that listens and says nothing: its door is shown as
// silent, and its record stays.
func TestADoorThatDoesNotAnswer(t *testing.T) {
	folder := t.TempDir()
	h, err := NewHost(t.Context(), folder, func() []Record { return []Record{{Profile: "p", State: Open}} },
		func(string) {})
	must(t, err)
	_ = h.listener.Close()
	must(t, os.Remove(h.path(".ask")))
	silent, err := net.Listen("unix", h.path(".ask")) // it accepts, and nobody reads
	must(t, err)
	defer silent.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	for range 2 {
		if list, err := List(ctx, folder); err != nil || len(list) != 1 || list[0].State != Silent {
			t.Errorf("%+v %v", list, err)
		}
	}
	if n, err := Release(ctx, folder, "p"); n != 0 || err == nil {
		t.Errorf("%d ended, %v", n, err)
	}
	if _, err := os.Stat(h.path(".json")); err != nil {
		t.Errorf("its record is gone: %v", err)
	}
}

// many are several addresses, before which one is not found.
type many []route.Address

func (many) Legs() []string { return nil }

func (m many) Locate(context.Context, route.Dialer, route.Note) iter.Seq2[route.Address, error] {
	return func(yield func(route.Address, error) bool) {
		if !yield(route.Address{}, &finding.Problem{Code: finding.NameNotFound}) {
			return
		}
		for _, each := range m {
			if !yield(each, nil) {
				return
			}
		}
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
