package main

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"gentle-harbor/internal/realtest"
	"gentle-harbor/internal/route/jump/jumptest"
)

// blast serves: eight bytes say how many bytes are to come. Anything else, such as an engine's
// first words, is echoed.
func blast(conn net.Conn) {
	head := make([]byte, 8)
	if _, err := io.ReadFull(conn, head); err != nil {
		return
	}
	if head[0] != 'g' {
		_, _ = conn.Write(head)
		_, _ = io.Copy(conn, conn)
		return
	}
	head[0] = 0
	block := make([]byte, 1<<16)
	for left := int(binary.BigEndian.Uint64(head)); left > 0; left -= len(block) {
		if _, err := conn.Write(block[:min(len(block), left)]); err != nil {
			return
		}
	}
}

// late passes what it reads on after a delay, however much is under way.
func late(to io.Writer, from io.Reader, delay time.Duration) {
	type piece struct {
		at   time.Time
		text []byte
	}
	under := make(chan piece, 1<<14)
	go func() {
		defer close(under)
		for {
			text := make([]byte, 1<<15)
			n, err := from.Read(text)
			if n > 0 {
				under <- piece{time.Now().Add(delay), text[:n]}
			}
			if err != nil {
				return
			}
		}
	}()
	for p := range under {
		time.Sleep(time.Until(p.at))
		if _, err := to.Write(p.text); err != nil {
			return
		}
	}
}

// TestBenchTunnel measures an open door against the stock SSH client's forward to the same server
// through the same hop. The stock client is the measure here, not a part of the product.
// scripts/bench runs it.
func TestBenchTunnel(t *testing.T) {
	measured(t)
	c := realtest.NewChain(t, 2)
	w := newWorld(t)
	key := jumptest.NewKey(t, filepath.Join(w.home, ".ssh", "id_ed25519"), "ed25519", "")
	sshd := jumptest.StartIn(t, c.Names[0], c.At(1), nil)
	sshd.Admit(key.Public)
	c.Listen(2, 7777, blast)
	const delay = 10 * time.Millisecond // each way
	c.Listen(1, 2222, func(conn net.Conn) {
		hop, err := net.Dial("tcp", c.At(1)+":22")
		if err != nil {
			return
		}
		defer hop.Close()
		go late(hop, conn, delay)
		late(conn, hop, delay)
	})
	line := sshd.KnownLine("ed25519")
	known := w.write(".ssh/known_hosts", line+"["+c.At(1)+"]:2222"+line[len(c.At(1)):])
	for _, each := range []struct {
		with  string
		port  int
		bytes int
		tries int
	}{{"", 22, 512 << 20, 101}, {", 20 ms of delay", 2222, 32 << 20, 21}} {
		name := fmt.Sprintf("p%d", each.port)
		w.must(0, "add", name, "--engine", "postgres", "--host", c.At(2), "--port", "7777", "--user", "u",
			"--via", fmt.Sprintf("%s:%d", c.At(1), each.port))
		doors, _, _ := w.held(name, "--pass-through")
		for _, cipher := range []string{"", "aes128-gcm@openssh.com"} {
			with := each.with
			if cipher != "" {
				with += ", the same cipher (" + cipher + ")"
			}
			stock := stockForward(t, c, each.port, key.Path, known, cipher)
			fetch := func(port, bytes int) func() time.Duration {
				return func() time.Duration {
					return clocked(func() {
						conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
						must(t, err)
						defer conn.Close()
						head := binary.BigEndian.AppendUint64(nil, uint64(bytes))
						head[0] = 'g'
						_, err = conn.Write(head)
						must(t, err)
						n, err := io.Copy(io.Discard, conn)
						if err != nil || n != int64(bytes) {
							t.Fatalf("%d bytes, %v", n, err)
						}
					})
				}
			}
			ours, theirs := median(5, fetch(doors[0].Port, each.bytes), fetch(stock, each.bytes))
			speed := func(d time.Duration) float64 { return float64(each.bytes) / (1 << 20) / d.Seconds() }
			ratio := speed(ours) / speed(theirs)
			fmt.Printf("| %d MB through an open door%s | %.0f MB/s | %.0f MB/s | %.2f | %s |\n", each.bytes>>20,
				with, speed(ours), speed(theirs), ratio, map[bool]string{true: "0.90", false: "none"}[cipher == ""])
			if ratio < 0.9 && cipher == "" {
				t.Errorf("throughput%s: %.2f", with, ratio)
			}
			if cipher != "" {
				continue
			}
			ours, theirs = median(each.tries, fetch(doors[0].Port, 1), fetch(stock, 1))
			ratio = float64(ours) / float64(theirs)
			fmt.Printf("| a new connection through an open tunnel%s | %.3f ms | %.3f ms | %.2f | 1.10 |\n",
				with, float64(ours.Microseconds())/1000, float64(theirs.Microseconds())/1000, ratio)
			if ratio > 1.1 {
				t.Errorf("a new connection%s: %.2f", with, ratio)
			}
		}
	}
}

// stockForward starts the stock client's forward to the same server, and gives its port.
func stockForward(t *testing.T, c *realtest.Chain, hop int, key, known, cipher string) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	_ = l.Close()
	args := []string{"-N", "-F", "none", "-i", key, "-o", "UserKnownHostsFile=" + known, "-o", "BatchMode=yes",
		"-p", fmt.Sprint(hop), "-L", fmt.Sprintf("127.0.0.1:%d:%s:7777", port, c.At(2))}
	if cipher != "" {
		args = append(args, "-c", cipher)
	}
	cmd := exec.Command("ssh", append(args, c.At(1))...)
	cmd.Stderr = os.Stderr
	must(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	for range 100 {
		if conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			_ = conn.Close()
			return port
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatal("the stock forward does not start")
	return 0
}
