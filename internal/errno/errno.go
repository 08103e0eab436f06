// Package errno says what the error numbers of a system's network and pipes mean. The constants
// of package syscall do not serve for that on every system: on Windows they are made up, and what
// a socket there gives (Winsock's numbers, from 10000) equals none of them.
package errno

import (
	"errors"
	"runtime"
	"syscall"
)

// Kind is what happened, as far as a connection or a pipe is concerned.
type Kind int

// The kinds of failures.
const (
	Other       Kind = iota
	Refused          // nothing listens at the address
	Reset            // the other side broke the connection off
	Unreachable      // no way leads to the address, or this machine has none of its kind
	InUse            // another program listens at the address
	ClosedPipe       // the reader of what is written has gone
	NoFiles          // the process, or the system, may open no further file or connection
)

// byNumber has the numbers whose constants are not those of package syscall, by the system's name
// (runtime.GOOS).
var byNumber = map[string]map[syscall.Errno]Kind{
	"windows": {
		10061: Refused,                           // WSAECONNREFUSED
		10054: Reset, 10053: Reset, 10052: Reset, // WSAECONNRESET, WSAECONNABORTED, WSAENETRESET
		10051: Unreachable, 10065: Unreachable, 10049: Unreachable, // WSAENETUNREACH, WSAEHOSTUNREACH, WSAEADDRNOTAVAIL
		10050: Unreachable, 10047: Unreachable, // WSAENETDOWN, WSAEAFNOSUPPORT
		10024: NoFiles, 4: NoFiles, // WSAEMFILE, ERROR_TOO_MANY_OPEN_FILES
		10048: InUse, // WSAEADDRINUSE
		// ERROR_BROKEN_PIPE, ERROR_NO_DATA, ERROR_PIPE_NOT_CONNECTED, WSAESHUTDOWN
		109: ClosedPipe, 232: ClosedPipe, 233: ClosedPipe, 10058: ClosedPipe,
	},
}

// Of gives what an error means here: the number of the system in it decides, [Other] where there
// is none.
func Of(err error) Kind { return of(runtime.GOOS, err) }

func of(system string, err error) Kind {
	var number syscall.Errno
	if !errors.As(err, &number) {
		return Other
	}
	if kind, known := byNumber[system][number]; known {
		return kind
	}
	switch number {
	case syscall.ECONNREFUSED:
		return Refused
	case syscall.ECONNRESET:
		return Reset
	case syscall.ENETUNREACH, syscall.EHOSTUNREACH, syscall.EADDRNOTAVAIL:
		return Unreachable
	case syscall.EADDRINUSE:
		return InUse
	case syscall.EPIPE:
		return ClosedPipe
	case syscall.EMFILE, syscall.ENFILE:
		return NoFiles
	}
	return Other
}

// Is reports whether an error is of a kind.
func Is(err error, kind Kind) bool { return Of(err) == kind }
