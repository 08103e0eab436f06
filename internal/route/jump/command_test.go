//go:build unix

package jump

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route/jump/jumptest"
	"gentle-harbor/internal/route/routetest"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// TestTokensNeverMeetAShell puts every byte into each value that a ProxyCommand's tokens stand
// for: what a shell could read as more than a word ends the leg with the setting's name, and what
// is started is one argument, as it was written.
func TestTokensNeverMeetAShell(t *testing.T) {
	home := t.TempDir()
	config := write(t, filepath.Join(home, ".ssh", "config"),
		"Host gate*\n  ProxyCommand printf '[%%s]' %r\nHost h-*\n  ProxyCommand printf '[%%s]' %n\nHost k-*\n  "+
			"HostKeyAlias \"a b\"\n  ProxyCommand printf '[%%s]' %k\n")
	world := World{Home: home, User: "w"}
	passed := 0
	line := func(host, user string) (string, error) {
		a := &attempt{Hop: &Hop{Hop: target.Hop{Host: host, User: user}, Config: Config{User: config, World: world}}}
		must(t, a.aim())
		text, _, err := a.commandLine()
		return text, err
	}
	for b := range 256 {
		for _, user := range []string{string([]byte{byte(b)}) + "x", "x" + string([]byte{byte(b)}),
			"x" + string([]byte{byte(b)}) + "y"} {
			text, err := line("gate", user)
			if err != nil {
				if p, _ := finding.AsProblem(err); p == nil || p.Code != finding.TunnelCommandValue ||
					!strings.Contains(p.Facts[finding.FactDetail], "the hop's user") ||
					p.Facts[finding.FactOrigin] == "" {
					t.Errorf("%q: %v", user, problem(err))
				}
				continue
			}
			passed++
			if out, err := exec.CommandContext(t.Context(), "/bin/sh", "-c",
				"exec "+text).Output(); err != nil || string(out) != "["+user+"]" {
				t.Errorf("%q became %q (%v)", user, out, err)
			}
		}
	}
	if passed < 3*62 || passed > 3*70 {
		t.Errorf("%d users passed", passed)
	}
	for _, user := range []string{"-x", "-"} {
		if _, err := line("gate", user); err == nil {
			t.Errorf("%s is an option", user)
		}
	}
	if _, err := line("k-1", "w"); err == nil || !strings.Contains(problem(err), "HostKeyAlias") {
		t.Errorf("%v", problem(err))
	}
	if text, err := line("h-1", "w"); err != nil || text != "printf '[%s]' h-1" {
		t.Errorf("%s %v", text, err)
	}
}

// TestVariablesAreTheShells leaves variables and ~ of a ProxyCommand to the shell, as OpenSSH does.
func TestVariablesAreTheShells(t *testing.T) {
	home := t.TempDir()
	c := Config{User: write(t, filepath.Join(home, "config"), "ProxyCommand ~/go ${HUT} $HUT %h:%p %%\n"),
		World: World{Home: home, User: "w"}}
	lines, err := c.Commands([]target.Hop{{Host: "gate", Port: 2222}})
	if err != nil || len(lines) != 1 || lines[0] != "~/go ${HUT} $HUT gate:2222 %" {
		t.Errorf("%q %v", lines, err)
	}
}

