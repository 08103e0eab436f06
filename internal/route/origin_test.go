package route

import (
	"net/netip"
	"slices"
	"testing"
)

func TestHostsLine(t *testing.T) {
	const hosts = "127.0.0.1 localhost\n# 10.0.0.1 db\n10.0.0.1\tother DB # ours\n10.0.0.2 db\n::1 db six\nnonsense db\n"
	one, two, six := netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.0.2"), netip.MustParseAddr("::1")
	for _, c := range []struct {
		host  string
		addrs []netip.Addr
		line  int
	}{{"db", []netip.Addr{one}, 3}, {"db.", []netip.Addr{two}, 4}, {"db", []netip.Addr{six}, 5}, {"db", nil, 0},
		{"dba", []netip.Addr{one}, 0}, {"six", []netip.Addr{two, six}, 5}} {
		if got := hostsLine(hosts, c.host, c.addrs); got != c.line {
			t.Errorf("%s: line %d instead of %d", c.host, got, c.line)
		}
	}
	if got := otherSources("passwd: files\nhosts: files mdns4_minimal [NOTFOUND=return] dns # x\n"); !slices.Equal(got,
		[]string{"mdns4_minimal"}) {
		t.Errorf("%q", got)
	}
	if got := otherSources("hosts: files dns\n"); len(got) > 0 {
		t.Errorf("%q", got)
	}
}
