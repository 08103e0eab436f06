// Package child starts other programs so that each of their own children can be ended too, and
// says of each system what that takes: process groups and sessions (POSIX.1-2017, 2.4 and 11.1),
// job objects on Windows.
package child

import "os/exec"

// Group is a program and all the programs that it started.
type Group struct {
	cmd *exec.Cmd
	system
}

// Apart gives a program a group of its own, which [Group.Kill] ends as a whole.
func Apart(cmd *exec.Cmd) *Group {
	g := &Group{cmd: cmd}
	g.apart()
	return g
}

// InFront is Apart with the terminal: while the program runs, its group is in the foreground, if
// this program's was. Only then may it ask a person there.
func InFront(cmd *exec.Cmd) *Group {
	g := Apart(cmd)
	g.front()
	return g
}

// Following has a program end when this one does, also when this one is killed, where the system
// can do that. It stays in this program's group, and gets what a terminal sends.
func Following(cmd *exec.Cmd) *Group {
	g := &Group{cmd: cmd}
	g.follow()
	return g
}

// Detached gives a program no terminal, so that it outlives this one and the window.
func Detached(cmd *exec.Cmd) *Group {
	g := &Group{cmd: cmd}
	g.detach()
	return g
}

// Start starts the program.
func (g *Group) Start() error { return g.start() }

// Kill ends the program and all of its group.
func (g *Group) Kill() {
	if g.cmd.Process != nil {
		g.kill()
	}
}

// Close takes the terminal back, and gives up what the group was held with. It ends nothing on a
// POSIX system; on Windows it ends what is left of the group of Apart, InFront and Following.
func (g *Group) Close() { g.close() }