// TestAProjectsHopRunsNothingOfTheProject has a user's own ProxyCommand that is looked for in the
// current folder, or that takes file names from there: for a project's hop it is not started, or
// starts in an empty folder.
func TestAProjectsHopRunsNothingOfTheProject(t *testing.T) {
	b := newBench(t, nil)
	b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public)
	clone := t.TempDir()
	t.Chdir(clone)
	ran := filepath.Join(t.TempDir(), "ran")
	must(t, os.MkdirAll(filepath.Join(clone, "bin"), 0o700))
	must(t, os.WriteFile(filepath.Join(clone, "bin", "go"), []byte("#!/bin/sh\ntouch "+ran+"\n"), 0o700))
	to := fmt.Sprintf("127.0.0.1:%d", routetest.Echo(t, ""))
	seen := filepath.Join(t.TempDir(), "seen")
	for _, c := range []struct {
		command string
		strange bool
		code    string
	}{
		{"./bin/go %h %p", true, "tunnel.command-relative"},
		{"exec bin/go %h %p", true, "tunnel.command-relative"},
		{"/bin/bash -c 'ls -A . >" + seen + "; pwd >>" + seen + "; echo $PWD >>" + seen +
			"; exec 3<>/dev/tcp/%h/%p; cat <&3 & cat >&3'", true, ""},
	} {
		write(t, filepath.Join(b.home, ".ssh/config"), "ProxyCommand "+c.command+"\n")
		h := b.hop()
		h.Strange, h.Config.World.Dir = c.strange, clone
		code, _, p := b.through(h, nil, to)
		if code != c.code {
			t.Errorf("%s: %q, %v", c.command, code, p)
		}
		if p != nil && p.Facts[finding.FactFile] != filepath.Join(clone, "bin/go") {
			t.Errorf("the whole path is not said: %v", p.Facts)
		}
	}
	if _, err := os.Stat(ran); err == nil {
		t.Error("the project's program ran")
	}
	text, err := os.ReadFile(seen)
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	if err != nil || len(lines) != 2 || lines[0] != lines[1] || strings.Contains(string(text), clone) {
		t.Errorf("it saw %q %v", text, err)
	}
	for range 100 { // the folder goes with the program
		if _, err := os.Stat(lines[0]); err != nil {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Errorf("%s is left", lines[0])
}

// TestCloseWaitsForNoGrandchild has a ProxyCommand whose child leaves its process group and holds
// what it writes to.
func TestCloseWaitsForNoGrandchild(t *testing.T) {
	b := newBench(t, nil)
	b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public)
	pid := filepath.Join(t.TempDir(), "pid")
	write(t, filepath.Join(b.home, ".ssh/config"),
		"ProxyCommand /bin/bash -c 'setsid sleep 30 & echo $! >"+pid+"; exec 3<>/dev/tcp/%h/%p; cat <&3 & cat >&3'\n")
	passed, err := b.hop().Through(t.Context(), nil)
	must(t, err)
	t.Cleanup(func() {
		text, _ := os.ReadFile(pid)
		_ = exec.Command("kill", strings.TrimSpace(string(text))).Run()
	})
	closed := make(chan error, 1)
	began := time.Now()
	go func() { closed <- passed.Close() }()
	select {
	case <-closed:
		if took := time.Since(began); took > 6*time.Second {
			t.Errorf("it took %s", took)
		}
	case <-time.After(10 * time.Second):
		t.Error("it waits for the child's child")
	}
}

// TestAnOldKeyBlocksNothing has an encrypted key of the older form, without its public part, and
// nobody who could be asked: what else there is to log in with is tried, and the finding says
// what was offered.
func TestAnOldKeyBlocksNothing(t *testing.T) {
	b := newBench(t, nil)
	old := filepath.Join(b.home, ".ssh", "id_rsa")
	if out, err := exec.CommandContext(t.Context(), "ssh-keygen", "-q", "-m", "PEM", "-t", "rsa", "-b", "2048",
		"-N", canary, "-f", old).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	public, err := os.ReadFile(old + ".pub")
	must(t, err)
	must(t, os.Remove(old+".pub"))
	code, _, p := b.through(b.hop(), nil, "")
	if code != "tunnel.key-passphrase" || !strings.Contains(p.Facts[finding.FactOffered], "nothing") {
		t.Errorf("alone: %q %v", code, p)
	}
	second := b.key("id_ed25519", "ed25519", "")
	code, _, p = b.through(b.hop(), nil, "")
	if code == "" || !strings.Contains(p.Facts[finding.FactOffered], "id_ed25519") {
		t.Errorf("beside one that is not let in: %q %v", code, p)
	}
	b.sshd.Admit(second.Public)
	if code, saw, p := b.through(b.hop(), nil, ""); code != "" || !strings.Contains(saw, "id_ed25519") {
		t.Errorf("beside a good one: %q %s %v", code, saw, p)
	}
	// Someone who is asked opens it, and it is let in.
	b.sshd.Forget()
	key, _, _, _, err := ssh.ParseAuthorizedKey(public)
	must(t, err)
	b.sshd.Admit(key)
	h := b.hop()
	h.Passphrase = func(context.Context, string, bool) (secret.Secret, error) { return secret.New(canary), nil }
	if code, saw, p := b.through(h, nil, ""); code != "" || !strings.Contains(saw, "id_rsa") {
		t.Errorf("opened: %q %s %v", code, saw, p)
	}
	// Nothing at all is said as such.
	must(t, os.RemoveAll(filepath.Join(b.home, ".ssh")))
	write(t, filepath.Join(b.home, ".ssh/known_hosts"), b.sshd.KnownLine("ed25519"))
	if code, _, p := b.through(b.hop(), nil, ""); code != "tunnel.login-refused" ||
		!strings.Contains(p.Facts[finding.FactOffered], "no key, no agent and no password was found") {
		t.Errorf("nothing: %q %v", code, p)
	}
}

