//go:build !unix

package secret

import (
	"os"
	"os/exec"
)

// group stands for a process group where there are none: the program alone is ended.
type group struct{}

func newGroup(*exec.Cmd) *group { return &group{} }

func (*group) kill(leader *os.Process) { _ = leader.Kill() }

func (*group) end() {}

func interrupted(*exec.ExitError) bool { return false }
