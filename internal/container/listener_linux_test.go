package container

import (
	"bufio"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"syscall"
	"testing"
)

// TestWhoListens holds whose a listener is: this account's, another account's, at each form of
// address, and nobody's.
func TestWhoListens(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "0.0.0.0:0", "[::]:0", "[::1]:0"} {
		l, err := net.Listen("tcp", address)
		if err != nil {
			continue // no IPv6
		}
		port := netip.MustParseAddrPort(l.Addr().String()).Port()
		at := netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), port)
		if address == "[::1]:0" {
			at = netip.AddrPortFrom(netip.IPv6Loopback(), port)
		}
		if account, shown := listener(at); !shown || account != os.Geteuid() {
			t.Errorf("%s: account %d, %t", address, account, shown)
		}
		_ = l.Close()
		if account, shown := listener(at); shown {
			t.Errorf("%s, closed: account %d", address, account)
		}
	}
	if os.Geteuid() != 0 {
		t.Skip("skipped for want of another account")
	}
	cmd := exec.Command("python3", "-c",
		"import socket,time\ns=socket.socket()\ns.bind(('127.0.0.1',0))\ns.listen()\nprint(s.getsockname()[1],flush=True)\ntime.sleep(60)")
	cmd.Dir, cmd.Env = "/", []string{"PATH=/usr/bin:/bin"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 54321, Gid: 54321}}
	out, err := cmd.StdoutPipe()
	must(t, err)
	cmd.Path = "/usr/bin/python3"
	if err := cmd.Start(); err != nil {
		t.Skipf("skipped for want of python3: %v", err)
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	var port uint16
	if _, err := fmt.Fscan(bufio.NewReader(out), &port); err != nil {
		t.Fatal(err)
	}
	at := netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), port)
	if account, shown := listener(at); !shown || account != 54321 || forwarder(at) {
		t.Errorf("another account's: %d, %t", account, shown)
	}
}
