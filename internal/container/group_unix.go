//go:build unix

package container

import (
	"os"
	"os/user"
	"strconv"
	"strings"
	"syscall"
)

// Group gives the name of the group that may use a unix engine's socket, "" where it is none that
// one could join.
func (e Engine) Group() string {
	path, unix := strings.CutPrefix(e.URL, "unix://")
	info, err := os.Stat(path)
	if !unix || err != nil || info.Mode().Perm()&0o060 != 0o060 {
		return ""
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok || stat.Gid == 0 {
		return ""
	}
	group, err := user.LookupGroupId(strconv.Itoa(int(stat.Gid)))
	if err != nil {
		return ""
	}
	return group.Name
}
