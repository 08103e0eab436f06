package discover

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestRunning reads a folder of processes: a server, one that it started for a connection, one of
// a container, and others.
func TestRunning(t *testing.T) {
	proc := t.TempDir()
	put := func(path, text string) {
		t.Helper()
		path = filepath.Join(proc, path)
		must(t, os.MkdirAll(filepath.Dir(path), 0o755))
		must(t, os.WriteFile(path, []byte(text), 0o600))
	}
	process := func(pid, comm, parent, namespaces string) {
		put(pid+"/comm", comm+"\n")
		put(pid+"/status", "Name:\t"+comm+"\nPPid:\t"+parent+"\nUid:\t4242\t0\t0\t0\nNSpid:\t"+namespaces+"\n")
	}
	process("self", "gharbor", "1", "99")
	process("7", "mariadbd", "1", "7")
	process("8", "postgres", "1", "8")
	process("9", "postgres", "8", "9")
	process("10", "postgres", "3", "10\t1") // of a container
	process("11", "bash", "1", "11")
	put("12/comm", "postgres\n") // gone meanwhile
	if got := fmt.Sprint(runningBelow(proc, []string{"postgres"})); got != "[{8 postgres 4242}]" {
		t.Error(got)
	}
	if got := fmt.Sprint(runningBelow(proc, []string{"mysqld", "mariadbd"})); got != "[{7 mariadbd 4242}]" {
		t.Error(got)
	}

	// The sockets: by a usual name, by the program that holds them, and neither.
	must(t, os.MkdirAll(filepath.Join(proc, "7/fd"), 0o755))
	must(t, os.Symlink("socket:[501]", filepath.Join(proc, "7/fd/3")))
	put("net/unix", `Num       RefCount Protocol Flags    Type St Inode Path
ffff0001: 00000002 00000000 00010000 0001 01 501 /srv/huts/warm room
ffff0002: 00000002 00000000 00010000 0001 01 502 /srv/pg/.s.PGSQL.5433
ffff0003: 00000002 00000000 00010000 0001 01 503 /run/docker.sock
ffff0004: 00000002 00000000 00010000 0001 01 504 @/srv/hidden/.s.PGSQL.5432
ffff0005: 00000003 00000000 00000000 0001 03 505 /srv/pg/.s.PGSQL.5434
ffff0006: 00000002 00000000 00010000 0001 01 506
ffff0007: 00000002 00000000 00010000 0001 01 507 relative/mysqld.sock
a line of another kind
`)
	var got []string
	for _, each := range listeningBelow(proc) {
		got = append(got, each.info.Name+" "+each.path)
	}
	if want := []string{"mysql /srv/huts/warm room", "postgres /srv/pg/.s.PGSQL.5433"}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	put("net/unix", strings.Repeat("x", maxTable+10))
	if got := listeningBelow(proc); len(got) > 0 {
		t.Errorf("%v", got)
	}
	if got := listeningBelow(filepath.Join(proc, "none")); len(got) > 0 {
		t.Errorf("%v", got)
	}
}
