package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"gentle-harbor/internal/realtest"
	"gentle-harbor/internal/route/jump/jumptest"
)

// TestBehindOneTwoAndThreeHops tests, holds and runs on real PostgreSQL and MariaDB servers that
// only the last of one, two or three real OpenSSH servers can reach: no other route leads there.
func TestBehindOneTwoAndThreeHops(t *testing.T) {
	t.Parallel()
	pg, maria := realPostgres(t), realMariaDB(t)
	c := realtest.NewChain(t, 4)
	w := newWorld(t, "PW="+canary)
	key := jumptest.NewKey(t, filepath.Join(w.home, ".ssh", "id_ed25519"), "ed25519", "")
	known, config := "", ""
	for n := 1; n <= 3; n++ {
		sshd := jumptest.StartIn(t, c.Names[n-1], c.At(n), nil)
		sshd.Admit(key.Public)
		known += sshd.KnownLine("ed25519")
		config += fmt.Sprintf("Host jump%d\n  HostName %s\n", n, c.At(n))
		if n > 1 {
			config += fmt.Sprintf("  ProxyJump jump%d\n", n-1)
		}
		c.Relay(n+1, 5432, fmt.Sprintf("127.0.0.1:%d", pg.port))
		c.Relay(n+1, 3306, fmt.Sprintf("127.0.0.1:%d", maria.port))
	}
	w.write(".ssh/known_hosts", known)
	w.write(".ssh/config", config)
	for n := 1; n <= 3; n++ {
		server := c.At(n + 1)
		var via []string
		for i := 1; i <= n; i++ {
			via = append(via, "--via", c.At(i))
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
	c := realtest.NewChain(t, 2)
	w := newWorld(t)
	key := jumptest.NewKey(t, filepath.Join(w.home, ".ssh", "id_ed25519"), "ed25519", "")
	sshd := jumptest.StartIn(t, c.Names[0], c.At(1), nil)
	sshd.Admit(key.Public)
	w.write(".ssh/known_hosts", sshd.KnownLine("ed25519"))
	c.Listen(2, 7777, func(conn net.Conn) { _, _ = io.Copy(conn, conn) })
	w.must(0, "add", "p", "--engine", "postgres", "--host", c.At(2), "--port", "7777", "--user", "u", "--via", c.At(1))
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
	link := c.Link("l", 1)
	// The packets are dropped at the far end; here the link stays as it is.
	c.IP("-n", c.Names[0], "link", "set", c.Link("r", 1), "down")
	began := time.Now()
	for ended.Load() < 50 && time.Since(began) < 45*time.Second {
		time.Sleep(100 * time.Millisecond)
	}
	if ended.Load() < 50 || !strings.Contains(w.must(0, "doors").out, "reconnecting") {
		t.Errorf("%d of 50 ended after %s\n%s\n%s", ended.Load(), time.Since(began), w.must(0, "doors").out, errs)
	}
	t.Logf("50 connections over %s ended after %s", link, time.Since(began).Round(time.Second))
	c.IP("-n", c.Names[0], "link", "set", c.Link("r", 1), "up")
	if err := echoes(); err != nil {
		time.Sleep(20 * time.Second)
		must(t, echoes())
	}
}
