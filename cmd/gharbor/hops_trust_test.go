//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/route/jump/jumptest"
	"gentle-harbor/internal/standin"
)

// TestAnAgreementShowsEveryProgram has a project's hop reach a ProxyCommand of the user's
// configuration by each way in which a configuration can say it: nothing runs before it was
// agreed to, the agreement shows it as the shell gets it, and a change is asked about.
func TestAnAgreementShowsEveryProgram(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	for name, config := range map[string]string{
		"for all": "ProxyCommand COMMAND\n", "for the host": "Host gate\n  ProxyCommand COMMAND\n",
		"for the account":                 "Match localuser ACCOUNT\n  ProxyCommand COMMAND\n",
		"for the user of the hop":         "Match user ops\n  ProxyCommand COMMAND\n",
		"for the host name":               "Host gate\n  HostName 127.0.0.1\nMatch host 127.0.0.1\n  ProxyCommand COMMAND\n",
		"in a file that a variable names": "Include ${MORE}/proxy\n", "in one of several files": "Include prox*\n",
	} {
		h := newHopped(t, nil, "PW="+canary)
		temp := filepath.Join(h.home, "temporary")
		must(t, os.Mkdir(temp, 0o700))
		h.environ = append(h.environ, "MORE="+filepath.Join(h.home, ".ssh"), "TMPDIR="+temp)
		ran := filepath.Join(h.home, "ran")
		program := h.write("program", "#!/bin/bash\ntouch "+ran+"\nexec 3<>/dev/tcp/$1/$2; cat <&3 & cat >&3\n")
		must(t, os.Chmod(program, 0o755))
		command := program + " %h %p"
		h.write(".ssh/proxy", "ProxyCommand "+command+"\n")
		account := h.sshd.User
		h.write(".ssh/config", fmt.Sprintf("Host gate\n  HostName 127.0.0.1\n  Port %d\n  User %s\nHost *\n",
			h.sshd.Port, account)+strings.NewReplacer("COMMAND", command, "ACCOUNT", account).Replace(config))
		via := "gate"
		if strings.Contains(config, "Match user ops") {
			via = "ops@gate"
		}
		h.write("clone/.gentle-harbor/profiles/p.yaml",
			fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\nuser: warden_app\ndatabase: "+
				"bunkhouse\nsecret: none\nvia: [%s]\n",
				s.Port(), via))
		in := func(args ...string) result {
			t.Helper()
			cmd := h.command(args...)
			cmd.Dir = filepath.Join(h.home, "clone")
			return h.finish(cmd)
		}
		shown := fmt.Sprintf("%s 127.0.0.1 %d", program, h.sshd.Port)
		if r := in("agree", "p"); !strings.Contains(r.out+r.err, shown) {
			t.Errorf("%s: the program is not shown: %s%s", name, r.out, r.err)
		}
		if r := in("test", "p"); r.code != 3 || !strings.Contains(r.out, "settings.not-agreed") {
			t.Errorf("%s: exit %d\n%s%s", name, r.code, r.out, r.err)
		}
		if _, err := os.Stat(ran); err == nil {
			t.Fatalf("%s: it ran before anybody agreed to it", name)
		}
		if r := in("agree", "p", "--yes"); r.code != 0 {
			t.Errorf("%s: %s%s", name, r.out, r.err)
		}
		r := in("test", "p")
		if _, err := os.Stat(ran); err != nil || strings.Contains(r.out, "settings.not-agreed") {
			t.Errorf("%s: agreed to, it does not run: %s%s", name, r.out, r.err)
		}
		if left, err := os.ReadDir(temp); err != nil || len(left) > 0 {
			t.Errorf("%s: %v is left, %v", name, left, err)
		}
		for _, file := range []string{".ssh/config", ".ssh/proxy"} {
			text, err := os.ReadFile(filepath.Join(h.home, file))
			must(t, err)
			h.write(file, strings.ReplaceAll(string(text), " %h %p", " %h %p again"))
		}
		if r := in("test", "p"); r.code != 3 || !strings.Contains(r.out, "settings.not-agreed") {
			t.Errorf("%s: a change is not asked about: exit %d\n%s%s", name, r.code, r.out, r.err)
		}
	}
}

