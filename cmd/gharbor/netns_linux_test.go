package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"gentle-harbor/internal/route/jump/jumptest"
)

// chain is a row of network namespaces, each of which sees its neighbours alone: this machine at
// NET.1.1, and the hop N at NET.N.2 from its left and NET.(N+1).1 to its right.
type chain struct {
	t     *testing.T
	net   string // the first two parts of its addresses
	links string // what its links' names begin with, without the first letters
	names []string
}

// chains counts the rows of this process, which may be there side by side.
var chains atomic.Int64

func newChain(t *testing.T, length int) *chain {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("network namespaces take root")
	}
	tool(t, "ip")
	used, err := exec.Command("ip", "-o", "-4", "addr").Output() // a run that was killed may have left a row
	must(t, err)
	id := chains.Add(1)
	for strings.Contains(string(used), fmt.Sprintf(" 10.%d.", 98+id)) {
		id = chains.Add(1)
	}
	c := &chain{t: t, net: fmt.Sprintf("10.%d", 98+id), links: fmt.Sprintf("%d%c", os.Getpid()%10000, 'a'+id)}
	// Nothing meant for the row leaves this machine by its way to the world.
	c.ip("route", "replace", "unreachable", c.net+".0.0/16")
	t.Cleanup(func() { _ = exec.Command("ip", "route", "del", "unreachable", c.net+".0.0/16").Run() })
	for n := 1; n <= length; n++ {
		name := fmt.Sprintf("gh%s-%d", c.links, n)
		c.ip("netns", "add", name)
		t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", name).Run() })
		c.names = append(c.names, name)
		left, right := c.link("l", n), c.link("r", n)
		c.ip("link", "add", left, "type", "veth", "peer", "name", right)
		c.ip("link", "set", right, "netns", name)
		if n == 1 {
			t.Cleanup(func() { _ = exec.Command("ip", "link", "del", left).Run() })
			c.ip("addr", "add", c.net+".1.1/24", "dev", left)
			c.ip("link", "set", left, "up")
		} else {
			c.ip("link", "set", left, "netns", c.names[n-2])
			c.ip("-n", c.names[n-2], "addr", "add", fmt.Sprintf("%s.%d.1/24", c.net, n), "dev", left)
			c.ip("-n", c.names[n-2], "link", "set", left, "up")
		}
		c.ip("-n", name, "addr", "add", fmt.Sprintf("%s.%d.2/24", c.net, n), "dev", right)
		c.ip("-n", name, "link", "set", right, "up")
		c.ip("-n", name, "link", "set", "lo", "up")
	}
	return c
}

// at gives the address of the hop N as the one before it sees it, and link the name of one end of
// a link.
func (c *chain) at(n int) string { return fmt.Sprintf("%s.%d.2", c.net, n) }

func (c *chain) link(end string, n int) string { return fmt.Sprintf("gh%s%s-%d", end, c.links, n) }

func (c *chain) ip(args ...string) {
	c.t.Helper()
	if out, err := exec.Command("ip", args...).CombinedOutput(); err != nil {
		c.t.Fatalf("ip %v: %v %s", args, err, out)
	}
}

