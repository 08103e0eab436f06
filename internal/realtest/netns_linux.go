package realtest

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"

	"golang.org/x/sys/unix"
)

// Chain is a row of network namespaces, each of which sees its neighbours alone: this machine at
// NET.1.1, and the hop N at NET.N.2 from its left and NET.(N+1).1 to its right.
type Chain struct {
	t     *testing.T
	Net   string   // the first two parts of its addresses
	links string   // what its links' names begin with, without the first letters
	Names []string // of its namespaces
}

// chains counts the rows of this process, which may be there side by side.
var chains atomic.Int64

// NewChain makes a row, which goes with the test.
func NewChain(t *testing.T, length int) *Chain {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("network namespaces take root")
	}
	if Program("ip") == "" {
		Missing(t, "iproute2")
	}
	used, err := exec.Command("ip", "-o", "-4", "addr").Output() // a run that was killed may have left a row
	must(t, err)
	id := chains.Add(1)
	for strings.Contains(string(used), fmt.Sprintf(" 10.%d.", 98+id)) {
		id = chains.Add(1)
	}
	c := &Chain{t: t, Net: fmt.Sprintf("10.%d", 98+id), links: fmt.Sprintf("%d%c", os.Getpid()%10000, 'a'+id)}
	// Nothing meant for the row leaves this machine by its way to the world.
	c.IP("route", "replace", "unreachable", c.Net+".0.0/16")
	t.Cleanup(func() { _ = exec.Command("ip", "route", "del", "unreachable", c.Net+".0.0/16").Run() })
	for n := 1; n <= length; n++ {
		name := fmt.Sprintf("gh%s-%d", c.links, n)
		c.IP("netns", "add", name)
		t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", name).Run() })
		c.Names = append(c.Names, name)
		left, right := c.Link("l", n), c.Link("r", n)
		c.IP("link", "add", left, "type", "veth", "peer", "name", right)
		c.IP("link", "set", right, "netns", name)
		if n == 1 {
			t.Cleanup(func() { _ = exec.Command("ip", "link", "del", left).Run() })
			c.IP("addr", "add", c.Net+".1.1/24", "dev", left)
			c.IP("link", "set", left, "up")
		} else {
			c.IP("link", "set", left, "netns", c.Names[n-2])
			c.IP("-n", c.Names[n-2], "addr", "add", fmt.Sprintf("%s.%d.1/24", c.Net, n), "dev", left)
			c.IP("-n", c.Names[n-2], "link", "set", left, "up")
		}
		c.IP("-n", name, "addr", "add", fmt.Sprintf("%s.%d.2/24", c.Net, n), "dev", right)
		c.IP("-n", name, "link", "set", right, "up")
		c.IP("-n", name, "link", "set", "lo", "up")
	}
	return c
}

// At gives the address of the hop N as the one before it sees it.
func (c *Chain) At(n int) string { return fmt.Sprintf("%s.%d.2", c.Net, n) }

// Link gives the name of one end, "l" or "r", of the link to the hop N.
func (c *Chain) Link(end string, n int) string { return fmt.Sprintf("gh%s%s-%d", end, c.links, n) }

// IP runs ip(8).
func (c *Chain) IP(args ...string) {
	c.t.Helper()
	if out, err := exec.Command("ip", args...).CombinedOutput(); err != nil {
		c.t.Fatalf("ip %v: %v %s", args, err, out)
	}
}

// Listen listens in a namespace, and has serve answer each connection, from this process.
func (c *Chain) Listen(n int, port int, serve func(net.Conn)) {
	c.t.Helper()
	type result struct {
		l   net.Listener
		err error
	}
	got := make(chan result, 1)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread is in another namespace, and ends with this goroutine
		fd, err := unix.Open("/run/netns/"+c.Names[n-1], unix.O_RDONLY|unix.O_CLOEXEC, 0)
		if err == nil {
			err = unix.Setns(fd, unix.CLONE_NEWNET)
			_ = unix.Close(fd)
		}
		if err != nil {
			got <- result{nil, err}
			return
		}
		l, err := net.Listen("tcp4", fmt.Sprintf("%s:%d", c.At(n), port))
		got <- result{l, err}
	}()
	r := <-got
	must(c.t, r.err)
	c.t.Cleanup(func() { _ = r.l.Close() })
	go func() {
		for {
			conn, err := r.l.Accept()
			if err != nil {
				return
			}
			go func() { defer conn.Close(); serve(conn) }()
		}
	}()
}

// Relay listens in a namespace, and passes what comes on to an address of this machine's: a real
// server, which so is at the address of the namespace alone.
func (c *Chain) Relay(n int, port int, to string) {
	c.Listen(n, port, func(conn net.Conn) {
		server, err := net.Dial("tcp", to)
		if err != nil {
			return
		}
		defer server.Close()
		go func() { _, _ = io.Copy(server, conn); _ = server.(*net.TCPConn).CloseWrite() }()
		_, _ = io.Copy(conn, server)
	})
}
