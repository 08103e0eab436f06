// Package routetest holds connections to what every [route.Dialer] promises of them, no matter
// what they go through.
package routetest

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"testing"
	"time"

	"golang.org/x/net/nettest"
)

// Pair makes a connection: near is what a dialer gave, far the server's end of it. Stop ends what
// else was made for it.
type Pair func() (near, far net.Conn, stop func(), err error)

// Mate gives the server's end of a connection that was made to a listener. Tests of other
// packages look at all ports of the machine, so what is accepted first may be someone else's.
func Mate(near net.Conn, listener net.Listener) (net.Conn, error) {
	token := fmt.Appendf(nil, "mate %p %d.", near, time.Now().UnixNano())
	if _, err := near.Write(token); err != nil {
		return nil, err
	}
	for {
		far, err := listener.Accept()
		if err != nil {
			return nil, err
		}
		got := make([]byte, len(token))
		_ = far.SetReadDeadline(time.Now().Add(soon))
		if _, err := io.ReadFull(far, got); err == nil && bytes.Equal(got, token) {
			return far, far.SetReadDeadline(time.Time{})
		}
		_ = far.Close()
	}
}

// soon is how long what happens immediately may take on a busy machine.
const soon = 2 * time.Second

// Conform fails where a connection does not keep a promise: those of net.Conn
// (golang.org/x/net/nettest), and that Close ends reads and writes and returns immediately, that
// the end of writing is the other side's end of reading while reading goes on, and that it has
// addresses.
func Conform(t *testing.T, pair Pair) {
	t.Helper()
	t.Run("net.Conn", func(t *testing.T) {
		nettest.TestConn(t, func() (near, far net.Conn, stop func(), err error) { return pair() })
	})
	for name, check := range map[string]func(t *testing.T, near, far net.Conn){
		"CloseEndsARead":    closeEndsARead,
		"CloseEndsAWrite":   closeEndsAWrite,
		"ADeadlineEnds":     aDeadlineEnds,
		"ItGoesOnAfterOne":  itGoesOnAfterOne,
		"TheEndOfWriting":   theEndOfWriting,
		"TheOthersEnd":      theOthersEnd,
		"WrittenAndClosed":  writtenAndClosed,
		"ClosedTwice":       closedTwice,
		"ItHasAddresses":    itHasAddresses,
		"ACopyOfMuch":       aCopyOfMuch,
		"ASlowOtherSide":    aSlowOtherSide,
		"NothingForNothing": nothingForNothing,
	} {
		t.Run(name, func(t *testing.T) {
			near, far, stop, err := pair()
			if err != nil {
				t.Fatal(err)
			}
			defer stop()
			check(t, near, far)
		})
	}
}

// ends waits for work that must end soon.
func ends(t *testing.T, what string, work func() error) error {
	t.Helper()
	done := make(chan error, 1)
	go func() { done <- work() }()
	select {
	case err := <-done:
		return err
	case <-time.After(soon):
		t.Fatalf("%s does not end", what)
		return nil
	}
}

func closeEndsARead(t *testing.T, near, _ net.Conn) {
	begun := make(chan struct{})
	err := ends(t, "a read of a connection that is closed", func() error {
		go func() {
			<-begun
			began := time.Now()
			_ = near.Close()
			if took := time.Since(began); took > soon/4 {
				t.Errorf("Close took %s", took)
			}
		}()
		close(begun)
		_, err := near.Read(make([]byte, 1))
		return err
	})
	if err == nil {
		t.Error("a closed connection was read")
	}
	if _, err := near.Read(make([]byte, 1)); err == nil || isTimeout(err) {
		t.Errorf("a read after Close: %v", err)
	}
	if _, err := near.Write([]byte("x")); err == nil || isTimeout(err) {
		t.Errorf("a write after Close: %v", err)
	}
}

func closeEndsAWrite(t *testing.T, near, _ net.Conn) {
	full := make(chan struct{}, 1)
	err := ends(t, "a write to one who does not read, on a connection that is closed", func() error {
		go func() {
			<-full
			_ = near.Close()
		}()
		block := make([]byte, 1<<20)
		for sent := 0; ; {
			_ = near.SetWriteDeadline(time.Now().Add(soon / 8))
			n, err := near.Write(block)
			if sent += n; err == nil && sent < 1<<30 {
				continue
			}
			if !isTimeout(err) {
				return err
			}
			_ = near.SetWriteDeadline(time.Time{})
			full <- struct{}{} // nothing more goes out now, or little on a busy machine
			for err = nil; err == nil; {
				_, err = near.Write(block)
			}
			return err
		}
	})
	if err == nil || isTimeout(err) {
		t.Errorf("the write ended with %v", err)
	}
}

func aDeadlineEnds(t *testing.T, near, far net.Conn) {
	for about, set := range map[string]func(time.Time) error{"both": near.SetDeadline, "reading": near.SetReadDeadline} {
		if err := set(time.Now().Add(20 * time.Millisecond)); err != nil {
			t.Fatalf("%s: %v", about, err)
		}
		err := ends(t, "a read with a deadline", func() error { _, err := near.Read(make([]byte, 1)); return err })
		if !isTimeout(err) {
			t.Errorf("%s: %v", about, err)
		}
		_ = set(time.Time{})
	}
	// One that is set while a read waits.
	waits := make(chan struct{})
	err := ends(t, "a read whose deadline is set meanwhile", func() error {
		go func() {
			<-waits
			_ = near.SetReadDeadline(time.Unix(1, 0))
		}()
		close(waits)
		_, err := near.Read(make([]byte, 1))
		return err
	})
	if !isTimeout(err) {
		t.Errorf("set meanwhile: %v", err)
	}
	_ = far
}