// listen listens in a namespace, and has serve answer each connection, from this process.
func (c *chain) listen(n int, port int, serve func(net.Conn)) {
	c.t.Helper()
	type result struct {
		l   net.Listener
		err error
	}
	got := make(chan result, 1)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread is in another namespace, and ends with this goroutine
		fd, err := unix.Open("/run/netns/"+c.names[n-1], unix.O_RDONLY|unix.O_CLOEXEC, 0)
		if err == nil {
			err = unix.Setns(fd, unix.CLONE_NEWNET)
			_ = unix.Close(fd)
		}
		if err != nil {
			got <- result{nil, err}
			return
		}
		l, err := net.Listen("tcp4", fmt.Sprintf("%s:%d", c.at(n), port))
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

// relay listens in a namespace, and passes what comes on to an address of this machine's: a real
// server, which so is at the address of the namespace alone.
func (c *chain) relay(n int, port int, to string) {
	c.listen(n, port, func(conn net.Conn) {
		server, err := net.Dial("tcp", to)
		if err != nil {
			return
		}
		defer server.Close()
		go func() { _, _ = io.Copy(server, conn); _ = server.(*net.TCPConn).CloseWrite() }()
		_, _ = io.Copy(conn, server)
	})
}

// TestBehindOneTwoAndThreeHops tests, holds and runs on real PostgreSQL and MariaDB servers that
// only the last of one, two or three real OpenSSH servers can reach: no other route leads there.
func TestBehindOneTwoAndThreeHops(t *testing.T) {
	t.Parallel()
	pg, maria := realPostgres(t), realMariaDB(t)
	c := newChain(t, 4)
	w := newWorld(t, "PW="+canary)
	key := jumptest.NewKey(t, filepath.Join(w.home, ".ssh", "id_ed25519"), "ed25519", "")
	known, config := "", ""
	for n := 1; n <= 3; n++ {
		sshd := jumptest.StartIn(t, c.names[n-1], c.at(n), nil)
		sshd.Admit(key.Public)
		known += sshd.KnownLine("ed25519")
		config += fmt.Sprintf("Host jump%d\n  HostName %s\n", n, c.at(n))
		if n > 1 {
			config += fmt.Sprintf("  ProxyJump jump%d\n", n-1)
		}
		c.relay(n+1, 5432, fmt.Sprintf("127.0.0.1:%d", pg.port))
		c.relay(n+1, 3306, fmt.Sprintf("127.0.0.1:%d", maria.port))
	}
	w.write(".ssh/known_hosts", known)
	w.write(".ssh/config", config)
	for n := 1; n <= 3; n++ {
		server := c.at(n + 1)
		var via []string
		for i := 1; i <= n; i++ {
			via = append(via, "--via", c.at(i))
		}
		for _, engine := range []string{"postgres", "mariadb"} {
			name := fmt.Sprintf("%s%d", engine, n)
			w.must(0, append([]string{"add", name, "--engine", engine, "--host", server, "--tls", "off",
				"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW"}, via...)...)
			r := w.report(name)
			if !r.OK || strings.Count(r.Legs[2].Saw, "host key") != n {
				t.Errorf("%s: %+v", name, r.Finding)
				continue
			}
			has(t, w.must(0, "run", name, "select 40 + 2").out, "42")
			// The same hops by the configuration's ProxyJump.
			w.must(0, "test", name, "--via", fmt.Sprintf("jump%d", n))
			w.fails("port.unreachable", name, "--timeout", "2s", "--via", "")
		}
		// A second look goes by the same road: no other leads there.
		f := w.fails("database.missing", fmt.Sprintf("postgres%d", n), "--database", "bunkhous")
		has(t, strings.Join(f.Seen, "\n"), "databases that this user can see: ")
		has(t, tries(f)[0], "--database bunkhouse")
		f = w.fails("greeting.other-engine", fmt.Sprintf("mariadb%d", n), "--port", "5432", "--timeout", "2s")
		has(t, strings.Join(f.Seen, "\n"), "it answers as a PostgreSQL server")
		has(t, tries(f)[0], "--engine postgres")
		doors, cmd, _ := w.held(fmt.Sprintf("postgres%d", n))
		if err := logsIn(doors[0].Port); err != nil {
			t.Errorf("%d hops: %v", n, err)
		}
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
		r := w.must(0, "with", fmt.Sprintf("mariadb%d", n), "--", "sh", "-c", "echo ${GHARBOR_DOOR_PORT:+open}")
		has(t, r.out, "open")
	}
}

// TestASilentLink takes the link to a hop down under 50 connections: within 45 s they end and the
// state shows it, and once the link is back new ones succeed.
func TestASilentLink(t *testing.T) {
	t.Parallel()
	c := newChain(t, 2)
	w := newWorld(t)
	key := jumptest.NewKey(t, filepath.Join(w.home, ".ssh", "id_ed25519"), "ed25519", "")
	sshd := jumptest.StartIn(t, c.names[0], c.at(1), nil)
	sshd.Admit(key.Public)
	w.write(".ssh/known_hosts", sshd.KnownLine("ed25519"))
	c.listen(2, 7777, func(conn net.Conn) { _, _ = io.Copy(conn, conn) })
	w.must(0, "add", "p", "--engine", "postgres", "--host", c.at(2), "--port", "7777", "--user", "u", "--via", c.at(1))
	doors, _, errs := w.held("p", "--pass-through")
	echoes := func() error {
		conn, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", doors[0].Port), time.Second)
		if err != nil {
			return err
		}
		defer conn.Close()
		_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
		_, _ = conn.Write([]byte("hut"))
		_, err = io.ReadFull(conn, make([]byte, 3))
		return err
	}
	must(t, echoes())
	var ended atomic.Int64
	for range 50 {
		conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", doors[0].Port))
		must(t, err)
		t.Cleanup(func() { _ = conn.Close() })
		_, _ = conn.Write([]byte("x"))
		_, _ = io.ReadFull(conn, make([]byte, 1))
		go func() {
			_, _ = conn.Read(make([]byte, 1))
			ended.Add(1)
		}()
	}
	link := c.link("l", 1)
	// The packets are dropped at the far end; here the link stays as it is.
	c.ip("-n", c.names[0], "link", "set", c.link("r", 1), "down")
	began := time.Now()
	for ended.Load() < 50 && time.Since(began) < 45*time.Second {
		time.Sleep(100 * time.Millisecond)
	}
	if ended.Load() < 50 || !strings.Contains(w.must(0, "doors").out, "reconnecting") {
		t.Errorf("%d of 50 ended after %s\n%s\n%s", ended.Load(), time.Since(began), w.must(0, "doors").out, errs)
	}
	t.Logf("50 connections over %s ended after %s", link, time.Since(began).Round(time.Second))
	c.ip("-n", c.names[0], "link", "set", c.link("r", 1), "up")
	if err := echoes(); err != nil {
		time.Sleep(20 * time.Second)
		must(t, echoes())
	}
}
