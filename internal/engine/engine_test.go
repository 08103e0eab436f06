package engine

import (
	"context"
	"errors"
	"net"
	"testing"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
)

// plain is a session with nothing optional; able has all.
type plain struct{ fails error }

func (p plain) Ask(context.Context) error          { return p.fails }
func (plain) Facts(context.Context) (Facts, error) { panic("bytes that no server sends") }
func (plain) Close()                               {}

type able struct{ plain }

func (able) Do(context.Context, Statement) error                       { return nil }
func (able) Together(_ context.Context, _ bool, do func() error) error { return do() }

func (able) Run(context.Context, Statement, Rows) (Summary, error) {
	return Summary{Rows: 7}, nil
}
func (able) Databases(context.Context) ([]Database, error)              { return []Database{{Name: "x"}}, nil }
func (able) Visible(context.Context, []string) (map[string]bool, error) { return nil, nil }
func (able) May(context.Context, string, string) (*bool, error)         { return nil, nil }

type fake struct{ session Session }

func (fake) Info() Info                     { return Info{Name: "fake"} }
func (fake) Identify([]byte) (Answer, bool) { return Answer{}, false }
func (fake) Advice(Subject) Advice          { return Advice{} }
func (f fake) Open(ctx context.Context, end Endpoint, _ Login, _ Watch) (Session, error) {
	line, err := end.Connect(ctx, end.At)
	if err != nil {
		return nil, err
	}
	if f.session == nil {
		for buffer := make([]byte, 1<<16); ; {
			if _, err := line.Read(buffer); err != nil {
				return nil, err
			}
		}
	}
	return f.session, nil
}

// TestAsShowsThroughWrappers finds what a session can do, and what it cannot, through the guard.
func TestAsShowsThroughWrappers(t *testing.T) {
	end := Endpoint{Connect: func(context.Context, route.Address) (Line, error) {
		client, server := net.Pipe()
		_ = server.Close()
		return Line{Conn: client}, nil
	}}
	for _, c := range []struct {
		session Session
		can     bool
	}{{able{}, true}, {plain{}, false}} {
		s, err := Guarded(fake{c.session}).Open(t.Context(), end, Login{}, nil)
		if err != nil {
			t.Fatal(err)
		}
		runner, runs := As[Runner](s)
		lister, lists := As[Lister](s)
		_, rights := As[Rights](s)
		if runs != c.can || lists != c.can || rights != c.can {
			t.Errorf("%T: %v %v %v", c.session, runs, lists, rights)
		}
		if c.can {
			summary, err := runner.Run(t.Context(), Statement{}, nil)
			list, err2 := lister.Databases(t.Context())
			if errors.Join(err, err2) != nil || summary.Rows != 7 || len(list) != 1 {
				t.Errorf("%v %v", summary, list)
			}
		} else if _, err := s.(Runner).Run(t.Context(), Statement{}, nil); err == nil {
			t.Error("what it cannot do is done")
		}
	}
}

// TestGuard makes a panic a finding, and ends a server that does not stop.
func TestGuard(t *testing.T) {
	flood := func(context.Context, route.Address) (Line, error) {
		client, server := net.Pipe()
		go func() {
			defer server.Close()
			for block := make([]byte, 1<<16); ; {
				if _, err := server.Write(block); err != nil {
					return
				}
			}
		}()
		return Line{Conn: client}, nil
	}
	var p *finding.Problem
	if _, err := Guarded(fake{}).Open(t.Context(), Endpoint{Connect: flood}, Login{},
		func(string, string) {}); !errors.As(err, &p) || p.Code != "greeting.too-much" {
		t.Errorf("%v", err)
	}
	s, err := Guarded(fake{plain{}}).Open(t.Context(), Endpoint{Connect: flood}, Login{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Facts(t.Context()); !errors.As(err, &p) || p.Code != "greeting.malformed" {
		t.Errorf("%v", err)
	}
}

// twoLines is an engine that opens a second connection in one login, and reads from it.
type twoLines struct {
	fake
	first *Line
}

func (f twoLines) Open(ctx context.Context, end Endpoint, _ Login, _ Watch) (Session, error) {
	var err error
	if *f.first, err = end.Connect(ctx, end.At); err != nil {
		return nil, err
	}
	second, err := end.Connect(ctx, end.At)
	for buffer := make([]byte, 1<<16); err == nil; {
		_, err = second.Read(buffer)
	}
	return nil, err
}

// TestGuardHoldsSeveralConnections has an engine open two connections in one login: what both
// read counts together, and both are ended when it is too much.
func TestGuardHoldsSeveralConnections(t *testing.T) {
	asked := 0
	closed := make(chan bool, 1)
	connect := func(context.Context, route.Address) (Line, error) {
		client, server := net.Pipe()
		asked++
		if asked == 1 { // the server waits for its client
			go func() {
				_, err := server.Read(make([]byte, 1))
				closed <- err != nil
			}()
			return Line{Conn: client}, nil
		}
		go func() {
			for block := make([]byte, 1<<16); ; {
				if _, err := server.Write(block); err != nil {
					return
				}
			}
		}()
		return Line{Conn: client}, nil
	}
	var first Line
	var p *finding.Problem
	if _, err := Guarded(twoLines{first: &first}).Open(t.Context(), Endpoint{Connect: connect}, Login{},
		func(string, string) {}); !errors.As(err, &p) || p.Code != "greeting.too-much" || asked != 2 {
		t.Errorf("%v after %d connections", err, asked)
	}
	if !<-closed {
		t.Error("the first connection is still open")
	}
	if n, err := first.Read(make([]byte, 1)); n != 0 || err == nil {
		t.Errorf("%d, %v: the first reads on what the second has used up", n, err)
	}
}
