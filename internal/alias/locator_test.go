package alias

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/net/dns/dnsmessage"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/target"
)

func jsonOf(t *testing.T, v any) string {
	t.Helper()
	data, err := json.Marshal(v)
	must(t, err)
	return string(data)
}

// record is an SRV record of the test's name server.
type record struct {
	priority, weight, port uint16
	target                 string
}

// nameServer is a DNS server on a port of 127.0.0.1, by UDP and TCP (RFC 1035), and a resolver
// that asks it.
func nameServer(t *testing.T, records map[string][]record, aliases map[string]string, truncate bool) *net.Resolver {
	t.Helper()
	var udp net.PacketConn
	var tcp net.Listener
	for range 20 { // the same number must be free for both
		var err error
		udp, err = net.ListenPacket("udp", "127.0.0.1:0")
		must(t, err)
		if tcp, err = net.Listen("tcp", udp.LocalAddr().String()); err == nil {
			break
		}
		_ = udp.Close()
	}
	if tcp == nil {
		t.Fatal("no port is free for both")
	}
	t.Cleanup(func() { _ = udp.Close(); _ = tcp.Close() })
	answer := func(question []byte, cut bool) []byte {
		var m dnsmessage.Message
		if m.Unpack(question) != nil || len(m.Questions) != 1 {
			return nil
		}
		q := m.Questions[0]
		m.Response, m.RecursionAvailable, m.Additionals = true, true, nil
		name := q.Name.String()
		list, known := records[name]
		to, alias := aliases[name]
		switch {
		case alias:
			m.Answers = append(m.Answers,
				dnsmessage.Resource{Header: dnsmessage.ResourceHeader{Name: q.Name, Type: dnsmessage.TypeCNAME,
					Class: dnsmessage.ClassINET}, Body: &dnsmessage.CNAMEResource{CNAME: dnsmessage.MustNewName(to)}})
		case !known:
			m.RCode = dnsmessage.RCodeNameError
		case cut:
			m.Truncated = true
		case q.Type == dnsmessage.TypeSRV:
			for _, r := range list {
				m.Answers = append(m.Answers,
					dnsmessage.Resource{Header: dnsmessage.ResourceHeader{Name: q.Name,
						Type: dnsmessage.TypeSRV, Class: dnsmessage.ClassINET},
						Body: &dnsmessage.SRVResource{Priority: r.priority, Weight: r.weight, Port: r.port,
							Target: dnsmessage.MustNewName(r.target)}})
			}
		}
		out, err := m.Pack()
		if err != nil {
			return nil
		}
		return out
	}
	go func() {
		buffer := make([]byte, 4096)
		for {
			n, from, err := udp.ReadFrom(buffer)
			if err != nil {
				return
			}
			_, _ = udp.WriteTo(answer(slices.Clone(buffer[:n]), truncate), from)
		}
	}()
	go func() {
		for {
			conn, err := tcp.Accept()
			if err != nil {
				return
			}
			buffer := make([]byte, 4096)
			n, _ := conn.Read(buffer)
			if n > 2 {
				out := answer(buffer[2:n], false)
				_, _ = conn.Write(append([]byte{byte(len(out) >> 8), byte(len(out))}, out...))
			}
			_ = conn.Close()
		}
	}()
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, network, udp.LocalAddr().String())
	}}
}

// table answers names, those of fellside.example each with one address and "two" with two.
type table struct{}

