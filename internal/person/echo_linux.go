package person

import "golang.org/x/sys/unix"

const termiosGet, termiosSet = unix.TCGETS, unix.TCSETS
