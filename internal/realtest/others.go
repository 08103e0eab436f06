//go:build unix

package realtest

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// Built builds a program of other people's from the folder of a module of its own, and gives its
// path. Its first build takes a minute or two; one that does not build within eight is missing.
func Built(t *testing.T, module string) string {
	t.Helper()
	program := filepath.Join(t.TempDir(), filepath.Base(module))
	ctx, cancel := context.WithTimeout(t.Context(), 8*time.Minute)
	defer cancel()
	build := exec.CommandContext(ctx, "go", "build", "-o", program, ".")
	build.Dir, build.Env = module, append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=", "GOWORK=off")
	if out, err := build.CombinedOutput(); err != nil {
		Missing(t, fmt.Sprintf("%s (%v: %s)", filepath.Base(module), err, out))
	}
	return program
}

// Accepts reports whether a port of this machine accepts connections.
func Accepts(port int) bool {
	conn, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), time.Second)
	if err == nil {
		_ = conn.Close()
	}
	return err == nil
}

// Proxy starts haproxy before a server's address, and gives its port. It tries the server twice, for
// 400 ms each, and closes a connection for which there is none.
func Proxy(t *testing.T, server string) (port int) {
	t.Helper()
	balancer := Program("haproxy", "/usr/sbin")
	if balancer == "" {
		Missing(t, "haproxy")
	}
	port = FreePort(t)
	folder := t.TempDir()
	must(t, os.WriteFile(filepath.Join(folder, "cfg"), []byte(fmt.Sprintf("global\n  maxconn 100\ndefaults\n"+
		"  mode tcp\n  retries 2\n  timeout connect 400ms\n  timeout client 30s\n  timeout server 30s\n"+
		"frontend in\n  bind 127.0.0.1:%d\n  default_backend out\nbackend out\n  server one %s\n", port, server)), 0o600))
	log := filepath.Join(folder, "log")
	Launch(t, exec.Command(balancer, "-db", "-f", filepath.Join(folder, "cfg")), log)
	Until(t, "haproxy", log, func() bool { return Accepts(port) })
	return port
}

// Pooler starts a pooler, by the name of its program, before a PostgreSQL server. It pools by mode,
// lends one session of the server's for each user and database, so that what one client leaves
// behind is what the next one finds, and knows some users by their passwords. The database bunkhouse
// is the server's, and down is nowhere; more lines of databases, and of settings, come last and win.
func Pooler(t *testing.T, folder, name string, server int, mode string, users map[string]string,
	databases, settings []string) (port int) {
	t.Helper()
	program := Program(name, "/usr/sbin")
	if program == "" {
		Missing(t, name)
	}
	folder, err := os.MkdirTemp(folder, "pooler")
	must(t, err)
	must(t, os.Chmod(folder, 0o755))
	port = FreePort(t)
	var known strings.Builder
	for user, password := range users {
		fmt.Fprintf(&known, "%q %q\n", user, password)
	}
	must(t, os.WriteFile(filepath.Join(folder, "users"), []byte(known.String()), 0o600))
	must(t, os.WriteFile(filepath.Join(folder, "ini"), []byte(fmt.Sprintf(`[databases]
bunkhouse = host=127.0.0.1 port=%d dbname=bunkhouse
down = host=127.0.0.1 port=%d dbname=bunkhouse
%s
[%s]
listen_addr = 127.0.0.1
listen_port = %d
unix_socket_dir =
auth_type = scram-sha-256
auth_file = %s/users
pool_mode = %s
default_pool_size = 1
server_login_retry = 1
%s
`, server, FreePort(t), strings.Join(databases, "\n"), name, port, folder, mode, strings.Join(settings, "\n"))), 0o600))
	Give(t, "postgres", folder)
	log := filepath.Join(folder, "log")
	Launch(t, As("postgres", exec.Command(program, filepath.Join(folder, "ini"))), log)
	Until(t, name, log, func() bool { return Accepts(port) })
	return port
}
