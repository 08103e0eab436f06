package target

import (
	"fmt"
	"net/netip"
	"testing"
)

// TestJudge judges each range, and each form of IPv6 address that stands for one of IPv4: the
// form changes nothing.
func TestJudge(t *testing.T) {
	for text, want := range map[string]Breadth{
		"203.0.113.9": Public, "8.8.8.8": Public, "100.63.255.255": Public, "172.32.0.1": Public, "11.0.0.1": Public,
		"127.0.0.1": Own, "127.9.9.9": Own, "0.0.0.0": Own, "0.1.2.3": Own,
		"10.0.0.1": Private, "172.16.0.1": Private, "172.31.255.255": Private, "192.168.1.1": Private,
		"100.64.0.1": Private, "100.127.0.1": Private, "198.18.0.1": Private, "192.0.0.8": Private,
		"169.254.169.254": LinkLocal, "169.254.0.1": LinkLocal, "224.0.0.1": Several, "240.0.0.1": Several,
		"255.255.255.255": Several,
	} {
		addr := netip.MustParseAddr(text)
		b := addr.As4()
		forms := []netip.Addr{addr, netip.MustParseAddr("::ffff:" + text),
			netip.MustParseAddr("64:ff9b::" + text), netip.MustParseAddr("::ffff:0:" + text),
			netip.MustParseAddr(fmt.Sprintf("2002:%x:%x::1", int(b[0])<<8|int(b[1]), int(b[2])<<8|int(b[3]))),
			netip.MustParseAddr(fmt.Sprintf("2001:0:cb00:7109:0:0:%x:%x", 0xffff^(int(b[0])<<8|int(b[1])),
				0xffff^(int(b[2])<<8|int(b[3]))))}
		if text != "0.0.0.0" {
			forms = append(forms, netip.MustParseAddr("::"+text))
		}
		for _, form := range forms {
			if got := Judge(form); got != want {
				t.Errorf("%s, a form of %s, is judged %d and not %d", form, text, got, want)
			}
		}
	}
	for text, want := range map[string]Breadth{
		"2001:db8::1": Public, "2606:4700::1": Public, "::1": Own, "::": Own, "fe80::1": LinkLocal,
		"fe80::1%eth0": LinkLocal, "febf::1": LinkLocal, "fec0::1": Private, "fd00::1": Private,
		"ff02::1": Several, "100::1": Several, "64:ff9b:1::a": Private,
	} {
		if got := Judge(netip.MustParseAddr(text)); got != want {
			t.Errorf("%s is judged %d and not %d", text, got, want)
		}
	}
	if Judge(netip.Addr{}) != Own {
		t.Error("no address at all may be connected to")
	}
}
