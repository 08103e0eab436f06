package child

import "syscall"

func (g *Group) follow() { g.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM} }
