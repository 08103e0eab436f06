//go:build darwin || freebsd

package route

import (
	"net"

	"golang.org/x/sys/unix"
)

// solLocal is the level of a Unix socket's own options (SOL_LOCAL in sys/un.h, the same in both
// systems).
const solLocal = 0

// peerOf gives the user at the other end of a Unix socket, as the kernel knows it (LOCAL_PEERCRED).
func peerOf(conn *net.UnixConn) (uid, pid int, shown bool) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, 0, false
	}
	var who *unix.Xucred
	var failed error
	if err := raw.Control(func(fd uintptr) {
		who, failed = unix.GetsockoptXucred(int(fd), solLocal, unix.LOCAL_PEERCRED)
	}); err != nil || failed != nil {
		return 0, 0, false
	}
	return int(who.Uid), 0, true
}
