//go:build unix

package profile

import (
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"strconv"
	"syscall"
)

// trusted tells why a folder could hold what another user put there: it belongs to somebody else than this
// user or root, or others may write to it. The group of which this user is the only member by convention, of
// the user's own name, is no other.
func trusted(info fs.FileInfo) error {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return nil
	}
	if stat.Uid != 0 && int(stat.Uid) != os.Geteuid() {
		return fmt.Errorf("belongs to another user (id %d)", stat.Uid)
	}
	mode := info.Mode().Perm()
	if mode&0o002 != 0 || mode&0o020 != 0 && !ownGroup(stat.Gid) {
		return fmt.Errorf("has mode %04o, so that others can write to it (chmod go-w mends it)", mode)
	}
	return nil
}

func ownGroup(gid uint32) bool {
	if int(gid) != os.Getegid() {
		return false
	}
	me, err := user.Current()
	if err != nil {
		return false
	}
	group, err := user.LookupGroupId(strconv.Itoa(int(gid)))
	return err == nil && group.Name == me.Username
}

// deviceOf gives the file system that a path is on.
func deviceOf(path string) (uint64, bool) {
	info, err := os.Stat(path)
	if err != nil {
		return 0, false
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	return uint64(stat.Dev), true
}
