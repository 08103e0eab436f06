//go:build darwin || freebsd

package main

import (
	"os"

	"golang.org/x/sys/unix"
)

// echoes reports whether a terminal shows what is typed.
func echoes(terminal *os.File) bool {
	settings, err := unix.IoctlGetTermios(int(terminal.Fd()), unix.TIOCGETA)
	return err != nil || settings.Lflag&unix.ECHO != 0
}
