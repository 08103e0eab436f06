//go:build unix

package realtest

import (
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"testing"
	"time"
)

var (
	runningMu sync.Mutex
	running   []*exec.Cmd
)

// Stop ends all that Launch started. It is called once, at the end of a test program.
func Stop() {
	runningMu.Lock()
	defer runningMu.Unlock()
	for _, cmd := range running {
		_ = cmd.Process.Signal(syscall.SIGINT)
	}
	for _, cmd := range running {
		done := make(chan struct{})
		go func() { _ = cmd.Wait(); close(done) }()
		select {
		case <-done:
		case <-time.After(5 * time.Second):
			_ = cmd.Process.Kill()
		}
	}
}

// Launch starts a program that writes into a log. It runs until [Stop].
func Launch(t *testing.T, cmd *exec.Cmd, log string) {
	t.Helper()
	file, err := os.Create(log)
	must(t, err)
	defer file.Close()
	cmd.Stdout, cmd.Stderr = file, file
	must(t, cmd.Start())
	runningMu.Lock()
	running = append(running, cmd)
	runningMu.Unlock()
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// Missing skips a test for want of something real; where CI runs, that is a failure.
func Missing(t *testing.T, what string) {
	t.Helper()
	if os.Getenv("CI") == "true" {
		t.Fatalf("%s is missing", what)
	}
	t.Skipf("skipped for want of %s", what)
}

// FreePort gives a port of 127.0.0.1 that was free a moment ago.
func FreePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// Program finds a server's program on the path or where distributions hide it, "" for nowhere.
func Program(name string, places ...string) string {
	if path, err := exec.LookPath(name); err == nil {
		return path
	}
	for _, pattern := range places {
		if found, _ := filepath.Glob(filepath.Join(pattern, name)); len(found) > 0 {
			return found[len(found)-1]
		}
	}
	return ""
}

// As makes a command run as an account, where this process may choose, with little in its
// environment.
func As(account string, cmd *exec.Cmd) *exec.Cmd {
	if who, err := user.Lookup(account); err == nil && os.Geteuid() == 0 {
		uid, _ := strconv.ParseUint(who.Uid, 10, 32)
		gid, _ := strconv.ParseUint(who.Gid, 10, 32)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	}
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C"}
	return cmd
}

// Give makes a folder and all in it an account's, where this process may.
func Give(t *testing.T, account, folder string) {
	t.Helper()
	if os.Geteuid() != 0 {
		return
	}
	if out, err := exec.Command("chown", "-R", account, folder).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
}

// Until waits for a program to be ready, half a minute at most; what says its log is shown else.
func Until(t *testing.T, what, log string, ready func() bool) {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(30 * time.Millisecond) {
		if ready() {
			return
		}
	}
	text, _ := os.ReadFile(log)
	t.Fatalf("%s did not start:\n%s", what, text)
}
