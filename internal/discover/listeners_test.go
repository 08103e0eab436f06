package discover

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"time"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/standin"
)

// silent listens and notes what it is sent.
type silent struct {
	net.Listener
	mu  sync.Mutex
	got [][]byte
}

func listen(t *testing.T, address string) *silent {
	t.Helper()
	l, err := net.Listen("tcp", address)
	if err != nil {
		t.Skipf("%s is not free", address) // the usual port of an engine, on an address of its own
	}
	s := &silent{Listener: l}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				_ = conn.SetReadDeadline(time.Now().Add(3 * time.Second))
				data := make([]byte, 64)
				for {
					n, err := conn.Read(data)
					if n > 0 {
						s.mu.Lock()
						s.got = append(s.got, slices.Clone(data[:n]))
						s.mu.Unlock()
					}
					if err != nil {
						return
					}
				}
			}()
		}
	}()
	return s
}

func (s *silent) sent() [][]byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.got)
}

// TestTwoHundredSilentPorts looks at 200 ports that say nothing, within two seconds, and sends nothing but opening bytes, and these only where
// an engine is suggested.
func TestTwoHundredSilentPorts(t *testing.T) {
	var all []*silent
	for range 200 {
		all = append(all, listen(t, "127.0.0.1:0"))
	}
	usual := listen(t, "127.0.7.1:5432")
	var openings [][]byte
	for _, info := range known.Infos() {
		if info.Opening != nil {
			openings = append(openings, info.Opening)
		}
	}
	hinted := netip.MustParseAddrPort(all[0].Addr().String())
	look := func(every bool) (took time.Duration) {
		began := time.Now()
		list := Listeners(context.Background(), func(place netip.AddrPort) string {
			if place == hinted {
				return "postgres"
			}
			return ""
		}, every)
		if len(list) < 201 {
			t.Errorf("only %d ports were looked at", len(list))
		}
		return time.Since(began)
	}
	if took := look(false); took > 2*time.Second {
		t.Errorf("it took %s", took)
	} else {
		t.Logf("201 silent ports in %s", took)
	}
	time.Sleep(50 * time.Millisecond)
	for i, each := range append(all, usual) {
		sent := each.sent()
		port := netip.MustParseAddrPort(each.Addr().String()).Port()
		expected := i == 0 || each == usual
		if !expected && len(sent) > 0 && (port < 5432 || port >= 5442) && port%10000 != 5432 {
			t.Errorf("port %d was sent %q", port, sent)
		}
		if expected && len(sent) != 1 {
			t.Errorf("port %d was sent %q, and opening bytes were expected", port, sent)
		}
		for _, bytes := range sent {
			if !slices.ContainsFunc(openings, func(o []byte) bool { return slices.Equal(o, bytes) }) {
				t.Errorf("port %d was sent %q, which are no engine's opening bytes", port, bytes)
			}
		}
	}
	look(true)
	time.Sleep(50 * time.Millisecond)
	for _, each := range all[1:] {
		sent := each.sent()
		if len(sent) == 0 {
			t.Fatalf("--every-port left %s out", each.Addr())
		}
		for _, bytes := range sent {
			if !slices.ContainsFunc(openings, func(o []byte) bool { return slices.Equal(o, bytes) }) {
				t.Errorf("%s was sent %q", each.Addr(), bytes)
			}
		}
	}
}

// TestListenersOfPractice finds practice servers of each engine, with the program that listens.
func TestListenersOfPractice(t *testing.T) {
	for _, name := range []string{"postgres", "mariadb"} {
		s, err := standin.Start(standin.Config{Engine: name, Accounts: map[string]string{"a": "b"}})
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		list := Listeners(context.Background(), func(netip.AddrPort) string { return name }, false)
		i := slices.IndexFunc(list, func(l Listener) bool {
			return l.Port() == netip.MustParseAddrPort(s.Address()).String()[len("127.0.0.1:"):]
		})
		if i < 0 || list[i].Answer.Kind != name {
			t.Fatalf("%s is not found", name)
		}
		if list[i].Process == "" {
			t.Error("the program is not named")
		}
	}
}
