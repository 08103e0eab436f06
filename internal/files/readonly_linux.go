package files

import "syscall"

// ReadOnly reports whether a path is on what is mounted for reading alone (statfs(2), ST_RDONLY).
func ReadOnly(path string) bool {
	var stat syscall.Statfs_t
	return syscall.Statfs(path, &stat) == nil && stat.Flags&1 != 0
}
