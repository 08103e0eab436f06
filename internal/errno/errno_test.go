package errno

import (
	"fmt"
	"io"
	"net"
	"os"
	"syscall"
	"testing"
)

// TestOf gives the numbers of each system, as its sockets and pipes have them, wrapped as the
// standard library wraps them.
func TestOf(t *testing.T) {
	here := map[syscall.Errno]Kind{syscall.ECONNREFUSED: Refused, syscall.ECONNRESET: Reset,
		syscall.ENETUNREACH: Unreachable, syscall.EHOSTUNREACH: Unreachable,
		syscall.EADDRNOTAVAIL: Unreachable, syscall.EADDRINUSE: InUse, syscall.EPIPE: ClosedPipe,
		syscall.EMFILE: NoFiles, syscall.ENFILE: NoFiles, syscall.EINVAL: Other}
	for system, numbers := range map[string]map[syscall.Errno]Kind{
		"linux": here, "darwin": here,
		"windows": {10061: Refused, 10054: Reset, 10053: Reset, 10051: Unreachable, 10065: Unreachable,
			10049: Unreachable, 10048: InUse, 109: ClosedPipe, 232: ClosedPipe, 10022: Other, 10024: NoFiles},
	} {
		for number, want := range numbers {
			for _, err := range []error{number,
				&net.OpError{Op: "dial", Err: os.NewSyscallError("connectex", number)},
				fmt.Errorf("at the hop: %w", number)} {
				if got := of(system, err); got != want {
					t.Errorf("%s: %d is of kind %d, and not %d", system, number, got, want)
				}
			}
		}
	}
	if of("linux", syscall.Errno(10061)) != Other || Of(io.EOF) != Other || Of(nil) != Other {
		t.Error("what is no such error has a kind")
	}
}

// TestARealRefusal has this system refuse a connection and an address.
func TestARealRefusal(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := listener.Addr().String()
	if _, err := net.Listen("tcp", address); !Is(err, InUse) {
		t.Errorf("an address that is taken gives %v", err)
	}
	_ = listener.Close()
	if _, err := net.Dial("tcp", address); !Is(err, Refused) {
		t.Errorf("a port at which nothing listens gives %v", err)
	}
}
