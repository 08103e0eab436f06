//go:build unix

package secret

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/shell"
)

// guarded tells why a file of secrets is not safe to use, nil when it is.
func guarded(path string, info fs.FileInfo) *finding.Problem {
	if Mounted(path) {
		return nil
	}
	if owner, ok := ownerOf(info); ok && owner != 0 && owner != os.Geteuid() {
		return &finding.Problem{Code: "secret.file-foreign", Facts: map[string]string{"detail": fmt.Sprintf("%s belongs to another user (id %d), who could read it and change it at any time.", path, owner), "mend": "Look at what is in it, and take it over if it is right: sudo chown " + strconv.Itoa(os.Geteuid()) + " " + shell.Word(path)}}
	}
	if mode := info.Mode().Perm(); mode&0o077 != 0 {
		return &finding.Problem{Code: "secret.file-unsafe", Facts: map[string]string{"detail": fmt.Sprintf("%s has mode %04o: others on this machine can read or change it.", path, mode), "mend": "chmod 600 " + shell.Word(path)}}
	}
	return guardedFolder(filepath.Dir(path), filepath.Base(path))
}

// guardedFolder tells why a folder is not safe to have a file of secrets in it.
func guardedFolder(folder, name string) *finding.Problem {
	info, err := os.Stat(folder)
	if err != nil {
		return nil // what is in it cannot be read either, and that is said then
	}
	if owner, ok := ownerOf(info); ok && owner != 0 && owner != os.Geteuid() {
		return &finding.Problem{Code: "secret.folder-unsafe", Facts: map[string]string{"detail": fmt.Sprintf("The folder %s belongs to another user (id %d), who could put another file in the place of %s.", folder, owner, name), "mend": "sudo chown " + strconv.Itoa(os.Geteuid()) + " " + shell.Word(folder)}}
	}
	if info.Mode().Perm()&0o022 != 0 && info.Mode()&fs.ModeSticky == 0 {
		return &finding.Problem{Code: "secret.folder-unsafe", Facts: map[string]string{"detail": fmt.Sprintf("The folder %s has mode %04o: others could put another file in the place of %s.", folder, info.Mode().Perm(), name), "mend": "chmod go-w " + shell.Word(folder)}}
	}
	return nil
}

// Checked tells whether owner and mode can be checked on this system.
const Checked = true

// Mounted tells whether path lies where a supervisor mounts secrets for a service.
func Mounted(path string) bool {
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

// Foreign tells whether a file belongs to somebody who is neither this user nor root, and to whom.
func Foreign(info fs.FileInfo) (owner int, foreign bool) {
	owner, ok := ownerOf(info)
	return owner, ok && owner != 0 && owner != os.Geteuid()
}

func ownerOf(info fs.FileInfo) (int, bool) {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	return int(stat.Uid), true
}