// TestAClonesFileIsNoOption has a project's hop whose user a shell would replace by the names of
// the clone's files, one of which is an option: nothing is started, and the setting is named.
func TestAClonesFileIsNoOption(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil)
	seen := filepath.Join(h.home, "seen")
	program := h.write("program", "#!/bin/sh\nprintf '%s\\n' \"$@\" >>"+seen+"\n")
	must(t, os.Chmod(program, 0o755))
	h.write(".ssh/config", "Host gate\n  HostName 127.0.0.1\n  ProxyCommand "+program+" -l %r %h %p\n")
	h.write("clone/--run=evil", "")
	for _, user := range []string{"*", "-?run=*", "[-]*", "a#b", "~", `a\b`} {
		h.write("clone/.gentle-harbor/profiles/p.yaml",
			fmt.Sprintf("engine: postgres\nhost: db\nuser: warden_app\nsecret: none\nvia: ['%s@gate']\n", user))
		for _, args := range [][]string{{"agree", "p", "--yes"}, {"test", "p"}} {
			cmd := h.command(args...)
			cmd.Dir = filepath.Join(h.home, "clone")
			r := h.finish(cmd)
			if text := r.out + r.err; r.code == 0 || !strings.Contains(text, "user") ||
				strings.HasPrefix(user, "-") == strings.Contains(text, "the hop's user") {
				t.Errorf("%s: %v: exit %d\n%s", user, args, r.code, text)
			}
		}
		if text, err := os.ReadFile(seen); err == nil {
			t.Fatalf("%s: the program was started with %q", user, text)
		}
	}
}

// TestHopsByTheirNames names a hop as a profile says it, by a Host of the SSH configuration, in
// all that is done with its keys; the finding of a changed key names the command that forgets the
// old one, and following it leads to a good test.
func TestHopsByTheirNames(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil, "PW="+canary)
	s := practice(t, standin.Config{Engine: "postgres"})
	h.write(".ssh/config", fmt.Sprintf("Host gate\n  HostName 127.0.0.1\n  Port %d\n", h.sshd.Port))
	h.write(".ssh/known_hosts", "")
	h.wardens("p", "postgres", s, "--via", "gate")
	f := h.fails("tunnel.host-key-unknown", "p")
	if strings.Contains(h.must(5, "test", "p").out, "gharbor change") {
		t.Errorf("a fingerprint is to be kept in the profile: %+v", f.Try)
	}
	print := ssh.FingerprintSHA256(h.sshd.Keys["ed25519"])
	h.must(0, "test", "p", "--accept-host-key", print)
	for _, name := range []string{"gate", h.via, "ops@" + h.via, "{host: gate}"} {
		has(t, h.must(0, "hops", "list", name).out, print)
	}
	has(t, h.must(3, "hops", "list", "other").err, "no key of other")
	h.must(2, "hops", "gate", "--forget", "gate")
	// Another key in its place.
	old := h.sshd.Keys["ed25519"]
	key := jumptest.NewKey(t, filepath.Join(h.sshd.Dir, "host_ed25519"), "ed25519", "")
	h.sshd.Stop()
	h.sshd.Restart()
	f = h.fails("tunnel.host-key-changed", "p")
	var forget []string
	for _, each := range f.Try {
		if _, command, ok := strings.Cut(each.String(), "gharbor hops "); ok {
			forget = strings.Fields("hops " + command)
		}
	}
	if forget == nil || !strings.Contains(strings.Join(f.Seen, " "), ssh.FingerprintSHA256(old)) {
		t.Fatalf("%+v", f)
	}
	h.must(0, forget...)
	h.must(0, "test", "p", "--accept-host-key", ssh.FingerprintSHA256(key.Public))
	// The same for a key of the user's own file, with OpenSSH's command.
	h.must(0, "hops", "forget", "gate")
	h.write(".ssh/known_hosts", fmt.Sprintf("[127.0.0.1]:%d %s", h.sshd.Port, ssh.MarshalAuthorizedKey(old)))
	f = h.fails("tunnel.host-key-changed", "p")
	ran := false
	for _, each := range f.Try {
		if _, command, ok := strings.Cut(each.String(), ": ssh-keygen "); ok {
			ran = true
			if out, err := exec.CommandContext(t.Context(), "sh", "-c", "ssh-keygen "+command).CombinedOutput(); err != nil {
				t.Errorf("%v %s", err, out)
			}
		}
	}
	if !ran {
		t.Errorf("%+v", f.Try)
	}
	h.fails("tunnel.host-key-unknown", "p")
}

// TestKeysOfAnOlderVersion says once that announced keys of an older version are not believed any
// more.
func TestKeysOfAnOlderVersion(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil, "PW="+canary)
	s := practice(t, standin.Config{Engine: "postgres"})
	h.wardens("p", "postgres", s, "--via", h.via)
	line := strings.TrimSpace(h.sshd.KnownLine("ed25519"))
	h.write("gharbor/known-hosts", line+" announced 2026-10-01T00:00:00Z\n")
	has(t, h.must(0, "test", "p").err, "taken out of", "known-hosts (1 of them)")
	if r := h.must(0, "test", "p"); strings.Contains(r.err, "taken out") {
		t.Errorf("it is said again: %s", r.err)
	}
}
