package main

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
)

// TestProbesAreNotCounted probes a real MariaDB server 300 times from an address that is not
// loopback: it does not block the machine, as it does after a few handshakes that are aborted.
func TestProbesAreNotCounted(t *testing.T) {
	t.Parallel()
	install, daemon := program("mariadb-install-db"), program("mariadbd", "/usr/sbin", "/usr/libexec")
	if install == "" || daemon == "" {
		missing(t, "MariaDB")
	}
	c := newChain(t, 1)
	// The name of the prober, for the server's cache of hosts: ip-netns(8) puts the file instead
	// of /etc/hosts.
	hosts := filepath.Join("/etc/netns", c.names[0])
	must(t, os.MkdirAll(hosts, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(hosts); _ = os.Remove("/etc/netns") }) // the folder itself where it is empty
	must(t, os.WriteFile(filepath.Join(hosts, "hosts"), []byte("127.0.0.1 localhost\n"+c.net+".1.1 prober\n"), 0o644))
	folder, err := os.MkdirTemp("", "gharbor-count")
	must(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	must(t, os.Chmod(folder, 0o755))
	give(t, "mysql", folder)
	data, log := filepath.Join(folder, "data"), filepath.Join(folder, "log")
	if out, err := as("mysql", exec.Command(install, "--no-defaults", "--datadir="+data,
		"--auth-root-authentication-method=normal")).CombinedOutput(); err != nil {
		t.Fatalf("mariadb-install-db: %v\n%s", err, out)
	}
	put(t, filepath.Join(folder, "init.sql"),
		[]byte("create database bunkhouse;\ncreate user warden_app@'%' identified by '"+canary+"';\ngrant all on bunkhouse.* to warden_app@'%';\n"))
	give(t, "mysql", folder)
	cmd := exec.Command("ip", "netns", "exec", c.names[0], daemon,
		"--no-defaults", "--user=mysql", "--datadir="+data,
		"--port=3306", "--bind-address=0.0.0.0", "--socket="+filepath.Join(folder, "s"),
		"--pid-file="+filepath.Join(folder, "pid"),
		"--innodb-flush-log-at-trx-commit=0", "--max-connect-errors=10", "--init-file="+filepath.Join(folder,
			"init.sql"))
	file, err := os.Create(log)
	must(t, err)
	cmd.Stdout, cmd.Stderr = file, file
	must(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		end := time.AfterFunc(5*time.Second, func() { _ = cmd.Process.Kill() })
		_ = cmd.Wait()
		end.Stop()
	})
	w := newWorld(t, "PW="+canary)
	w.must(0, "alias", "add", "m", "--engine", "mariadb", "--address", c.at(1), "--tls", "off")
	w.must(0, "add", "p", "--alias", "m", "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
	until(t, "MariaDB", log, func() bool { return w.run("test", "p").code == 0 })
	has(t, w.must(0, "alias", "probe", "m", "--repeat", "300").out, "300 of 300")
	w.must(0, "test", "p")
	for range 15 {
		conn, err := net.Dial("tcp", c.at(1)+":3306")
		must(t, err)
		_, _ = conn.Read(make([]byte, 200))
		_ = conn.Close()
	}
	f := w.fails("greeting.too-many-failures", "p")
	has(t, fmt.Sprint(f.Cause, f.Seen, f.Try), "flush hosts")
}
