//go:build !unix

package jump

import "os/exec"

// apart ends a program by itself, where there are no process groups.
func apart(cmd *exec.Cmd) (end func()) {
	return func() {
		if cmd.Process != nil {
			_ = cmd.Process.Kill()
		}
	}
}
