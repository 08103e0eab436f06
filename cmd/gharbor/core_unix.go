//go:build unix

package main

import "syscall"

// noCore keeps a crash from writing the program's memory, and what secrets are in it, to disk.
func noCore() { _ = syscall.Setrlimit(syscall.RLIMIT_CORE, &syscall.Rlimit{}) }