func itGoesOnAfterOne(t *testing.T, near, far net.Conn) {
	_ = near.SetReadDeadline(time.Unix(1, 0))
	if _, err := near.Read(make([]byte, 1)); !isTimeout(err) {
		t.Errorf("%v", err)
	}
	_ = near.SetReadDeadline(time.Time{})
	if _, err := far.Write([]byte("hut")); err != nil {
		t.Fatal(err)
	}
	got := make([]byte, 3)
	if err := ends(t, "a read after a deadline", func() error {
		_, err := io.ReadFull(near, got)
		return err
	}); err != nil || string(got) != "hut" {
		t.Errorf("%q, %v", got, err)
	}
}

func theEndOfWriting(t *testing.T, near, far net.Conn) {
	half, can := near.(interface{ CloseWrite() error })
	if !can {
		t.Fatal("it has no CloseWrite")
	}
	if _, err := near.Write([]byte("all of it")); err != nil {
		t.Fatal(err)
	}
	if err := half.CloseWrite(); err != nil {
		t.Fatal(err)
	}
	var got []byte
	if err := ends(t, "the other side's read", func() (err error) {
		got, err = io.ReadAll(far)
		return err
	}); err != nil || string(got) != "all of it" {
		t.Errorf("%q, %v", got, err)
	}
	if _, err := far.Write([]byte("an answer")); err != nil {
		t.Fatalf("the other side may not answer: %v", err)
	}
	_ = far.Close()
	if err := ends(t, "the read of an answer", func() (err error) {
		got, err = io.ReadAll(near)
		return err
	}); err != nil || string(got) != "an answer" {
		t.Errorf("%q, %v", got, err)
	}
	if _, err := near.Write([]byte("x")); err == nil {
		t.Error("more was written after the end of writing")
	}
}

func theOthersEnd(t *testing.T, near, far net.Conn) {
	if _, err := far.Write([]byte("the last words")); err != nil {
		t.Fatal(err)
	}
	_ = far.Close()
	var got []byte
	if err := ends(t, "a read of what the other side has ended", func() (err error) {
		got, err = io.ReadAll(near)
		return err
	}); err != nil || string(got) != "the last words" {
		t.Errorf("%q, %v", got, err)
	}
}

func writtenAndClosed(t *testing.T, near, far net.Conn) {
	if _, err := near.Write([]byte("goodbye")); err != nil {
		t.Fatal(err)
	}
	_ = near.Close()
	var got []byte
	if err := ends(t, "the other side's read after Close", func() (err error) {
		got, err = io.ReadAll(far)
		return err
	}); string(got) != "goodbye" {
		t.Errorf("%q, %v", got, err)
	}
}

func closedTwice(t *testing.T, near, _ net.Conn) {
	_ = near.Close()
	_ = ends(t, "a second Close", func() error { _ = near.Close(); return nil })
}

func itHasAddresses(t *testing.T, near, _ net.Conn) {
	for _, addr := range []net.Addr{near.LocalAddr(), near.RemoteAddr()} {
		if addr == nil || addr.Network() == "" || addr.String() == "" && addr.Network() != "unix" {
			t.Errorf("an address is %v", addr)
		}
	}
}

func aCopyOfMuch(t *testing.T, near, far net.Conn) {
	const size = 8 << 20
	go func() { _, _ = io.Copy(far, far) }()
	go func() { _, _ = io.CopyN(near, zeros{}, size) }()
	_ = near.SetReadDeadline(time.Now().Add(20 * soon))
	n, err := io.CopyN(io.Discard, near, size)
	if err != nil || n != size {
		t.Errorf("%d bytes came back: %v", n, err)
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

func aSlowOtherSide(t *testing.T, near, far net.Conn) {
	go func() {
		for _, b := range []byte("slowly") {
			_, _ = far.Write([]byte{b})
		}
	}()
	got := make([]byte, 6)
	if err := ends(t, "a read byte by byte", func() error {
		_, err := io.ReadFull(near, got)
		return err
	}); err != nil || string(got) != "slowly" {
		t.Errorf("%q, %v", got, err)
	}
}

func nothingForNothing(t *testing.T, near, _ net.Conn) {
	if n, err := near.Write(nil); n != 0 || err != nil {
		t.Errorf("%d, %v", n, err)
	}
}

// isTimeout reports whether an error is that of a deadline, as net.Conn has it.
func isTimeout(err error) bool {
	var timeout net.Error
	return errors.Is(err, os.ErrDeadlineExceeded) && errors.As(err, &timeout) && timeout.Timeout()
}

// Echo is a server on a port of this machine that says some words to each client and then gives
// back what it gets, until the test ends. It gives its port.
func Echo(t testing.TB, says string) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				_, _ = io.WriteString(conn, says)
				// Copied by hand: between two sockets io.Copy keeps pipes for a while, which look
				// like a leak.
				_, _ = io.Copy(struct{ io.Writer }{conn}, struct{ io.Reader }{conn})
				_ = conn.Close()
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}
