//go:build unix

package jump

import (
	"os/exec"
	"syscall"
)

// apart starts a program in a process group of its own, which end ends as a whole.
func apart(cmd *exec.Cmd) (end func()) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	return func() {
		if cmd.Process != nil {
			_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		}
	}
}
