//go:build unix

package main

import (
	"fmt"
	"go/ast"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentle-harbor/internal/route/jump/jumptest"
	"gentle-harbor/internal/standin"
)

// TestOnesOwnFilesAreClosed opens each of a user's own files, and each folder above it, to others
// in each way, and runs the commands that go by it: none runs a program, gives a secret or takes
// a setting from a file that others could have written.
func TestOnesOwnFilesAreClosed(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t)
	marker := filepath.Join(w.home, "marker")
	script := w.write("fetch", "#!/bin/sh\ntouch "+marker+"\nprintf %s "+canary+"\n")
	must(t, os.Chmod(script, 0o755))
	at := fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\nuser: warden_app\ndatabase: bunkhouse\n", s.Port())
	home := filepath.Join(w.home, "gharbor")
	build := func() {
		t.Helper()
		must(t, os.RemoveAll(home))
		_ = os.Remove(marker)
		w.write("gharbor/profiles/g/group.yaml", "secret: {command: ["+script+"]}\n")
		w.write("gharbor/profiles/g/p.yaml", at)
		w.write("gharbor/profiles/q.yaml", at+"secret: credentials\n")
		w.write("gharbor/credentials", "# gentle-harbor credentials 1\nat 127.0.0.1\n  warden_app: "+canary+"\n")
		w.must(0, "test", "g/p")
		must(t, os.Remove(marker))
		must(t, os.Chmod(home, 0o700))
	}
	build()
	owner := func(path string) error { return os.Lchown(path, 12345, 12345) }
	others := func(path string) error {
		info, err := os.Stat(path)
		must(t, err)
		return os.Chmod(path, info.Mode().Perm()|0o002)
	}
	group := func(path string) error {
		info, err := os.Stat(path)
		must(t, err)
		must(t, os.Lchown(path, -1, 12345))
		return os.Chmod(path, info.Mode().Perm()|0o020)
	}
	ways := map[string]func(string) error{"others write": others}
	if os.Geteuid() == 0 {
		ways["another's"], ways["a shared group writes"] = owner, group
	}
	for _, c := range []struct {
		name string // below GHARBOR_HOME
		runs [][]string
	}{
		{".", [][]string{{"test", "g/p"}, {"test", "q"}, {"run", "g/p", "select 1"}, {"show", "g/p"},
			{"export", "g/p", "--as", "uri"}, {"change", "g/p", "--note", "x"}, {"add", "n", "--base", "q"}}},
		{"profiles", [][]string{{"test", "g/p"}, {"test", "q"}, {"run", "g/p", "select 1"}, {"add", "n", "--base", "q"}}},
		{"profiles/g", [][]string{{"test", "g/p"}, {"show", "g/p"}}},
		{"profiles/g/group.yaml", [][]string{{"test", "g/p"}, {"run", "g/p", "select 1"}, {"await", "g/p", "--for", "1s"}}},
		{"profiles/g/p.yaml", [][]string{{"test", "g/p"}, {"expect", "g/p"}, {"copy", "g/p", "z"}}},
		{"profiles/q.yaml", [][]string{{"test", "q"}, {"add", "n", "--base", "q", "--test"}}},
		{"credentials", [][]string{{"test", "q"}, {"credentials", "list"}}},
	} {
		for way, open := range ways {
			build()
			path := filepath.Join(home, c.name)
			must(t, open(path))
			for _, args := range c.runs {
				before := len(s.Opened())
				r := w.run(args...)
				if r.code == 0 || !strings.Contains(r.out+r.err, path) ||
					!strings.Contains(r.out+r.err, "chmod") && !strings.Contains(r.out+r.err, "GHARBOR_OWNER=12345") {
					t.Errorf("%s %s, %v: exit %d\n%s%s", c.name, way, args, r.code, r.out, r.err)
				}
				if _, err := os.Stat(marker); err == nil || len(s.Opened()) > before && c.name != "credentials" {
					t.Errorf("%s %s, %v: its program ran, or it was connected", c.name, way, args)
				}
				if strings.Contains(r.out+r.err, canary) {
					t.Errorf("%s %s, %v: the password is shown", c.name, way, args)
				}
			}
			if r := w.run("audit"); r.code == 0 || !strings.Contains(r.out, path) {
				t.Errorf("%s %s: audit does not find it: exit %d\n%s%s", c.name, way, r.code, r.out, r.err)
			}
			if r := w.run("list"); !strings.Contains(r.out, "q ") && c.name != "." && c.name != "profiles" {
				t.Errorf("%s %s: list does not go on: exit %d\n%s%s", c.name, way, r.code, r.out, r.err)
			}
		}
	}
	if os.Geteuid() != 0 {
		return
	}
	// A container's root over a user's mount: all of it is the user's, and one variable says so.
	build()
	must(t, filepath.WalkDir(home, func(path string, _ os.DirEntry, err error) error {
		return os.Lchown(path, 12345, 12345)
	}))
	if r := w.run("test", "g/p"); r.code == 0 || !strings.Contains(r.err+r.out, "GHARBOR_OWNER=12345") {
		t.Errorf("%s%s", r.out, r.err)
	}
	w.environ = append(w.environ, "GHARBOR_OWNER=12345")
	w.must(0, "test", "g/p")
	w.must(0, "test", "q")
	w.must(0, "add", "n", "--base", "q", "--test")
	w.environ = append(w.environ, "GHARBOR_OWNER=nobody-of-that-name")
	if r := w.must(2, "list"); !strings.Contains(r.err, "GHARBOR_OWNER") {
		t.Errorf("%s", r.err)
	}
}

