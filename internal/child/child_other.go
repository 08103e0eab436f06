//go:build !unix && !windows

package child

import "os/exec"

type system struct{}

func (g *Group) apart()       {}
func (g *Group) front()       {}
func (g *Group) follow()      {}
func (g *Group) detach()      {}
func (g *Group) start() error { return g.cmd.Start() }
func (g *Group) kill()        { _ = g.cmd.Process.Kill() }
func (g *Group) close()       {}

// Interrupted reports whether a program was ended by Ctrl-C, which is not known here.
func Interrupted(*exec.ExitError) bool { return false }
