package route

import (
	"net"

	"golang.org/x/sys/unix"
)

// peerOf gives the user and the process at the other end of a Unix socket, as the kernel knows
// them (SO_PEERCRED).
func peerOf(conn *net.UnixConn) (uid, pid int, shown bool) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, 0, false
	}
	var who *unix.Ucred
	var failed error
	if err := raw.Control(func(fd uintptr) {
		who, failed = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	}); err != nil ||
		failed != nil {
		return 0, 0, false
	}
	return int(who.Uid), int(who.Pid), true
}
