package route

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/finding"
)

// names is a name service.
type names map[string][]string

func (n names) LookupNetIP(ctx context.Context, _, host string) ([]netip.Addr, error) {
	if host == "silent.localhost" {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	var addrs []netip.Addr
	for _, text := range n[host] {
		addrs = append(addrs, netip.MustParseAddr(text))
	}
	if addrs == nil {
		return nil, &net.DNSError{Name: host, IsNotFound: true}
	}
	return addrs, nil
}

func texts(addrs []netip.Addr) (list []string) {
	for _, addr := range addrs {
		list = append(list, addr.String())
	}
	return list
}

func TestAddresses(t *testing.T) {
	service := names{
		"localhost": {"192.0.2.7", "::1", "127.0.0.1", "::1"}, "db.localhost": {"192.0.2.7"}, "LOCALHOST": {"192.0.2.9"},
		"db.fellside.example": {"::ffff:192.0.2.1", "192.0.2.1", "2001:db8::1"}, "notlocalhost": {"192.0.2.3"},
		"localhost.example": {"192.0.2.4"},
	}
	for host, want := range map[string][]string{
		"localhost": {"::1", "127.0.0.1"}, "localhost.": {"127.0.0.1", "::1"},
		"db.localhost": {"127.0.0.1", "::1"}, "LOCALHOST": {"127.0.0.1", "::1"},
		"nobody.localhost": {"127.0.0.1", "::1"}, "silent.localhost": {"127.0.0.1", "::1"},
		"127.0.0.9": {"127.0.0.9"}, "::1": {"::1"}, "db.fellside.example": {"192.0.2.1", "2001:db8::1"},
		"notlocalhost": {"192.0.2.3"}, "localhost.example": {"192.0.2.4"},
	} {
		addrs, err := Addresses(t.Context(), service, host)
		if got := texts(addrs); err != nil || len(got) != len(want) {
			t.Errorf("%s: %v, %v", host, got, err)
		} else {
			for i := range want {
				if got[i] != want[i] {
					t.Errorf("%s: %v", host, got)
				}
			}
		}
	}
	var f *finding.Problem
	if _, err := Addresses(t.Context(), service, "nowhere.example"); !errors.As(err, &f) || f.Code != "name.not-found" {
		t.Errorf("an unknown name: %v", err)
	}
}

func TestJudge(t *testing.T) {
	me := os.Geteuid()
	for _, c := range []struct {
		name        string
		trust       Trust
		uid, folder int
		want        bool
	}{
		{"root's", Trust{}, 0, 54321, true},
		{"your own", Trust{}, me, 54321, true},
		{"a person's", Trust{}, 54321, 0, false},
		{"a person's, in that person's folder", Trust{}, 54321, 54321, false},
		{"a system account's, in its folder", Trust{}, 777 % firstPerson, 777 % firstPerson, true},
		{"a system account's, elsewhere", Trust{}, 777 % firstPerson, 0, false},
		{"a system account's, in a folder that cannot be seen", Trust{}, 777 % firstPerson, -1, false},
		{"the engine's account", Trust{Accounts: []string{"gentle-harbor-nobody", "778"}}, 778, 0, true},
		{"the named one", Trust{Owner: "54321"}, 54321, 0, true},
		{"another than the named one", Trust{Owner: "54321"}, 54322, 0, false},
		{"nobody's", Trust{Accounts: []string{"65534"}}, 65534, 65534, me == 65534},
		{"nobody's, named", Trust{Owner: "65534"}, 65534, 0, true},
	} {
		if got := c.trust.Judge(c.uid, c.folder); got != c.want && me != c.uid {
			t.Errorf("%s: %v", c.name, got)
		}
	}
}

func TestDialSocket(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s")
	listener, err := net.Listen("unix", path)
	must(t, err)
	defer listener.Close()
	conn, peer, err := DialSocket(t.Context(), path, Trust{})
	must(t, err)
	_ = conn.Close()
	if runtime.GOOS == "linux" && (!peer.Shown || !peer.Trusted || peer.UID != os.Geteuid() || peer.PID != os.Getpid()) {
		t.Errorf("%+v", peer)
	}
	if peer.Shown && number(strconv.Itoa(peer.UID)) != peer.UID {
		t.Errorf("the number of %d", peer.UID)
	}
	var f *finding.Problem
	if _, _, err := DialSocket(t.Context(), path+"x", Trust{}); !errors.As(err, &f) || f.Code != "port.socket-missing" {
		t.Errorf("%v", err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	if _, err := Dial(ctx, "tcp", "127.0.0.1:1"); !errors.As(err, &f) || f.Code != "port.refused" {
		t.Errorf("%v", err)
	}
}

// TestChanges compares what is known of a server: values, and marks that are new or gone.
func TestChanges(t *testing.T) {
	image := func(value string) Mark { return Mark{"the image", value} }
	for name, c := range map[string]struct {
		was, is string
		want    string
	}{
		"nothing known": {"", "", ""},
		"the same":      {Marks(image("a"), Mark{"the folder", "/x"}), Marks(Mark{"the folder", "/x"}, image("a")), ""},
		"another value": {Marks(image("a")), Marks(image("b")), "the image"},
		"a new mark":    {"", Marks(image("a")), "the image"}, "a mark gone": {Marks(image("a")), "", "the image"},
		"two": {Marks(image("a"), Mark{"the folder", "/x"}), Marks(image("b"), Mark{"the folder", "/y"}),
			"the folder, the image"}, "an empty value": {Marks(image("a")), Marks(image("")), "the image"},
	} {
		if got := strings.Join(Changes(c.was, c.is), ", "); got != c.want {
			t.Errorf("%s: %q instead of %q", name, got, c.want)
		}
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
