//go:build unix && !linux && !aix && !solaris

package person

import "golang.org/x/sys/unix"

const termiosGet, termiosSet = unix.TIOCGETA, unix.TIOCSETA
