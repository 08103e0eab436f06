//go:build unix

package realtest

import (
	"fmt"
	"net"
	"syscall"
	"testing"
	"time"
)

// ClosedPort gives a port at which nothing listens, and that nobody takes before the test ends:
// it is bound.
func ClosedPort(t *testing.T) int {
	t.Helper()
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	must(t, err)
	t.Cleanup(func() { _ = syscall.Close(fd) })
	must(t, syscall.Bind(fd, &syscall.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}))
	at, err := syscall.Getsockname(fd)
	must(t, err)
	return at.(*syscall.SockaddrInet4).Port
}

// SilentPort has a port of an address stay silent, as a firewall would; 0 is one that is free.
func SilentPort(t *testing.T, address [4]byte, port int) int {
	t.Helper()
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = syscall.Close(fd) })
	if err := syscall.Bind(fd, &syscall.SockaddrInet4{Port: port, Addr: address}); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Listen(fd, 0); err != nil {
		t.Fatal(err)
	}
	at, err := syscall.Getsockname(fd)
	must(t, err)
	port = at.(*syscall.SockaddrInet4).Port
	for range 4 {
		if conn, err := net.DialTimeout("tcp", net.JoinHostPort(net.IP(address[:]).String(), fmt.Sprint(port)),
			100*time.Millisecond); err == nil {
			t.Cleanup(func() { _ = conn.Close() })
		}
	}
	return port
}
