package main

import (
	"bufio"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"
)

// letIn speaks the least of PostgreSQL's start-up that lets a client in without a question, over
// TLS, and then sends as many bytes as eight bytes say.
func letIn(conn net.Conn, config *tls.Config) {
	head := make([]byte, 8)
	if _, err := io.ReadFull(conn, head); err != nil {
		return
	}
	_, _ = conn.Write([]byte("S"))
	over := tls.Server(conn, config)
	if _, err := io.ReadFull(over, head[:4]); err != nil {
		return
	}
	_, _ = io.CopyN(io.Discard, over, int64(binary.BigEndian.Uint32(head))-4)
	_, _ = over.Write([]byte("R\x00\x00\x00\x08\x00\x00\x00\x00Z\x00\x00\x00\x05I"))
	blast(over)
	_ = over.CloseWrite()
}

// TestPlainCopy is the relay that a door is measured against, in a process of its own: it copies
// to a server over the same TLS, and does nothing else. BENCH_RELAY has the server's address and
// the authority's file.
func TestPlainCopy(t *testing.T) {
	address, ca, relay := strings.Cut(os.Getenv("BENCH_RELAY"), " ")
	if !relay {
		t.Skip("measured by scripts/bench alone")
	}
	pem, err := os.ReadFile(ca)
	must(t, err)
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(pem)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	fmt.Println("RELAY", l.Addr().(*net.TCPAddr).Port)
	for {
		client, err := l.Accept()
		must(t, err)
		go func() {
			defer client.Close()
			server, err := net.Dial("tcp", address)
			if err != nil {
				return
			}
			defer server.Close()
			_, _ = server.Write(binary.BigEndian.AppendUint32([]byte{0, 0, 0, 8}, 80877103))
			_, _ = io.ReadFull(server, make([]byte, 1))
			over := tls.Client(server, &tls.Config{RootCAs: pool, ServerName: "127.0.0.1"})
			go func() { _, _ = io.Copy(over, client) }()
			_, _ = io.Copy(client, over)
		}()
	}
}

// TestBenchDoor measures the bytes through a door that encrypts by itself. scripts/bench runs it.
func TestBenchDoor(t *testing.T) {
	measured(t)
	authority, config := encrypting(t, "127.0.0.1")
	w := newWorld(t)
	ca := w.write("ca.pem", string(authority.PEM))
	port := plainServer(t, func(conn net.Conn) { letIn(conn, config) })
	w.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(port),
		"--user", "u", "--tls", "verify", "--tls-ca", ca)
	d, _, _ := w.open("p")
	relay := exec.Command(os.Args[0], "-test.run", "^TestPlainCopy$", "-test.v", "-test.timeout", "10m")
	relay.Env = append(os.Environ(), fmt.Sprintf("BENCH_RELAY=127.0.0.1:%d %s", port, ca))
	out, err := relay.StdoutPipe()
	must(t, err)
	must(t, relay.Start())
	t.Cleanup(func() { _ = relay.Process.Kill(); _ = relay.Wait() })
	at := 0
	for lines := bufio.NewScanner(out); at == 0 && lines.Scan(); {
		_, _ = fmt.Sscanf(lines.Text(), "RELAY %d", &at)
	}
	const amount = 512 << 20
	fetch := func(port int) func() time.Duration {
		return func() time.Duration {
			return clocked(func() {
				conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
				must(t, err)
				defer conn.Close()
				_, err = conn.Write(binary.BigEndian.AppendUint32([]byte{0, 0, 0, 16}, 3<<16))
				must(t, err)
				_, err = conn.Write([]byte("user\x00u\x00\x00"))
				must(t, err)
				_, err = io.ReadFull(conn, make([]byte, 9+6))
				must(t, err)
				head := binary.BigEndian.AppendUint64(nil, amount)
				head[0] = 'g'
				_, err = conn.Write(head)
				must(t, err)
				if n, err := io.Copy(io.Discard, conn); err != nil || n != amount {
					t.Fatalf("%d bytes, %v", n, err)
				}
			})
		}
	}
	ours, theirs := median(9, fetch(d.Port), fetch(at))
	speed := func(d time.Duration) float64 { return float64(amount) / (1 << 20) / d.Seconds() }
	ratio := speed(ours) / speed(theirs)
	fmt.Printf("| %d MB through a door that encrypts, against a plain copy with the same TLS | %.0f MB/s | %.0f "+
		"MB/s | %.2f | 0.90 |\n",
		amount>>20, speed(ours), speed(theirs), ratio)
	if ratio < 0.9 {
		t.Errorf("a door that encrypts: %.2f", ratio)
	}
}
