package cli

import (
	"os/exec"
	"syscall"
)

// alone starts a program without the terminal, in a session of its own.
func alone(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }

// together ends a program with this one, should this one be killed.
func together(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM} }
