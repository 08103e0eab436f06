package world

import (
	"os"
	"path/filepath"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/route/jump"
)

// SSHConfig gives the account's OpenSSH configuration.
func (w *World) SSHConfig() jump.Config {
	home, _ := w.UserHome()
	account, uid := files.Account()
	host, _ := os.Hostname()
	return jump.Usual(jump.World{System: w.system(), Home: home, User: account, UID: uid, Host: host,
		Dir: w.Folder(), Env: w.Env, Environ: w.Environ})
}

// KnownHosts gives the file of the host keys that were accepted here.
func (w *World) KnownHosts() (string, error) {
	home, err := w.Home()
	return filepath.Join(home, "known-hosts"), err
}
