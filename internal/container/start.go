package container

import (
	"os"
	"path/filepath"
	"runtime"
)

// starts are the ways in which container engines are started, by their program; the first whose
// file is here is the one.
var starts = []struct{ program, file, command string }{
	{"docker", "/lib/systemd/system/docker.service", "sudo systemctl start docker"},
	{"docker", "/etc/init.d/docker", "sudo service docker start"},
	{"podman", "/usr/lib/systemd/user/podman.socket", "systemctl --user start podman.socket"},
	{"docker", "/Applications/Docker.app", "open -a Docker"},
	{"docker", "/opt/homebrew/bin/colima", "colima start"},
	{"podman", "/opt/homebrew/bin/podman", "podman machine start"},
	{"docker", "/usr/bin/dockerd", "sudo dockerd"},
	{"docker", "/usr/sbin/dockerd", "sudo dockerd"},
	{"podman", "/usr/bin/podman", "podman system service --time 0"},
}

// Start gives the command by which an engine is started on this machine, by its program ("" for
// any); "" where none is known.
func Start(program string) string {
	for _, each := range starts {
		if program != "" && each.program != program {
			continue
		}
		if filepath.Ext(each.file) == ".service" || filepath.Ext(each.file) == ".socket" {
			if _, err := os.Stat("/run/systemd/system"); err != nil || runtime.GOOS != "linux" {
				continue
			}
		}
		if _, err := os.Stat(each.file); err == nil {
			return each.command
		}
	}
	return ""
}
