//go:build unix

package child

import (
	"os"
	"os/exec"
	"os/signal"
	"syscall"

	"golang.org/x/sys/unix"
)

type system struct {
	terminal *os.File // nil where there is none to give
	own      int      // this program's group
}

func (g *Group) apart() { g.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

func (g *Group) front() {
	terminal, err := os.OpenFile("/dev/tty", os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		return
	}
	g.own = unix.Getpgrp()
	if front, err := unix.IoctlGetInt(int(terminal.Fd()), unix.TIOCGPGRP); err != nil || front != g.own {
		_ = terminal.Close()
		return
	}
	g.terminal = terminal
	g.cmd.SysProcAttr.Foreground, g.cmd.SysProcAttr.Ctty = true, int(terminal.Fd())
}

func (g *Group) detach() { g.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }

func (g *Group) start() error { return g.cmd.Start() }

func (g *Group) kill() {
	leader := g.cmd.Process
	_ = syscall.Kill(-leader.Pid, syscall.SIGTERM)
	_ = syscall.Kill(-leader.Pid, syscall.SIGCONT) // one that is stopped ends only when it goes on
	_ = syscall.Kill(-leader.Pid, syscall.SIGKILL)
	_ = leader.Kill() // should it have left its group
}

func (g *Group) close() {
	if g.terminal == nil {
		return
	}
	// A group in the background is stopped when it does this, unless it ignores the signal.
	signal.Ignore(syscall.SIGTTOU)
	_ = unix.IoctlSetPointerInt(int(g.terminal.Fd()), unix.TIOCSPGRP, g.own)
	signal.Reset(syscall.SIGTTOU)
	_ = g.terminal.Close()
}

// Interrupted reports whether a program was ended by Ctrl-C.
func Interrupted(err *exec.ExitError) bool {
	status, ok := err.Sys().(syscall.WaitStatus)
	return ok && status.Signaled() && status.Signal() == syscall.SIGINT
}
