//go:build unix

package script

import "syscall"

// pipe makes a named pipe, which nobody writes to.
func pipe(path string) error { return syscall.Mkfifo(path, 0o600) }
