//go:build unix

package secret

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// guarded tells why a file of secrets is not safe to use, nil when it is.
func guarded(path string, info fs.FileInfo) *Problem {
	if mounted(path) {
		return nil
	}
	if owner, ok := ownerOf(info); ok && owner != 0 && owner != os.Geteuid() {
		return &Problem{Code: "secret.file-unsafe",
			Detail: fmt.Sprintf("%s belongs to another user (id %d), who could change it at any time.", path, owner),
			Mend:   "sudo chown " + fmt.Sprint(os.Geteuid()) + " " + path}
	}
	if mode := info.Mode().Perm(); mode&0o077 != 0 {
		return &Problem{Code: "secret.file-unsafe",
			Detail: fmt.Sprintf("%s has mode %04o: others on this machine can read or change it.", path, mode),
			Mend:   "chmod 600 " + path}
	}
	folder := filepath.Dir(path)
	if at, err := os.Stat(folder); err == nil && at.Mode().Perm()&0o022 != 0 && at.Mode()&fs.ModeSticky == 0 {
		return &Problem{Code: "secret.file-unsafe",
			Detail: fmt.Sprintf("The folder %s has mode %04o: others could put another file in the place of %s.", folder, at.Mode().Perm(), filepath.Base(path)),
			Mend:   "chmod go-w " + folder}
	}
	return nil
}

// mounted tells whether path lies where a supervisor mounts secrets for a service.
func mounted(path string) bool {
	absolute, err := filepath.Abs(path)
	if err != nil {
		return false
	}
	places := []string{"/run/secrets"}
	if folder := os.Getenv("CREDENTIALS_DIRECTORY"); filepath.IsAbs(folder) {
		places = append(places, filepath.Clean(folder))
	}
	for _, place := range places {
		if strings.HasPrefix(absolute, place+"/") {
			return true
		}
	}
	return false
}

func ownerOf(info fs.FileInfo) (int, bool) {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	return int(stat.Uid), true
}