// TestStateIsClosed opens the state folder's files: the history and the agreements are not
// believed, and said to be open.
func TestStateIsClosed(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	w.write("work/.gentle-harbor/profiles/p.yaml",
		fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\nuser: warden_app\ndatabase: bunkhouse\nsecret: env:PW\n",
			s.Port()))
	in := func(args ...string) result {
		t.Helper()
		cmd := w.command(args...)
		cmd.Dir = filepath.Join(w.home, "work")
		return w.finish(cmd)
	}
	if r := in("agree", "p", "--yes"); r.code != 0 {
		t.Fatalf("%s%s", r.out, r.err)
	}
	if r := in("test", "p"); r.code != 0 {
		t.Fatalf("%s%s", r.out, r.err)
	}
	state := filepath.Join(w.home, "gharbor", "state")
	agreements := slices.DeleteFunc(names(t, state), func(name string) bool { return !strings.Contains(name, "agree") })
	if len(agreements) != 1 {
		t.Fatalf("%v", names(t, state))
	}
	for _, name := range []string{agreements[0], "."} {
		path := filepath.Join(state, name)
		info, err := os.Stat(path)
		must(t, err)
		must(t, os.Chmod(path, info.Mode().Perm()|0o002))
		before := len(s.Opened())
		if r := in("test", "p"); r.code == 0 || len(s.Opened()) > before || !strings.Contains(r.out+r.err, path) {
			t.Errorf("%s: agreements that others could have made are believed: exit %d\n%s%s", name, r.code, r.out, r.err)
		}
		must(t, os.Chmod(path, info.Mode().Perm()))
	}
	history := filepath.Join(state, "history")
	for _, name := range append(names(t, history), ".") {
		path := filepath.Join(history, name)
		if strings.HasPrefix(name, ".lock") {
			continue
		}
		info, err := os.Stat(path)
		must(t, err)
		must(t, os.Chmod(path, info.Mode().Perm()|0o002))
		if r := in("history", "p"); r.code == 0 || !strings.Contains(r.out+r.err, path) {
			t.Errorf("%s: exit %d\n%s%s", name, r.code, r.out, r.err)
		}
		must(t, os.Chmod(path, info.Mode().Perm()))
	}
}

func names(t *testing.T, folder string) []string {
	t.Helper()
	entries, err := os.ReadDir(folder)
	must(t, err)
	var list []string
	for _, each := range entries {
		list = append(list, each.Name())
	}
	return list
}

