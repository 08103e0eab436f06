//go:build unix && !linux

package cli

import (
	"os/exec"
	"syscall"
)

// alone starts a program without the terminal, in a session of its own.
func alone(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }

// together can do nothing here: this system has no word for ending a program with its parent.
func together(*exec.Cmd) {}
