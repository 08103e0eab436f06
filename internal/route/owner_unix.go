//go:build unix

package route

import (
	"os"
	"path/filepath"
	"syscall"
)

// folderOwner gives the owner of the folder of a socket, once links are followed; -1 when it cannot
// be seen.
func folderOwner(path string) int {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return -1
	}
	info, err := os.Stat(filepath.Dir(real))
	if err != nil {
		return -1
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return -1
	}
	return int(stat.Uid)
}