// TestOneOpener holds who reads a file without asking whether it is closed to others: those that
// read what a person names, and what is judged in another way, each with its reason here.
func TestOneOpener(t *testing.T) {
	allowed := map[string]string{
		"internal/files":                       "it is the opener",
		"internal/door/account_linux.go":       "the system's own table of connections",
		"internal/container/listener_linux.go": "the system's own table of connections",
		"internal/agree/agree.go":              "what an agreement's hash covers, or your own certificates",
		"internal/agree/terms.go":              "what an agreement's hash covers",
		"internal/audit/audit.go":              "what is open is what it reports",
		"internal/harbor/edits/editor.go":      "the draft of the editor, in a folder of the run's own",
		"internal/profile/intake.go":           "a service binding that a person names for an import",
		"internal/secret/finder.go":            "the guard of secrets, which asks Closed",
		"internal/secret/keep/wallet":          "a file of the wallet's folder, which the guard of secrets has looked at",
		"internal/demo":                        "the demo's own folder",
		"internal/enginetest":                  "tests",
		"internal/harbor/worldtest":            "tests",
		"internal/cli/demo.go":                 "the new file of demo --settings, which is written",
		"internal/cli/hold.go":                 "what its own process in the background has just written",
		"internal/route/jump/keys.go":          "public keys and certificates; private ones pass the guard of secrets",
		"internal/profile/effective.go":        "the digest of your own certificates, which an alias is bound to",
		"internal/profile/device_unix.go":      "no content",
		"internal/container/compose":           "anybody's Compose files: what they say is shown, and decides nothing",
		"internal/discover/listeners.go":       "what the kernel says of a process",
		"internal/discover/running.go":         "what the kernel says of processes and sockets",
		"internal/cli/load.go":                 "rows that a person names",
		"internal/script/program.go":           "a script that a person names, and what it names in its folder",
		"internal/harbor/find.go":              "anybody's .env file: what it says is shown, and decides nothing",
	}
	reads := map[string][]string{"files": {"Read", "Open", "OpenIn"}, "os": {"ReadFile", "Open", "OpenFile"},
		"ioutil": {"ReadFile"}}
	writes := []string{"internal/files", "internal/checkup/history.go", "internal/harbor/world/files.go",
		"internal/child/child_unix.go", "internal/standin", "internal/engine"}
	seen := 0
	inspect(t, func(path, _ string, parsed *ast.File) {
		path = strings.TrimPrefix(path, "../../")
		ast.Inspect(parsed, func(n ast.Node) bool {
			call, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			pkg, ok := call.X.(*ast.Ident)
			if !ok || !slices.Contains(reads[pkg.Name], call.Sel.Name) {
				return true
			}
			seen++
			known := false
			for prefix := range allowed {
				known = known || strings.HasPrefix(path, prefix)
			}
			if call.Sel.Name == "OpenFile" {
				for _, prefix := range writes {
					known = known || strings.HasPrefix(path, prefix)
				}
			}
			if !known {
				t.Errorf("%s reads with %s.%s: use files.ReadOwn, or say here why not", path, pkg.Name, call.Sel.Name)
			}
			return true
		})
	})
	if seen < 10 {
		t.Errorf("only %d places were seen", seen)
	}
}

// TestAuthoritiesOfTheEnvironment lets SSL_CERT_FILE decide who certifies a server: test says so,
// and audit.
func TestAuthoritiesOfTheEnvironment(t *testing.T) {
	authority, err := standin.NewAuthority("Fellside Huts test authority")
	must(t, err)
	config, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().Add(240*time.Hour), "localhost")
	must(t, err)
	s := practice(t, standin.Config{Engine: "postgres", TLS: config})
	w := newWorld(t, "PW="+canary)
	ca := w.write("ca.pem", string(authority.PEM))
	args := []string{"--engine", "postgres", "--host", "localhost", "--port", fmt.Sprint(s.Port()),
		"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW", "--tls", "verify"}
	w.must(0, append([]string{"add", "p"}, args...)...)
	args = []string{"test", "p"}
	w.fails("tls.not-trusted", "p")
	w.environ = append(w.environ, "SSL_CERT_FILE="+ca)
	if r := w.must(0, args...); !strings.Contains(r.out, "by the authorities of SSL_CERT_FILE="+ca) {
		t.Errorf("%s", r.out)
	}
	if r := w.must(0, "audit"); !strings.Contains(r.out, "SSL_CERT_FILE: decides which authorities certify servers") {
		t.Errorf("%s", r.out)
	}
	if r := w.must(0, "test", "p", "--tls-ca", ca); strings.Contains(r.out, "SSL_CERT_FILE") {
		t.Errorf("the profile's own authority decides: %s", r.out)
	}
	must(t, os.Chmod(ca, 0o666))
	if r := w.run("audit"); r.code == 0 || !strings.Contains(r.out, "chmod go-w "+ca) {
		t.Errorf("%s", r.out)
	}
}

