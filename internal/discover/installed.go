package discover

import (
	"os"
	"path/filepath"
	"runtime"
	"strings"
)

// Server is a database server that is installed on this machine.
type Server struct {
	Proof string // what was found
	Start string // the command that starts it, the way it was installed
}

// way is a way in which servers are installed and started.
type way struct {
	family string // of engine.Info; "" for both
	needs  string // a file or folder that shows that this way is in use; "" for always
	found  string // a pattern of what shows the server
	proof  string // {name} is the found file's name without its ending, {path} the whole
	start  string
}

// ways, the likeliest first.
var ways = []way{
	{"postgres", "/run/systemd/system", "/lib/systemd/system/postgresql*.service", "a system service {name} is installed", "sudo systemctl start {name}"},
	{"mysql", "/run/systemd/system", "/lib/systemd/system/mariadb.service", "a system service {name} is installed", "sudo systemctl start {name}"},
	{"mysql", "/run/systemd/system", "/lib/systemd/system/mysql*.service", "a system service {name} is installed", "sudo systemctl start {name}"},
	{"postgres", "", "/etc/init.d/postgresql", "a service {name} is installed ({path})", "sudo service {name} start"},
	{"mysql", "", "/etc/init.d/mariadb", "a service {name} is installed ({path})", "sudo service {name} start"},
	{"mysql", "", "/etc/init.d/mysql", "a service {name} is installed ({path})", "sudo service {name} start"},
	{"postgres", "", "/opt/homebrew/opt/postgresql*", "the package manager's {name} is installed ({path})", "brew services start {name}"},
	{"postgres", "", "/usr/local/opt/postgresql*", "the package manager's {name} is installed ({path})", "brew services start {name}"},
	{"mysql", "", "/opt/homebrew/opt/m[ya][sr]*", "the package manager's {name} is installed ({path})", "brew services start {name}"},
	{"mysql", "", "/usr/local/opt/m[ya][sr]*", "the package manager's {name} is installed ({path})", "brew services start {name}"},
	{"mysql", "", "/opt/lampp/lampp", "a bundle for web developers is installed ({path})", "sudo {path} startmysql"},
	{"postgres", "", "/usr/lib/postgresql/*/bin/postgres", "the program {path} is installed, to be started by hand", "{path} -D DATA-FOLDER"},
	{"mysql", "", "/usr/sbin/mariadbd", "the program {path} is installed, to be started by hand", "{path} --datadir=DATA-FOLDER"},
	{"mysql", "", "/usr/sbin/mysqld", "the program {path} is installed, to be started by hand", "{path} --datadir=DATA-FOLDER"},
}

// Installed looks for servers of a family that are installed on this machine, and tells how each is started
// here. It reads the names of files alone.
func Installed(family string) []Server {
	if runtime.GOOS == "windows" {
		return nil // services there are not files
	}
	return installedBelow("/", family)
}

// installedBelow is Installed for a file system that begins at a folder.
func installedBelow(root, family string) []Server {
	var list []Server
	for _, w := range ways {
		if w.family != family {
			continue
		}
		if w.needs != "" {
			if _, err := os.Stat(filepath.Join(root, w.needs)); err != nil {
				continue
			}
		}
		found, _ := filepath.Glob(filepath.Join(root, w.found))
		for _, path := range found {
			name := filepath.Base(path)
			name = strings.TrimSuffix(name, ".service")
			if strings.HasSuffix(name, "@") {
				continue // a template of services, not one
			}
			fill := strings.NewReplacer("{name}", name, "{path}", "/"+strings.TrimPrefix(strings.TrimPrefix(path, root), "/"))
			list = append(list, Server{fill.Replace(w.proof), fill.Replace(w.start)})
			break
		}
		if len(list) > 0 && strings.Contains(list[len(list)-1].Start, "sudo") {
			break // a service is how it is started here; the program behind it need not be told too
		}
	}
	return list
}
