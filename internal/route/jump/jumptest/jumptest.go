//go:build unix

// Package jumptest starts real OpenSSH servers and agents for tests.
package jumptest

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

// Server is a real OpenSSH server on 127.0.0.1, started by a test. The account that runs the test
// logs in to it.
type Server struct {
	Port   int
	Dir    string
	User   string
	Keys   map[string]ssh.PublicKey // its host keys, by their types
	lines  []string
	within string // the network namespace that it runs in, "" for the test's own
	host   string // the address that it listens on
	binary string
	cmd    *exec.Cmd
	t      testing.TB
}

// Key is a key pair in files: the private one at Path, the public one beside it.
type Key struct {
	Path   string
	Public ssh.PublicKey
	Signer ssh.Signer
}

// NewKey makes a key of a type ("ed25519", "ecdsa", "rsa") in a file, locked with a passphrase
// where one is given.
func NewKey(t testing.TB, path, kind, passphrase string) Key {
	t.Helper()
	var private crypto.PrivateKey
	var err error
	switch kind {
	case "rsa":
		private, err = rsa.GenerateKey(rand.Reader, 2048)
	case "ecdsa":
		private, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	default:
		_, private, err = ed25519.GenerateKey(rand.Reader)
	}
	check(t, err)
	var block *pem.Block
	if passphrase == "" {
		block, err = ssh.MarshalPrivateKey(private, "made for a test")
	} else {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(private, "made for a test", []byte(passphrase))
	}
	check(t, err)
	check(t, os.MkdirAll(filepath.Dir(path), 0o700))
	check(t, os.WriteFile(path, pem.EncodeToMemory(block), 0o600))
	signer, err := ssh.NewSignerFromKey(private)
	check(t, err)
	check(t, os.WriteFile(path+".pub", ssh.MarshalAuthorizedKey(signer.PublicKey()), 0o644))
	return Key{path, signer.PublicKey(), signer}
}

