//go:build unix

package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"gentle-harbor/internal/standin"
)

// plainServer listens on 127.0.0.1 and lets serve have each connection.
func plainServer(t *testing.T, serve func(net.Conn)) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() { defer conn.Close(); serve(conn) }()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

// processes counts a process's goroutine-free leftovers: its descriptors.
func descriptors(pid int) int {
	entries, _ := os.ReadDir(fmt.Sprintf("/proc/%d/fd", pid))
	return len(entries)
}

// TestDoorUnderLoad kills and restarts the hop, with its session processes, under 50 busy
// connections: the door comes back, new connections succeed, nothing hangs, and nothing is left
// open.
func TestDoorUnderLoad(t *testing.T) {
	h := newHopped(t, nil, "PW="+canary)
	pg := practice(t, standin.Config{Engine: "postgres"})
	h.must(0, "add", "p", "--engine", "postgres", "--host", "localhost", "--port", fmt.Sprint(pg.Port()),
		"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW", "--via", h.via)
	doors, cmd, errs := h.held("p")
	port := doors[0].Port
	must(t, logsIn(port))
	time.Sleep(200 * time.Millisecond)
	before := descriptors(cmd.Process.Pid)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	var good, slow atomic.Int64
	var all sync.WaitGroup
	for range 50 {
		all.Go(func() {
			for ctx.Err() == nil {
				began := time.Now()
				if logsIn(port) == nil {
					good.Add(1)
				} else {
					time.Sleep(20 * time.Millisecond)
				}
				if time.Since(began) > 25*time.Second {
					slow.Add(1)
				}
			}
		})
	}
	for round := range 3 {
		time.Sleep(500 * time.Millisecond)
		h.sshd.Stop()
		time.Sleep(500 * time.Millisecond)
		h.sshd.Restart()
		was := good.Load()
		for range 200 {
			if good.Load() > was+20 {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		if good.Load() <= was+20 {
			t.Fatalf("round %d: new connections do not succeed\n%s", round, errs)
		}
	}
	cancel()
	all.Wait()
	if slow.Load() > 0 || strings.Count(errs.String(), "p: open") < 3 {
		t.Errorf("%d were too slow\n%s", slow.Load(), errs)
	}
	t.Logf("%d logins through the door while its hop was killed three times", good.Load())
	for range 100 {
		if after := descriptors(cmd.Process.Pid); after <= before+3 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if after := descriptors(cmd.Process.Pid); after > before+3 {
		t.Errorf("%d descriptors became %d", before, after)
	}
}

// TestManyAndMuch has 200 connections at the same time, 128 MB (with keys that change every
// 16 MB), a client that is stopped beside one that does not, half-closes, and a client that
// vanishes.
func TestManyAndMuch(t *testing.T) {
	h := newHopped(t, nil, "PW="+canary)
	h.write(".ssh/config", "RekeyLimit 16M\n")
	amount := int64(128 << 20)
	var open, ended atomic.Int64
	// Its answer to the first byte: e echoes, s sends much, t gives the digest of what it gets
	// until the half-close.
	server := plainServer(t, func(conn net.Conn) {
		open.Add(1)
		defer ended.Add(1)
		kind := make([]byte, 1)
		if _, err := io.ReadFull(conn, kind); err != nil {
			return
		}
		switch kind[0] {
		case 's':
			_, _ = io.CopyN(conn, rand.NewChaCha8([32]byte{1}), amount)
		case 't':
			sum := sha256.New()
			_, _ = io.Copy(sum, conn)
			_, _ = conn.Write(sum.Sum(nil))
		default:
			_, _ = io.Copy(conn, conn)
		}
	})
	h.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(server),
		"--user", "u", "--via", h.via)
	doors, _, _ := h.held("p", "--pass-through") // without a secret, the way alone is tested
	dial := func() net.Conn {
		conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", doors[0].Port))
		must(t, err)
		t.Cleanup(func() { _ = conn.Close() })
		return conn
	}
	conns := make([]net.Conn, 200)
	for i := range conns {
		conns[i] = dial()
		_, err := fmt.Fprintf(conns[i], "e%03d", i)
		must(t, err)
	}
	for i, conn := range conns {
		got := make([]byte, 3)
		_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
		if _, err := io.ReadFull(conn, got); err != nil || string(got) != fmt.Sprintf("%03d", i) {
			t.Fatalf("connection %d: %q %v", i, got, err)
		}
	}
	eventually(t, "the door has 200 clients, and no test of another package looks at it", func() bool {
		return strings.Contains(h.must(0, "doors").out, " 200 ")
	})
	for _, conn := range conns {
		_ = conn.Close()
	}
	for range 100 {
		if ended.Load() == open.Load() {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if ended.Load() != open.Load() {
		t.Errorf("%d of %d sessions ended within 2 s of their clients", ended.Load(), open.Load())
	}
	// One is stopped, and does not slow the other.
	still := dial()
	_, err := still.Write([]byte("s"))
	must(t, err)
	conn := dial()
	_, err = conn.Write([]byte("s"))
	must(t, err)
	began := time.Now()
	sum, want := sha256.New(), sha256.New()
	if n, err := io.CopyN(sum, conn, amount); err != nil {
		t.Fatalf("%d bytes, %v", n, err)
	}
	took := time.Since(began)
	_, _ = io.CopyN(want, rand.NewChaCha8([32]byte{1}), amount)
	if !bytes.Equal(sum.Sum(nil), want.Sum(nil)) {
		t.Error("what arrives is not what was sent")
	}
	t.Logf("%d MB in %s, %.0f MB/s", amount>>20, took.Round(time.Millisecond), float64(amount>>20)/took.Seconds())
	_ = still.Close()
	// A half-close passes, and the answer comes after it.
	half := dial()
	_, err = half.Write([]byte("thut"))
	must(t, err)
	must(t, half.(*net.TCPConn).CloseWrite())
	told, err := io.ReadAll(half)
	if digest := sha256.Sum256([]byte("hut")); err != nil || !bytes.Equal(told, digest[:]) {
		t.Errorf("after a half-close: %x %v", told, err)
	}
}

// TestDoorsOfTwo has two homes hold doors on one machine: neither sees the other's, and one's
// socket is not the other's to use.
func TestDoorsOfTwo(t *testing.T) {
	pg := practice(t, standin.Config{Engine: "postgres"})
	var ports []int
	var worlds []*world
	for range 2 {
		w := newWorld(t, "PW="+canary)
		w.wardens("p", "postgres", pg)
		doors, _, _ := w.held("p", "--door-socket")
		worlds = append(worlds, w)
		if info, err := os.Stat(filepath.Dir(doors[0].Socket)); err != nil || info.Mode().Perm() != 0o700 {
			t.Errorf("%v %v", info, err)
		}
		ports = append(ports, doors[0].PID)
	}
	if ports[0] == ports[1] {
		t.Error("one process")
	}
	if os.Geteuid() == 0 {
		records := worlds[0].must(0, "doors", "--json").out
		_, socket, _ := strings.Cut(records, `"socket": "`)
		socket, _, _ = strings.Cut(socket, `"`)
		try := exec.Command("/bin/sh", "-c", `test -e "$0" && echo reached; ls "$(dirname "$0")"`, socket)
		try.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 54321, Gid: 54321}}
		if out, err := try.CombinedOutput(); socket == "" || err == nil || strings.Contains(string(out), "reached") {
			t.Errorf("another account comes near %q: %v %s", socket, err, out)
		}
	}
	has(t, worlds[0].must(0, "release", "--all").out, "Closed 1 door")
	has(t, worlds[1].must(0, "doors").out, "p ", "open")
}

// TestAnIdleDoor goes to its hop through a machine that drops connections on which nothing passes
// for 15 s: the door keeps its own alive.
func TestAnIdleDoor(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil)
	var dropped atomic.Int64
	between := plainServer(t, func(conn net.Conn) {
		hop, err := net.Dial("tcp", h.via)
		if err != nil {
			return
		}
		defer hop.Close()
		var last atomic.Int64
		last.Store(time.Now().UnixNano())
		pass := func(to, from net.Conn) {
			buffer := make([]byte, 1<<15)
			for {
				n, err := from.Read(buffer)
				last.Store(time.Now().UnixNano())
				if _, e := to.Write(buffer[:n]); err != nil || e != nil {
					_, _ = to.Close(), from.Close()
					return
				}
			}
		}
		done := make(chan bool)
		go func() { pass(hop, conn); close(done) }()
		go pass(conn, hop)
		for {
			select {
			case <-done:
				return
			case <-time.After(time.Second):
				if time.Since(time.Unix(0, last.Load())) > 15*time.Second {
					dropped.Add(1)
					return
				}
			}
		}
	})
	server := plainServer(t, func(conn net.Conn) { _, _ = io.Copy(conn, conn) })
	line := h.sshd.KnownLine("ed25519")
	h.write(".ssh/known_hosts", fmt.Sprintf("[127.0.0.1]:%d %s", between, line[strings.Index(line, " ")+1:]))
	h.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(server),
		"--user", "u", "--via", fmt.Sprintf("127.0.0.1:%d", between))
	doors, _, errs := h.held("p", "--pass-through")
	conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", doors[0].Port))
	must(t, err)
	defer conn.Close()
	for _, wait := range []time.Duration{0, 40 * time.Second} {
		time.Sleep(wait)
		_, err = conn.Write([]byte("hut"))
		must(t, err)
		_ = conn.SetReadDeadline(time.Now().Add(5 * time.Second))
		if _, err := io.ReadFull(conn, make([]byte, 3)); err != nil {
			t.Errorf("after %s of silence: %v", wait, err)
		}
	}
	if dropped.Load() > 0 || strings.Contains(errs.String(), "reconnecting") {
		t.Errorf("%d connections were dropped\n%s", dropped.Load(), errs)
	}
}
