package main

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"gentle-harbor/internal/realtest"
)

// TestProbesAreNotCounted probes a real MariaDB server 300 times from an address that is not
// loopback: it does not block the machine, as it does after a few handshakes that are aborted.
func TestProbesAreNotCounted(t *testing.T) {
	t.Parallel()
	c := realtest.NewChain(t, 1)
	// The name of the prober, for the server's cache of hosts: ip-netns(8) puts the file instead
	// of /etc/hosts.
	hosts := filepath.Join("/etc/netns", c.Names[0])
	must(t, os.MkdirAll(hosts, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(hosts); _ = os.Remove("/etc/netns") }) // the folder itself where it is empty
	must(t, os.WriteFile(filepath.Join(hosts, "hosts"), []byte("127.0.0.1 localhost\n"+c.Net+".1.1 prober\n"), 0o644))
	folder, err := os.MkdirTemp("", "gharbor-count")
	must(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	s := realtest.MariaDB(t, folder)
	s.Put(t, "init.sql", "create database bunkhouse;\ncreate user warden_app@'%' identified by '"+canary+
		"';\ngrant all on bunkhouse.* to warden_app@'%';\n")
	cmd := exec.Command("ip", append([]string{"netns", "exec", c.Names[0]}, s.Command("--user=mysql", "--port=3306",
		"--bind-address=0.0.0.0", "--max-connect-errors=10", "--init-file="+s.Data+"/init.sql").Args...)...)
	realtest.Launch(t, cmd, s.Log)
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		end := time.AfterFunc(5*time.Second, func() { _ = cmd.Process.Kill() })
		_ = cmd.Wait()
		end.Stop()
	})
	w := newWorld(t, "PW="+canary)
	w.must(0, "alias", "add", "m", "--engine", "mariadb", "--address", c.At(1), "--tls", "off")
	w.must(0, "add", "p", "--alias", "m", "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
	until(t, "MariaDB", s.Log, func() bool { return w.run("test", "p").code == 0 })
	has(t, w.must(0, "alias", "probe", "m", "--repeat", "300").out, "300 of 300")
	w.must(0, "test", "p")
	for range 15 {
		conn, err := net.Dial("tcp", c.At(1)+":3306")
		must(t, err)
		_, _ = conn.Read(make([]byte, 200))
		_ = conn.Close()
	}
	f := w.fails("greeting.too-many-failures", "p")
	has(t, fmt.Sprint(f.Cause, f.Seen, f.Try), "flush hosts")
}
