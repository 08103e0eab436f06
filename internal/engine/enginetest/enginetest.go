// Package enginetest has what tests of engines share: connections whose other end misbehaves.
package enginetest

import (
	"context"
	"errors"
	"io"
	"net"
	"runtime"
	"sync"
	"testing"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
)

// Canary is the password that no rogue may see.
const Canary = "canary-5b2f-Secret"

// Pair gives both ends of a connection on this machine.
func Pair(t testing.TB) (client, server net.Conn) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	accepted := make(chan net.Conn, 1)
	go func() {
		conn, _ := listener.Accept()
		accepted <- conn
	}()
	if client, err = net.Dial("tcp", listener.Addr().String()); err != nil {
		t.Fatal(err)
	}
	return client, <-accepted
}

// On is an endpoint that is connected to already.
func On(conn net.Conn, line engine.Line) engine.Endpoint {
	return engine.Endpoint{Connect: func(context.Context, route.Address) (engine.Line, error) {
		line.Conn = conn
		return line, nil
	}}
}

// Given gives a line over which the canary may go, as far as the line says.
func Given(line engine.Line) engine.Line {
	line.Given = true
	line.Secret = func(string) secret.Secret { return secret.New(Canary) }
	return line
}

// Scripted is a connection whose other end has said all that it says. It keeps what was sent to it.
type Scripted struct {
	net.Conn
	Data, Sent []byte

	mu sync.Mutex // a driver closes in the background
}

// Read gives the rest of Data.
func (s *Scripted) Read(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.Data) == 0 {
		return 0, io.EOF
	}
	n := copy(p, s.Data)
	s.Data = s.Data[n:]
	return n, nil
}

// Write keeps p.
func (s *Scripted) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Sent = append(s.Sent, p...)
	return len(p), nil
}

// Close does nothing.
func (*Scripted) Close() error { return nil }

// LocalAddr gives no address.
func (*Scripted) LocalAddr() net.Addr { return &net.TCPAddr{} }

// RemoteAddr gives no address.
func (*Scripted) RemoteAddr() net.Addr { return &net.TCPAddr{} }

// SetDeadline does nothing: a scripted connection never waits.
func (*Scripted) SetDeadline(time.Time) error { return nil }

// SetReadDeadline does nothing.
func (*Scripted) SetReadDeadline(time.Time) error { return nil }

// SetWriteDeadline does nothing.
func (*Scripted) SetWriteDeadline(time.Time) error { return nil }

// Drive has an engine log in to a server whose bytes are given, and ask what it asks. It fails
// the test for a panic, an error that is no finding, a wait, and memory without a bound; it gives
// what was sent.
func Drive(t *testing.T, e engine.Engine, data []byte) []byte {
	t.Helper()
	conn := &Scripted{Data: data}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	began := time.Now()
	login := engine.Login{User: "warden_app", Database: "bunkhouse"}
	session, err := engine.Guarded(e).Open(t.Context(), On(conn, Given(engine.Line{Unverified: true})), login,
		func(string, string) {})
	if err == nil {
		_ = session.Ask(t.Context())
		_, _ = session.Facts(t.Context())
		if lister, can := engine.As[engine.Lister](session); can {
			_, _ = lister.Databases(t.Context())
		}
		if runner, can := engine.As[engine.Runner](session); can {
			out := &counted{}
			for _, values := range [][]engine.Value{nil, {{Name: "v", Kind: engine.Decimal, Text: "1.5"}}} {
				_, _ = runner.Run(t.Context(), engine.Statement{Text: "select 1", Values: values, Heard: out.heard}, out)
			}
			if out.notices > 2*engine.MostNotices {
				t.Errorf("%d notices were handed on", out.notices)
			}
		}
		if surveyor, can := engine.As[engine.Surveyor](session); can {
			_, _ = surveyor.Table(t.Context(), "hut")
			for _, list := range []engine.List{engine.ListDatabases, engine.ListTables, engine.ListColumns,
				engine.ListUsers, engine.ListRights, engine.ListSettings, engine.ListSessions} {
				_, _ = surveyor.Survey(t.Context(), list, engine.Scope{}, &counted{})
			}
		}
		if examiner, can := engine.As[engine.Examiner](session); can {
			_, _ = examiner.Examine(t.Context(), engine.Attempt{User: "warden_app", Database: "bunkhouse", From: "127.0.0.1"})
		}
		session.Close()
	}
	var f *finding.Problem
	if err != nil {
		if !errors.As(err, &f) {
			t.Errorf("%T is no finding: %v", err, err)
		} else if _, known := finding.Lookup(f.Code); !known {
			t.Errorf("the catalogue has no %s", f.Code)
		}
	}
	if took := time.Since(began); took > 2*time.Second {
		t.Errorf("it took %s", took)
	}
	if runtime.ReadMemStats(&after); after.TotalAlloc-before.TotalAlloc > 64<<20 {
		t.Errorf("it took %d MB", (after.TotalAlloc-before.TotalAlloc)>>20)
	}
	conn.mu.Lock()
	defer conn.mu.Unlock()
	return conn.Sent
}

// counted is a result that is dropped.
type counted struct{ notices int }

func (c *counted) heard(engine.Notice)         { c.notices++ }
func (*counted) Columns([]engine.Column) error { return nil }
func (*counted) Row([]engine.Cell) error       { return nil }
func (*counted) Bytes([]byte) error            { return nil }

// Abilities holds what an engine says that its sessions can do against what one of them can.
func Abilities(t *testing.T, e engine.Engine, s engine.Session) {
	t.Helper()
	_, runs := s.(engine.Runner)
	_, lists := s.(engine.Lister)
	_, grants := s.(engine.Rights)
	_, pools := s.(engine.Shared)
	_, loads := s.(engine.Loader)
	_, surveys := s.(engine.Surveyor)
	_, examines := s.(engine.Examiner)
	_, leads := e.(engine.Usher)
	info := e.Info()
	for ability, can := range map[engine.Ability]bool{engine.Leads: leads, engine.Runs: runs,
		engine.Lists: lists, engine.Grants: grants, engine.Pools: pools, engine.Loads: loads,
		engine.Surveys: surveys, engine.Examines: examines} {
		if info.Able(ability) != can {
			t.Errorf("%s says %v of whether it can %s", info.Name, !can, ability)
		}
	}
	if runs != (info.Language.Name != "") {
		t.Errorf("%s has the language %q", info.Name, info.Language.Name)
	}
}
