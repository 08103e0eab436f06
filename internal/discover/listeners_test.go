package discover

import (
	"context"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"os/user"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"gentle-harbor/internal/engine"
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
	must(t, err)
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
				data := make([]byte, 512)
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

// alone runs this test once more in a network namespace of its own (unshare(1)) and reports
// whether it did: false is for the run in there.
func alone(t *testing.T) bool {
	t.Helper()
	const inside = "GENTLE_HARBOR_TEST_ALONE"
	if os.Getenv(inside) != "" {
		return false
	}
	if runtime.GOOS != "linux" {
		t.Skip("network namespaces are Linux's")
	}
	if out, err := exec.Command("unshare", "--map-root-user", "--net", "ip", "link", "set", "lo",
		"up").CombinedOutput(); err != nil && os.Getenv("CI") == "" {
		t.Skipf("no network namespace of your own here: %s", out)
	}
	cmd := exec.Command("unshare", "--map-root-user", "--net", "sh", "-c", `ip link set lo up && exec "$0" "$@"`,
		os.Args[0], "-test.run=^"+t.Name()+"$", "-test.v", "-test.count=1")
	cmd.Env = append(os.Environ(), inside+"=1")
	out, err := cmd.CombinedOutput()
	t.Logf("%s", out)
	if err != nil || !strings.Contains(string(out), "--- PASS: "+t.Name()) {
		t.Errorf("inside: %v", err)
	}
	return true
}

func (s *silent) sent() [][]byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.got)
}

// TestTwoHundredSilentPorts looks at 200 ports that say nothing, within two seconds, and sends
// nothing but opening bytes, and these only where an engine is suggested. It does so in a network
// namespace of its own where it can: other programs of this machine, the tests of other packages
// including it, also look at ports.
func TestTwoHundredSilentPorts(t *testing.T) {
	if alone(t) {
		return
	}
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
	if took := look(false); took > 8*time.Second {
		t.Errorf("it took %s", took)
	} else {
		t.Logf("201 silent ports in %s", took)
	}
	time.Sleep(50 * time.Millisecond)
	for i, each := range append(all, usual) {
		sent := each.sent()
		port := netip.MustParseAddrPort(each.Addr().String()).Port()
		expected := i == 0 || each == usual
		usually := slices.ContainsFunc(known.Infos(), func(info engine.Info) bool {
			return info.Opening != nil && (int(port) >= info.Port && int(port) < info.Port+10 || int(port)%10000 == info.Port)
		})
		if !expected && len(sent) > 0 && !usually {
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
	Databases(context.Background()) // the evidence after a failure goes by the same rule
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
		must(t, err)
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

// TestOwners names this test's own program, account and folder as those that have its port.
func TestOwners(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer listener.Close()
	at := listener.Addr().(*net.TCPAddr).AddrPort()
	folder, err := os.Getwd()
	must(t, err)
	me, err := user.Current()
	must(t, err)
	if runtime.GOOS != "linux" {
		t.Skip("only Linux shows the folder of a process")
	}
	other := netip.AddrPortFrom(at.Addr(), 1)
	owners := Owners(t.Context(), []netip.AddrPort{at, other})
	if want := "the program discover.test of " + me.Username + ", in " + folder; owners[at] != want || len(owners) != 1 {
		t.Errorf("%q instead of %q, %v", owners[at], want, owners)
	}
}
