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

func (able) Do(context.Context, string) error { return nil }
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
	if _, err := Guarded(fake{}).Open(t.Context(), Endpoint{Connect: flood}, Login{}, func(string, string) {}); !errors.As(err, &p) || p.Code != "greeting.too-much" {
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