func check(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// Start starts a server with lines of sshd_config(5) besides its own, and with host keys of some
// types (ed25519 where none is said). It skips the test where OpenSSH is not installed, and fails
// it in CI.
func Start(t testing.TB, lines []string, keys ...string) *Server {
	t.Helper()
	return start(t, "", "127.0.0.1", FreePort(t), lines, keys...)
}

// StartIn is Start for a server at port 22 of an address in a network namespace (ip-netns(8)).
func StartIn(t testing.TB, namespace, host string, lines []string) *Server {
	t.Helper()
	return start(t, namespace, host, 22, lines)
}

func start(t testing.TB, namespace, host string, port int, lines []string, keys ...string) *Server {
	t.Helper()
	binary, err := exec.LookPath("sshd")
	if err != nil {
		binary = "/usr/sbin/sshd"
	}
	if _, err := os.Stat(binary); err != nil {
		if os.Getenv("CI") == "true" {
			t.Fatal("openssh-server is not installed")
		}
		t.Skip("skipped for want of openssh-server")
	}
	if os.Geteuid() == 0 {
		_ = os.MkdirAll("/run/sshd", 0o755) // where it puts its unprivileged part
	}
	me, err := user.Current()
	check(t, err)
	s := &Server{Dir: t.TempDir(), User: me.Username, Keys: map[string]ssh.PublicKey{}, lines: lines,
		within: namespace, host: host, binary: binary, t: t}
	if len(keys) == 0 {
		keys = []string{"ed25519"}
	}
	for _, kind := range keys {
		key := NewKey(t, filepath.Join(s.Dir, "host_"+kind), kind, "")
		s.Keys[kind] = key.Public
		s.lines = append(s.lines, "HostKey "+key.Path)
	}
	s.Port = port
	s.Restart()
	t.Cleanup(s.Stop)
	return s
}

// FreePort gives a port of 127.0.0.1 that nobody listens on.
func FreePort(t testing.TB) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	check(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// Restart starts the server on its port, after [Server.Stop] too.
func (s *Server) Restart() {
	s.t.Helper()
	config := []string{
		fmt.Sprintf("Port %d", s.Port), "ListenAddress " + s.host, "PidFile none", "UsePAM no",
		"StrictModes no", "PermitRootLogin yes", "LogLevel VERBOSE",
		"AuthorizedKeysFile " + s.AuthorizedKeys(), "Subsystem sftp internal-sftp", "UseDNS no",
	}
	path := filepath.Join(s.Dir, "sshd_config")
	// the first value said counts
	check(s.t, os.WriteFile(path, []byte(strings.Join(append(s.lines, config...), "\n")+"\n"), 0o600))
	log, err := os.OpenFile(filepath.Join(s.Dir, "log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	check(s.t, err)
	s.cmd = exec.Command(s.binary, "-D", "-e", "-f", path)
	if s.within != "" {
		s.cmd = exec.Command("ip", "netns", "exec", s.within, s.binary, "-D", "-e", "-f", path)
	}
	s.cmd.Stderr, s.cmd.Stdout = log, log
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	began := strings.Count(s.Log(), "Server listening")
	check(s.t, s.cmd.Start())
	_ = log.Close()
	for range 200 {
		if s.within != "" && strings.Count(s.Log(), "Server listening") > began {
			return
		}
		if conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.Port)); err == nil && s.within == "" {
			_ = conn.Close()
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	s.t.Fatalf("sshd does not answer:\n%s", s.Log())
}

// Stop ends the server and all of its sessions.
func (s *Server) Stop() {
	if s.cmd == nil || s.cmd.Process == nil {
		return
	}
	// They are stopped first, so that none starts another one that would be missed.
	var all []int
	for {
		_ = syscall.Kill(s.cmd.Process.Pid, syscall.SIGSTOP)
		now := append(children(s.cmd.Process.Pid), s.cmd.Process.Pid)
		for _, pid := range now {
			_ = syscall.Kill(pid, syscall.SIGSTOP)
		}
		if len(now) == len(all) {
			break
		}
		all = now
	}
	for _, pid := range all {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	_ = s.cmd.Wait()
	s.cmd = nil
}

// Freeze stops the server's own process until the function that it gives is called: the system
// goes on to accept connections for it.
func (s *Server) Freeze() (thaw func()) {
	_ = syscall.Kill(s.cmd.Process.Pid, syscall.SIGSTOP)
	return func() { _ = syscall.Kill(s.cmd.Process.Pid, syscall.SIGCONT) }
}

// children gives the processes that a process has started, and theirs.
func children(pid int) []int {
	var list []int
	entries, _ := os.ReadDir("/proc")
	for _, each := range entries {
		var child, parent int
		if _, err := fmt.Sscan(each.Name(), &child); err != nil {
			continue
		}
		data, _ := os.ReadFile(filepath.Join("/proc", each.Name(), "stat"))
		if at := strings.LastIndexByte(string(data), ')'); at > 0 {
			var state string
			_, _ = fmt.Sscan(string(data[at+1:]), &state, &parent)
		}
		if parent == pid {
			list = append(append(list, children(child)...), child)
		}
	}
	return list
}

// Log gives what the server wrote.
func (s *Server) Log() string {
	data, _ := os.ReadFile(filepath.Join(s.Dir, "log"))
	return string(data)
}

// AuthorizedKeys is the file of the keys that may log in.
func (s *Server) AuthorizedKeys() string { return filepath.Join(s.Dir, "authorized_keys") }

// Admit lets a key in, with options of authorized_keys before it where they are given.
func (s *Server) Admit(key ssh.PublicKey, options ...string) {
	s.t.Helper()
	line := string(ssh.MarshalAuthorizedKey(key))
	if len(options) > 0 {
		line = strings.Join(options, ",") + " " + line
	}
	file, err := os.OpenFile(s.AuthorizedKeys(), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	check(s.t, err)
	_, err = file.WriteString(line)
	check(s.t, err)
	check(s.t, file.Close())
}

// Forget lets no key in any more.
func (s *Server) Forget() { _ = os.Remove(s.AuthorizedKeys()) }

// KnownLine gives the server's line for a file of known hosts.
func (s *Server) KnownLine(kind string) string {
	if s.Port == 22 {
		return fmt.Sprintf("%s %s", s.host, ssh.MarshalAuthorizedKey(s.Keys[kind]))
	}
	return fmt.Sprintf("[127.0.0.1]:%d %s", s.Port, ssh.MarshalAuthorizedKey(s.Keys[kind]))
}

// CertifyWith gives the server a certificate for its ed25519 key (sshd_config(5),
// HostCertificate), and starts it anew.
func (s *Server) CertifyWith(cert *ssh.Certificate) {
	s.t.Helper()
	path := filepath.Join(s.Dir, "host_ed25519-cert.pub")
	check(s.t, os.WriteFile(path, ssh.MarshalAuthorizedKey(cert), 0o600))
	s.Stop()
	if line := "HostCertificate " + path; !slices.Contains(s.lines, line) {
		s.lines = append(s.lines, line)
	}
	s.Restart()
}

// Agent starts a real ssh-agent, and gives its socket.
func Agent(t testing.TB, keys ...Key) string {
	t.Helper()
	return startAgent(t, false, keys)
}

// AgentThatRefuses is Agent with a person who says no when the agent asks whether it may sign.
func AgentThatRefuses(t testing.TB, keys ...Key) string {
	t.Helper()
	return startAgent(t, true, keys)
}

func startAgent(t testing.TB, refuses bool, keys []Key) string {
	t.Helper()
	binary, err := exec.LookPath("ssh-agent")
	if err != nil {
		t.Skip("skipped for want of ssh-agent")
	}
	dir, err := os.MkdirTemp("", "agent") // a socket's path must be short
	check(t, err)
	socket := filepath.Join(dir, "s")
	cmd := exec.Command(binary, "-D", "-a", socket)
	how := []string{"-q"}
	if refuses {
		how = append(how, "-c")
		cmd.Env = append(os.Environ(), "SSH_ASKPASS=/bin/false", "SSH_ASKPASS_REQUIRE=force", "DISPLAY=:0")
	}
	check(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait(); _ = os.RemoveAll(dir) })
	for range 200 {
		if conn, err := net.Dial("unix", socket); err == nil {
			_ = conn.Close()
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	for _, key := range keys {
		add := exec.Command("ssh-add", append(how, key.Path)...)
		add.Env = append(os.Environ(), "SSH_AUTH_SOCK="+socket)
		if out, err := add.CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	return socket
}
