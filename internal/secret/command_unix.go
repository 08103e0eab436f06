//go:build unix

package secret

import (
	"os"
	"os/exec"
	"os/signal"
	"syscall"

	"golang.org/x/sys/unix"
)

// group is the process group of a program. While the program runs, the group is the terminal's foreground, when this
// program's own group was: only then may it read from the terminal.
type group struct {
	terminal *os.File // nil where there is none to give
	own      int      // this program's group
}

func newGroup(cmd *exec.Cmd) *group {
	g := &group{}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	terminal, err := os.OpenFile("/dev/tty", os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		return g
	}
	g.own = unix.Getpgrp()
	if front, err := unix.IoctlGetInt(int(terminal.Fd()), unix.TIOCGPGRP); err != nil || front != g.own {
		_ = terminal.Close()
		return g
	}
	g.terminal = terminal
	cmd.SysProcAttr.Foreground, cmd.SysProcAttr.Ctty = true, int(terminal.Fd())
	return g
}

// kill ends every process of the group.
func (g *group) kill(leader *os.Process) {
	_ = syscall.Kill(-leader.Pid, syscall.SIGTERM)
	_ = syscall.Kill(-leader.Pid, syscall.SIGCONT) // one that is stopped ends only when it goes on
	_ = syscall.Kill(-leader.Pid, syscall.SIGKILL)
	_ = leader.Kill() // should it have left its group
}

// end takes the terminal back.
func (g *group) end() {
	if g.terminal == nil {
		return
	}
	// A group in the background is stopped when it does this, unless it ignores the signal.
	signal.Ignore(syscall.SIGTTOU)
	_ = unix.IoctlSetPointerInt(int(g.terminal.Fd()), unix.TIOCSPGRP, g.own)
	signal.Reset(syscall.SIGTTOU)
	_ = g.terminal.Close()
}

// interrupted reports whether a program was ended by Ctrl-C.
func interrupted(err *exec.ExitError) bool {
	status, ok := err.Sys().(syscall.WaitStatus)
	return ok && status.Signaled() && status.Signal() == syscall.SIGINT
}