// TestKeysThatTheConfigurationDoesNotAccept offers no key of a type that PubkeyAcceptedAlgorithms
// leaves out.
func TestKeysThatTheConfigurationDoesNotAccept(t *testing.T) {
	b := newBench(t, nil)
	b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public)
	for text, code := range map[string]string{"rsa-sha2-512": "tunnel.login-refused",
		"-ssh-ed25519": "tunnel.login-refused", "ssh-ed25519": "", "ecdsa*,ssh-ed*": ""} {
		write(t, filepath.Join(b.home, ".ssh/config"), "PubkeyAcceptedAlgorithms "+text+"\n")
		if got, _, p := b.through(b.hop(), nil, ""); got != code {
			t.Errorf("%s: %q instead of %q %v", text, got, code, p)
		}
	}
}

// TestNobodyIsAsked has a configuration that forbids questions (BatchMode).
func TestNobodyIsAsked(t *testing.T) {
	b := newBench(t, nil)
	must(t, os.Remove(filepath.Join(b.home, ".ssh/known_hosts")))
	write(t, filepath.Join(b.home, ".ssh/config"), "BatchMode yes\n")
	h := b.hop()
	h.Accept = func(context.Context, HostKey) (bool, error) { t.Error("asked"); return true, nil }
	if code, _, _ := b.through(h, nil, ""); code != "tunnel.host-key-unknown" {
		t.Errorf("%q", code)
	}
}

// TestTheAddressIsChecked holds CheckHostIP: another key that is known for the address, or one
// that is revoked there.
func TestTheAddressIsChecked(t *testing.T) {
	key, other := jumptest.NewKey(t, filepath.Join(t.TempDir(), "k"), "ed25519", "").Public, jumptest.NewKey(t,
		filepath.Join(t.TempDir(), "o"), "ed25519", "").Public
	line := func(marker string, key ssh.PublicKey) []KnownKey { return []KnownKey{{Marker: marker, Key: key}} }
	for name, c := range map[string]struct {
		address []KnownKey
		want    Verdict
	}{"none": {nil, Known}, "the same": {line("", key), Known}, "another": {line("", other), Changed},
		"revoked": {line(markRevoked, key), Revoked}, "another revoked": {line(markRevoked, other), Known}} {
		if got := (trust{theirs: line("", key), address: c.address}).judge(key, time.Now()); got.Verdict != c.want {
			t.Errorf("%s: %d", name, got.Verdict)
		}
	}
	home := t.TempDir()
	config := write(t, filepath.Join(home, ".ssh", "config"),
		"Host gate\n  HostName gate.fellside.example\n  CheckHostIP yes\n")
	write(t, filepath.Join(home, ".ssh", "known_hosts"), Line("192.0.2.7", other, ""))
	a := &attempt{Hop: &Hop{Hop: target.Hop{Host: "gate"},
		Config: Config{User: config, World: World{Home: home, User: "w"}}}}
	must(t, a.decide())
	must(t, a.checkAddress(netip.MustParseAddr("192.0.2.7")))
	if len(a.trust.address) != 1 {
		t.Error("the address is not looked up")
	}
	if err := a.checkAddress(netip.MustParseAddr("127.0.0.1")); err != nil || len(a.trust.address) != 1 {
		t.Error("an address of this machine is")
	}
}

// TestASilentAgent has an agent that takes the connection and says nothing: the finding says so,
// with the time that it was given.
func TestASilentAgent(t *testing.T) {
	b := newBench(t, nil)
	folder, err := os.MkdirTemp("", "agent") // a socket's path is short
	must(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	silent, err := net.Listen("unix", filepath.Join(folder, "s"))
	must(t, err)
	defer silent.Close()
	b.env["SSH_AUTH_SOCK"] = silent.Addr().String()
	h := b.hop()
	h.AskLimit = 100 * time.Millisecond
	code, _, p := b.through(h, nil, "")
	if code != "tunnel.agent-missing" || !strings.Contains(p.Facts[finding.FactDetail], "did not answer within 100ms") {
		t.Errorf("%q: %v", code, p)
	}
}
