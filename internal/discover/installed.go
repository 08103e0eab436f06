package discover

import (
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"gentle-harbor/internal/engine"
)

// Server is a database server that is installed on this machine.
type Server struct {
	Proof string // what was found
	Start string // the command that starts it, the way it was installed
}

// Installed looks for servers of a kind that are installed on this machine, and says how each is
// started here. It reads the names of files alone.
func Installed(info engine.Info) []Server {
	if runtime.GOOS == "windows" {
		return nil // services there are not files
	}
	return installedBelow("/", info.Started)
}

// installedBelow is Installed for a file system that begins at a folder.
func installedBelow(root string, dests []engine.Started) []Server {
	var list []Server
	for _, w := range dests {
		if w.Needs != "" {
			if _, err := os.Stat(filepath.Join(root, w.Needs)); err != nil {
				continue
			}
		}
		found, _ := filepath.Glob(filepath.Join(root, w.Found))
		for _, path := range found {
			name := filepath.Base(path)
			name = strings.TrimSuffix(name, ".service")
			if strings.HasSuffix(name, "@") {
				continue // a template of services, not one
			}
			fill := strings.NewReplacer("{name}", name, "{path}", "/"+strings.TrimPrefix(strings.TrimPrefix(path, root), "/"))
			list = append(list, Server{fill.Replace(w.Proof), fill.Replace(w.Start)})
			break
		}
		if len(list) > 0 && strings.Contains(list[len(list)-1].Start, "sudo") {
			break // a service is how it is started here; the program behind it need not be told too
		}
	}
	return list
}