func (table) LookupNetIP(_ context.Context, _, host string) ([]netip.Addr, error) {
	switch {
	case host == "gone.fellside.example":
		return nil, &net.DNSError{IsNotFound: true, Name: host}
	case host == "two.fellside.example":
		return []netip.Addr{netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.0.2")}, nil
	}
	return []netip.Addr{netip.AddrFrom4([4]byte{10, 0, 0, byte(len(host))})}, nil
}

// TestSRV asks a name server on loopback.
func TestSRV(t *testing.T) {
	records := map[string][]record{
		"_pg._tcp.fellside.example.": {{20, 0, 3, "third.fellside.example."},
			{10, 0, 1, "first.fellside.example."}, {10, 0, 2, "gone.fellside.example."}},
		"none._tcp.fellside.example.":  {{0, 0, 0, "."}},
		"evil._tcp.fellside.example.":  {{0, 0, 5432, "db.elsewhere.example."}},
		"some._tcp.fellside.example.":  {{0, 0, 5432, "db.elsewhere.example."}, {1, 0, 7, "db.fellside.example."}},
		"heavy._tcp.fellside.example.": {{0, 1000, 1, "heavy.fellside.example."}, {0, 1, 2, "light.fellside.example."}},
	}
	for _, truncated := range []bool{false, true} {
		dns := nameServer(t, records,
			map[string]string{"loop._tcp.fellside.example.": "loop2._tcp.fellside.example.",
				"loop2._tcp.fellside.example.": "loop._tcp.fellside.example."}, truncated)
		look := func(l Locator, via route.Dialer) (text string, notes []string) {
			ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
			defer cancel()
			l.Name, l.Resolver, l.Services = "a", table{}, dns
			var list []string
			for at, err := range l.Locate(ctx, via, func(leg, saw string) { notes = append(notes, leg+": "+saw) }) {
				var p *finding.Problem
				if errors.As(err, &p) {
					list = append(list, at.Written.String()+"!"+string(p.Code))
					continue
				}
				list = append(list, at.String())
			}
			return strings.Join(list, " "), notes
		}
		for _, c := range []struct {
			srv   string
			named bool
			want  string
		}{
			{"none._tcp.fellside.example", false, "!alias.no-service"},
			{"evil._tcp.fellside.example", false, "!alias.srv-foreign"},
			{"evil._tcp.fellside.example", true, "10.0.0.20:5432"},
			{"some._tcp.fellside.example", false, "10.0.0.19:7"},
			{"nothing._tcp.fellside.example", false, "!alias.no-record"},
		} {
			if got, _ := look(Locator{SRV: c.srv, NamedServer: c.named}, nil); got != c.want {
				t.Errorf("%s: %q instead of %q", c.srv, got, c.want)
			}
		}
		got, notes := look(Locator{SRV: "_pg._tcp.fellside.example"}, nil)
		if !strings.HasSuffix(got, "10.0.0.22:3") || !strings.Contains(got, "10.0.0.22:1") ||
			!strings.Contains(got, "gone.fellside.example:2!name.not-found") || len(notes) != 2 ||
			!strings.Contains(notes[0], "3 addresses by the SRV records") {
			t.Errorf("%q %q", got, notes)
		}
		first := 0
		for range 50 {
			if got, _ := look(Locator{SRV: "heavy._tcp.fellside.example"}, nil); strings.HasPrefix(got, "10.0.0.22:1 ") {
				first++
			}
		}
		if first < 40 {
			t.Errorf("the heavy one was first %d of 50 times", first)
		}
		if got, _ := look(Locator{SRV: "loop._tcp.fellside.example"}, nil); !strings.HasPrefix(got,
			"!alias.no-record") && !strings.HasPrefix(got, "!name.") {
			t.Errorf("a loop: %q", got)
		}
		if _, notes := look(Locator{SRV: "_pg._tcp.fellside.example"},
			&net.Dialer{}); !strings.Contains(notes[0], "asked of this machine's name service") {
			t.Errorf("%q", notes)
		}
	}
}

// TestLocate gives the addresses of an alias in their order, each name's all, and goes on after
// one that is not found.
func TestLocate(t *testing.T) {
	host := func(name string, port int) target.Address {
		return target.Address{Kind: target.Host, Name: name, Port: port}
	}
	l := Locator{Name: "a", Resolver: table{},
		Addresses: []target.Address{host("two.fellside.example", 1), host("gone.fellside.example", 2),
			{Kind: target.Socket, Name: "/run/x"}, host("127.0.0.1", 3)}}
	var got []string
	for at, err := range l.Locate(t.Context(), nil, func(string, string) {}) {
		text := at.String() + " " + at.ServerName
		if err != nil {
			text = "no " + at.Written.Name
		}
		got = append(got, text)
	}
	if want := "10.0.0.1:1 two.fellside.example|10.0.0.2:1 two.fellside.example|no gone.fellside.example|/run/x " +
		"|127.0.0.1:3 127.0.0.1"; strings.Join(got,
		"|") != want {
		t.Errorf("%q instead of %q", strings.Join(got, "|"), want)
	}
	if legs := l.Legs(); !slices.Equal(legs, []string{"alias", "name"}) {
		t.Errorf("%v", legs)
	}
	if legs := (Locator{Addresses: l.Addresses[2:]}).Legs(); !slices.Equal(legs, []string{"alias"}) {
		t.Errorf("%v", legs)
	}
	l.Random = true
	orders := map[string]bool{}
	for range 100 {
		var order string
		for at := range l.Locate(t.Context(), nil, func(string, string) {}) {
			order += at.Written.Name + " "
		}
		orders[order] = true
	}
	if len(orders) < 10 {
		t.Errorf("%d orders", len(orders))
	}
}

// texts is a name service with TXT records alone.
type texts struct {
	list []string
	err  error
}

func (s texts) LookupTXT(context.Context, string) ([]string, error) { return s.list, s.err }

func (s texts) LookupSRV(context.Context, string, string, string) (string, []*net.SRV, error) {
	return "", nil, nil
}

// TestTexts reads what a TXT record says of a server: what is on the list, once and in one record.
func TestTexts(t *testing.T) {
	for about, each := range map[string]struct {
		texts texts
		want  string
		wrong string
	}{
		"both":         {texts{list: []string{"authSource=admin&replicaSet=huts"}}, "auth admin and set huts", ""},
		"letters":      {texts{list: []string{"AUTHSOURCE=admin"}}, "auth admin", ""},
		"none":         {texts{}, "", ""},
		"no such name": {texts{err: &net.DNSError{IsNotFound: true}}, "", ""},
		"empty":        {texts{list: []string{""}}, "", ""},
		"two":          {texts{list: []string{"a=b", "authSource=x"}}, "", "there are 2"},
		"another": {texts{list: []string{"authSource=x&tls=false"}}, "",
			"it says tls, and it may say authSource and replicaSet"},
		"twice":          {texts{list: []string{"authSource=x&authSource=y"}}, "", "twice"},
		"twice, letters": {texts{list: []string{"authSource=x&authsource=y"}}, "", "twice"},
		"outer accounts": {texts{list: []string{"authSource=%24external"}}, "", "cannot be used"},
		"no value":       {texts{list: []string{"authSource="}}, "", "cannot be used"},
		"a terminal's":   {texts{list: []string{"authSource=%1b%5b2J"}}, "", "cannot be used"},
		"another form":   {texts{list: []string{"authSource=a;replicaSet=b"}}, "", "not written as options"},
		"long":           {texts{list: []string{"authSource=" + strings.Repeat("x", 2000)}}, "", "more than 1024"},
		"silent":         {texts{err: &net.DNSError{IsTimeout: true, Err: "no answer"}}, "", "name."},
	} {
		l := Locator{SRV: "_mongodb._tcp.huts.fellside.example", Services: each.texts, Said: func(map[string]string) {},
			Options: map[string]string{"authSource": "auth", "replicaSet": "set"}}
		options, err := l.options(t.Context())
		var p *finding.Problem
		wrong := ""
		if errors.As(err, &p) {
			wrong = string(p.Code) + " " + p.Facts[finding.FactWrong]
		}
		if said(options) != each.want || !strings.Contains(wrong, each.wrong) || (wrong == "") != (each.wrong == "") {
			t.Errorf("%s: %v %q", about, options, wrong)
		}
	}
}

func TestWithin(t *testing.T) {
	for pair, want := range map[[2]string]bool{
		{"db.fellside.example", "_pg._tcp.fellside.example"}: true,
		{"db.fellside.example", "fellside.example"}:          true, {"db.other.example", "fellside.example"}: false,
		{"example", "fellside.example"}: false,
		{"a.co.uk", "b.co.uk"}:          false, {"x.a.co.uk", "a.co.uk."}: true,
		{"DB.Fellside.Example", "x.fellside.example"}:         true,
		{"fellside.example.evil.example", "fellside.example"}: false, {"localhost", "localhost"}: false,
		{"a.github.io", "b.github.io"}:                                       false,
		{"db1.huts.fellside.example", "_db._tcp.snow.huts.fellside.example"}: true,
		{"huts.fellside.example", "_db._tcp.snow.huts.fellside.example"}:     true,
		{"db.fellside.example", "_db._tcp.snow.huts.fellside.example"}:       false,
		{"db.inns.fellside.example", "_db._tcp.snow.huts.fellside.example"}:  false,
	} {
		if got := within(pair[0], pair[1]); got != want {
			t.Errorf("%v: %v", pair, got)
		}
	}
}
