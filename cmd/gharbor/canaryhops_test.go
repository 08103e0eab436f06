//go:build linux

package main

import (
	"encoding/base64"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/route/jump/jumptest"
	"gentle-harbor/internal/standin"
)

// TestCanaryOnTheWay gives a key with a passphrase, a hop's password and a database's password to
// tests, doors and programs that go through hops, good ones and bad, and then looks for all
// three, and for the key, wherever they must not be.
func TestCanaryOnTheWay(t *testing.T) {
	w := newWorld(t)
	temp := t.TempDir()
	w.environ = append(w.environ, "TMPDIR="+temp)
	pg := practice(t, standin.Config{Engine: "postgres"})
	locked := jumptest.NewKey(t, filepath.Join(w.home, ".ssh", "locked"), "ed25519", phrase)
	sshd := jumptest.Start(t, nil)
	sshd.Admit(locked.Public)
	known := sshd.KnownLine("ed25519")
	jumps := map[string]*standin.Jump{}
	for name, config := range map[string]standin.JumpConfig{
		"good": {Passwords: map[string]string{"ops": canary}, Faults: standin.JumpFaults{Banner: "welcome\x1b[2J"}},
		"rude": {Passwords: map[string]string{"ops": "other"},
			Faults: standin.JumpFaults{Banner: "no, " + canary + " is wrong"}},
		"forbid": {Passwords: map[string]string{"ops": canary}, Faults: standin.JumpFaults{Forbid: true}},
		"wrong":  {Passwords: map[string]string{"ops": canary}, Faults: standin.JumpFaults{WrongBytes: true}},
	} {
		j, err := standin.StartJump(config)
		must(t, err)
		t.Cleanup(j.Close)
		jumps[name] = j
		known += fmt.Sprintf("[127.0.0.1]:%d %s", j.Port(), ssh.MarshalAuthorizedKey(j.HostKey()))
	}
	w.write(".ssh/known_hosts", known)
	pw, pp := w.write("pw", canary+"\n"), w.write("phrase", phrase+"\n")
	kept := map[string]bool{pw: true, pp: true, locked.Path: true}
	keyText, err := os.ReadFile(locked.Path)
	must(t, err)
	keyLine := strings.Split(string(keyText), "\n")[2]
	stop := watch()
	clean := func(text string) bool {
		return !strings.Contains(text, canary) && !strings.Contains(text, phrase) && !strings.Contains(text, keyLine)
	}
	printed := ""
	command := func(args ...string) {
		t.Helper()
		r := w.run(args...)
		if !clean(r.out + r.err) {
			t.Errorf("gharbor %s shows a secret:\n%s%s", strings.Join(args, " "), r.out, r.err)
		}
		printed += r.out
	}
	database := []string{"--engine", "postgres", "--host", "localhost", "--port", fmt.Sprint(pg.Port()),
		"--user", "warden_app", "--database", "bunkhouse", "--secret", "file:" + pw}
	for name, hop := range map[string]string{
		"key":    fmt.Sprintf("{host: 127.0.0.1, port: %d, key: %s, secret: 'file:%s'}", sshd.Port, locked.Path, pp),
		"lost":   fmt.Sprintf("{host: 127.0.0.1, port: %d, key: %s, secret: 'file:%s'}", sshd.Port, locked.Path, pw),
		"good":   fmt.Sprintf("{host: 127.0.0.1, port: %d, user: ops, secret: 'file:%s'}", jumps["good"].Port(), pw),
		"rude":   fmt.Sprintf("{host: 127.0.0.1, port: %d, user: ops, secret: 'file:%s'}", jumps["rude"].Port(), pw),
		"forbid": fmt.Sprintf("{host: 127.0.0.1, port: %d, user: ops, secret: 'file:%s'}", jumps["forbid"].Port(), pw),
		"wrong":  fmt.Sprintf("{host: 127.0.0.1, port: %d, user: ops, secret: 'file:%s'}", jumps["wrong"].Port(), pw),
		"kept":   fmt.Sprintf("{host: 127.0.0.1, port: %d, user: ops}", jumps["good"].Port()),
	} {
		command(append([]string{"add", name, "--via", hop}, database...)...)
	}
	command("wallet", "create", "--passphrase-file", pp)
	command("wallet", "add", "--server", fmt.Sprintf("ssh:127.0.0.1:%d", jumps["good"].Port()), "--user", "ops",
		"--secret-file", pw, "--passphrase-file", pp)
	command("wallet", "unattended", "on", "--passphrase-file", pp, "--yes")
	for _, name := range []string{"key", "lost", "good", "rude", "forbid", "wrong", "kept"} {
		for _, args := range [][]string{{"test"}, {"test", "--json"}, {"test", "--as", "junit"},
			{"run", "select name from hut"}, {"survey", "databases"}, {"show"}, {"show", "--json", "--hidden"},
			{"history"}, {"history", "--json"}, {"export", "--as", "uri"}, {"export", "--as", "env"},
			{"await", "--for", "60ms"}} {
			command(append([]string{args[0], name}, args[1:]...)...)
		}
	}
	for _, name := range []string{"key", "good", "kept"} {
		doors, cmd, errs := w.held(name)
		if err := logsIn(doors[0].Port); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		command("doors")
		command("doors", "--json")
		jumps["good"].Drop()
		time.Sleep(100 * time.Millisecond)
		command("doors")
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
		if !clean(errs.String()) {
			t.Errorf("hold %s shows a secret:\n%s", name, errs)
		}
	}
	for _, args := range [][]string{{"hops", "list"}, {"hops", "list", "--json"}, {"list"}, {"list", "--json"},
		{"wallet", "list"}, {"audit"}, {"audit", "--json"}, {"hold", "rude"}, {"hold", "lost"}} {
		command(args...)
	}
	looks, found := stop()
	if len(found) > 0 || looks < 100 {
		t.Errorf("after %d looks, a secret is in %v", looks, found)
	}
	// The program's environment has the secret, by design: it is looked for in every command line
	// alone.
	for _, name := range []string{"key", "good", "rude"} {
		command("with", name, "--", "sh", "-c",
			"cat /proc/*/cmdline | tr '\\0' ' '; test -n \"$DATABASE_URL\" && echo by 'port' $GHARBOR_DOOR_PORT")
	}
	if strings.Count(printed, "by port ") < 2 || !strings.Contains(printed, "You are in") ||
		!strings.Contains(printed, "Greystone") {
		t.Errorf("no command went right:\n%s", printed)
	}
	for _, j := range jumps {
		for _, typed := range j.Typed() {
			if typed != canary {
				t.Error("a hop got another secret than its password")
			}
		}
	}
	for _, folder := range []string{w.home, temp} {
		must(t, filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || !entry.Type().IsRegular() || kept[path] {
				return err
			}
			text, err := os.ReadFile(path)
			if !clean(string(text)) || strings.Contains(string(text), base64.StdEncoding.EncodeToString([]byte(canary))) {
				t.Errorf("%s holds a secret", path)
			}
			return err
		}))
	}
}