// TestFilesOfOtherAccounts runs the program as another account, whose files of secrets belong to
// root: each is not readable, and none is missing, so that nobody is told to make one.
func TestFilesOfOtherAccounts(t *testing.T) {
	if os.Geteuid() != 0 {
		missing(t, "a second account")
	}
	w := newWorld(t)
	must(t, os.Chmod(w.home, 0o755))
	must(t, os.Chmod(filepath.Dir(w.home), 0o755))
	other := func(path string) string {
		path = filepath.Join(w.home, path)
		must(t, filepath.Walk(path, func(each string, _ os.FileInfo, err error) error {
			if err == nil {
				err = os.Lchown(each, 65534, 65534)
			}
			return err
		}))
		return path
	}
	key := jumptest.NewKey(t, filepath.Join(w.home, "key"), "ed25519", "")
	for _, each := range []struct {
		about, code, says string
		make              func() []string
	}{
		{"a file", "secret.not-readable", "pw is not readable for you", func() []string {
			return []string{"--secret", "file:" + w.write("pw", canary)}
		}},
		{"a file in a closed folder", "secret.not-readable", "shut/pw is not readable for you", func() []string {
			path := w.write("shut/pw", canary)
			must(t, os.Chmod(filepath.Dir(path), 0o700))
			return []string{"--secret", "file:" + path}
		}},
		{"a credential file", "secret.not-readable", "credentials is not readable for you", func() []string {
			w.write("gharbor/credentials", "# gentle-harbor credentials 1\nat 127.0.0.1\n  u: "+canary+"\n")
			return []string{"--secret", "credentials"}
		}},
		{"a wallet", "secret.not-readable", "wallet is not readable for you", func() []string {
			w.write("gharbor/wallet/sealed", "x")
			must(t, os.Chmod(filepath.Join(w.home, "gharbor/wallet"), 0o700))
			return []string{"--secret", "wallet"}
		}},
		{"a hop's key", "tunnel.key-unsafe", "key is not readable for you", func() []string {
			sshd := jumptest.Start(t, nil)
			w.write(".ssh/known_hosts", sshd.KnownLine("ed25519"))
			other(".ssh")
			return []string{"--secret", "none",
				"--via", fmt.Sprintf("{host: 127.0.0.1, port: %d, key: %s}", sshd.Port, key.Path)}
		}},
	} {
		must(t, os.RemoveAll(filepath.Join(w.home, "gharbor")))
		must(t, os.MkdirAll(filepath.Join(w.home, "gharbor"), 0o700))
		other("gharbor")
		args := each.make() // what this makes is root's
		cmd := w.command(append([]string{"test", "postgres://u@127.0.0.1:1/d"}, args...)...)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		r := w.finish(cmd)
		has(t, r.out, each.code, each.says, "ls -ld")
		if strings.Contains(r.out+r.err, "wallet create") || strings.Contains(r.out+r.err, "There is no") ||
			strings.Contains(r.out+r.err, canary) {
			t.Errorf("%s: %s%s", each.about, r.out, r.err)
		}
	}
	w.write("gharbor/profiles/p.yaml", "engine: postgres\n")
	must(t, os.Chmod(filepath.Join(w.home, "gharbor/profiles"), 0o700))
	cmd := w.command("add", "p", "--engine", "postgres", "--host", "h", "--user", "u", "--secret", "none")
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	if r := w.finish(cmd); r.code != 3 || !strings.Contains(r.err, "is not readable for you") {
		t.Errorf("%d %s", r.code, r.err)
	}
}
