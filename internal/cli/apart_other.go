//go:build !unix

package cli

import "os/exec"

// alone can do nothing more where there are no sessions.
func alone(*exec.Cmd) {}

// together can do nothing here.
func together(*exec.Cmd) {}
