//go:build unix

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

	"gentle-harbor/internal/realtest"
	"gentle-harbor/internal/standin"
)

// TestCanary gives a password in every way there is, lets things go right and wrong, and then
// looks for it in everything that was printed and in every file that was left.
func TestCanary(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mysql", "mariadb", "oracle", "mongodb"} {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			canaryAt(t, engine)
		})
	}
}

// canaryAt is TestCanary for one engine.
func canaryAt(t *testing.T, engine string) {
	read, change := "select name from hut", "delete from hut where id = 77"
	if engine == "mongodb" {
		read, change = `{"find": "hut"}`, `{"delete": "hut", "deletes": [{"q": {"_id": 77}, "limit": 1}]}`
	}
	w := newWorld(t, "PW="+canary)
	temp := t.TempDir()
	w.environ = append(w.environ, "TMPDIR="+temp)
	kept := w.write("pw", canary+"\n")
	rows := w.write("rows.csv", "id,name,height,valley\n90,x,high,y\n")
	var printed strings.Builder
	for _, faults := range []standin.Faults{{}, {Locked: true, Echo: true}, {ErrorText: "no", Echo: true},
		{TooMany: true, Echo: true}, {StartingUp: true, Echo: true}, {HangupQuery: true}} {
		s := practice(t, standin.Config{Engine: engine, Faults: faults})
		plain := fmt.Sprintf("%s://warden_app@127.0.0.1:%d/bunkhouse", engine, s.Port())
		holding := fmt.Sprintf("%s://warden_app:%s@127.0.0.1:%d/bunkhouse", engine, canary, s.Port())
		name := "p/" + engine
		for _, c := range []struct {
			stdin string
			args  []string
		}{
			{"", []string{"add", name, plain, "--secret", "env:PW", "--replace"}},
			{"", []string{"add", name, plain, "--secret", "env:PW", "--replace", "--test"}},
			{"", []string{"add", name, plain, "--secret", "file:" + kept, "--replace", "--test"}},
			{holding, []string{"add", name + "-s", "-", "--replace", "--test"}},
			{"", []string{"add", name + "-a", holding, "--replace"}},
			{"", []string{"add", name + "-a", holding, "--replace", "--test"}},
			{"", []string{"test", name}}, {"", []string{"test", name, "--json"}},
			{holding, []string{"test", "-"}}, {holding, []string{"test", "-", "--json"}}, {"", []string{"test", holding}},
			{holding, []string{"test", "-", "--port", "1"}}, {holding, []string{"test", "-", "--tls", "verify"}},
			{holding, []string{"test", "-", "--database", "none"}}, {holding, []string{"test", "-", "--engine", "postgres"}},
			{holding, []string{"run", "-", read}}, {holding, []string{"run", "-", "selec", "--json"}},
			{holding, []string{"run", "-", read, "--guard", "read-only"}},
			{holding, []string{"run", "-", change, "--guard", "confirm",
				"--yes", "--json"}}, {"", []string{"run", "p/", read}},
			{"", []string{"run", "p/", "selec", "--json"}},
			{"", []string{"load", name, "hut", rows}}, {"", []string{"load", name, "hut", rows, "--json"}},
			{"", []string{"load", name, "hutt", rows}},
			{holding, []string{"survey", "-", "databases"}}, {holding, []string{"survey", "-"}},
			{holding, []string{"survey", "-", "tables", "--json"}},
			{holding, []string{"survey", "-", "rights", "--since-last"}},
			{holding, []string{"survey", "-", "table", "hut", "--json"}},
			{holding, []string{"survey", "-", "users"}}, {holding + "x/y@z", []string{"test", "-"}},
			{"", []string{"test", name, "--secret", canary}},
			{"", []string{"test", name, "--password", canary}},
			{"", []string{"test", name, "--password=" + canary}},
			{"", []string{"test", name, "--port", canary}}, {"", []string{"test", "postgres://a:" + canary + "@b:" + canary}},
			{"", []string{"test", name, "--as", "junit"}}, {"", []string{"test", "p/", "--as", "html"}},
			{holding, []string{"test", "-", "--as", "html"}},
			{"", []string{"history", name, "--as", "html"}},
			{"", []string{"test", "p/", "--as", "tap"}}, {"", []string{"test", name, "--repeat", "2"}},
			{"", []string{"await", name, "--for", "150ms", "--every", "50ms"}},
			{"", []string{"history", name}}, {"", []string{"history", name, "--json"}},
			{"", []string{"expect", name}}, {"", []string{"change", name, "--secret", canary}},
			{"", []string{"copy", name, name + "-c", "--replace"}},
			{"", []string{"export", name, "--as", "uri"}}, {"", []string{"export", name, "--as", "env"}},
			{"", []string{"export", name, "--as", "json"}},
			{holding, []string{"import", name + "-i", "-", "--replace"}},
			{"Host: h\nUser: u\nEngine: mysql\nPassword: " + canary,
				[]string{"import", name + "-l", "-", "--replace"}},
			{"X_HOST=h\nX_USER=u\nX_PASSWORD=" + canary + "\nX_TYPE=mysql\n",
				[]string{"import", name + "-v", "-", "--replace"}},
			{"", []string{"alias", "add", "a", "--address", "u:" + canary + "@h:1"}},
			{"", []string{"alias", "add", "a", "--address", holding}},
			{"", []string{"alias", "add", "a", "--address", "h:" + canary}},
			{`{"aliases_version":1,"aliases":{"a":{"addresses":["` + holding + `"],"password":"` + canary +
				`"}}}`, []string{"alias", "import", "-"}}, {holding, []string{"alias", "import", "-"}},
			{"", []string{"list"}}, {"", []string{"list", "--json"}}, {"", []string{"show", name}},
			{"", []string{"show", name + "-a", "--json"}},
		} {
			w.stdin = c.stdin
			r := w.run(c.args...)
			if strings.Contains(r.out+r.err, canary) && !strings.Contains(strings.Join(c.args, " "), "--port "+canary) {
				t.Errorf("%s %+v: gharbor %s shows the password:\n%s%s", engine, faults,
					strings.ReplaceAll(strings.Join(c.args, " "), canary, "CANARY"), r.out, r.err)
			}
			printed.WriteString(r.out)
		}
	}
	if !strings.Contains(printed.String(), "You are in") || !strings.Contains(printed.String(), "Greystone") {
		t.Error("no command went right")
	}
	for _, folder := range []string{w.home, temp} {
		err := filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || path == kept {
				return err
			}
			text, err := os.ReadFile(path)
			if strings.Contains(string(text), canary) {
				t.Errorf("%s holds the password", path)
			}
			return err
		})
		if err != nil {
			t.Error(err)
		}
	}
}

// watchIn looks for the canaries in the processes of one world, and watch in all.
func watchIn(folder string) (stop func() (looks int, found []string)) {
	return realtest.Watch(folder, map[string]string{canary: "CANARY", phrase: "PHRASE"})
}

func watch() (stop func() (looks int, found []string)) { return watchIn("") }

// TestCanaryInEveryPlace keeps a password in each place there is, puts it through every command,
// lets things go right and wrong and be killed, and then looks for it wherever it must not be.
func TestCanaryInEveryPlace(t *testing.T) {
	address := desktop(t)
	w := newWorld(t, "DBUS_SESSION_BUS_ADDRESS="+address)
	temp := t.TempDir()
	w.environ = append(w.environ, "TMPDIR="+temp)
	good := practice(t, standin.Config{Engine: "postgres"})
	rude := practice(t, standin.Config{Engine: "mariadb", Faults: standin.Faults{ErrorText: "no", Echo: true}})
	clear := practice(t, standin.Config{Engine: "postgres", Faults: standin.Faults{AskClear: true, Echo: true}})
	pw, pp := w.write("pw", canary+"\n"), w.write("phrase", phrase+"\n")
	fresh := w.write("fresh", phrase+" anew")
	program := w.write("keeper", "#!/bin/sh\nsleep 0.02\ncat "+pw+"\n")
	must(t, os.Chmod(program, 0o700))
	kept := map[string]bool{pw: true, pp: true, fresh: true, filepath.Join(w.home, "gharbor/credentials"): true,
		filepath.Join(w.home, "absorb"): true}
	stop := watch()
	command := func(stdin string, args ...string) {
		t.Helper()
		w.stdin = stdin
		r := w.run(args...)
		if strings.Contains(r.out+r.err, canary) || strings.Contains(r.out+r.err, phrase) {
			t.Errorf("gharbor %s shows a secret:\n%s%s", strings.Join(args, " "), r.out, r.err)
		}
	}
	at := func(s *standin.Server) string { return fmt.Sprintf("127.0.0.1:%d", s.Port()) }
	for name, s := range map[string]*standin.Server{"good": good, "rude": rude, "clear": clear} {
		scheme := map[bool]string{true: "mariadb", false: "postgres"}[s == rude]
		command("", "add", "p/"+name, scheme+"://warden_app@"+at(s)+"/bunkhouse")
	}
	command("", "wallet", "create", "--passphrase-file", pp)
	command(canary, "wallet", "add", "--server", at(good), "--user", "warden_app", "--secret-file", "-",
		"--passphrase-file", pp)
	command(phrase, "wallet", "add", "--server", at(rude), "--user", "warden_app", "--secret-file", pw,
		"--passphrase-file", "-")
	command("", "wallet", "add", "p/clear", "--secret", "command: ["+program+"]", "--passphrase-file", pp)
	command("", "wallet", "add", "--server", "u:"+"x@h:1", "--user", "u", "--secret-file", pw)
	command("", "wallet", "unattended", "on", "--passphrase-file", pp, "--yes")
	command(canary, "credentials", "add", "p/good", "--secret-file", "-")
	command("", "credentials", "add", "p/rude", "--secret", "wallet")
	command("", "credentials", "add", "p/rude", "--secret", "file:"+pw)
	command(canary+"\n", "test", "p/good", "--secret", "ask", "--secret-file", "-", "--store", "keyring")
	command("", "change", "p/good", "--unset", "secret")
	for _, reference := range []string{"", "wallet", "wallet:none", "credentials", "credentials:" + pp,
		"keyring", "file:" + pw, "file:" + pp + "x", "command: [" + program + "]", "ask", "none"} {
		for _, name := range []string{"p/good", "p/rude", "p/clear"} {
			if name == "p/rude" && reference == "none" {
				continue // the rude server says what it expected, which was not sent and is not known here
			}
			for i, args := range [][]string{
				{"test", name}, {"test", name, "--json"}, {"test", name, "--as", "junit"},
				{"test", name, "--as", "tap"}, {"test", name, "--as", "html"},
				{"history", name, "--as", "html"}, {"run", name, "select name from hut"},
				{"run", name, "selec", "--json"}, {"survey", name, "databases"},
				{"test", name, "--user", "reader"}, {"test", name, "--port", "1"},
				{"test", name, "--tls", "verify"},
				{"await", name, "--for", "60ms", "--every", "30ms"},
			} {
				if name != "p/good" && i > 5 {
					break
				}
				if reference != "" {
					args = append(args, "--secret", reference)
				}
				command(canary+"\n", append(args, "--secret-file", "-")...)
			}
		}
	}
	for _, args := range [][]string{
		{"wallet", "list"}, {"wallet", "list", "--json"}, {"wallet", "check"},
		{"wallet", "check", "--json", "--passphrase-file", pp},
		{"wallet", "reveal", "p/good", "--passphrase-file", pp},
		{"wallet", "recover", "--passphrase-file", pp, "--yes"},
		{"wallet", "passphrase", "--passphrase-file", pp, "--new-passphrase-file", fresh},
		{"wallet", "list", "--passphrase-file", pp},
		{"wallet", "import", filepath.Join(w.home, "gharbor/credentials"), "--passphrase-file", fresh},
		{"wallet", "import", pw, "--passphrase-file", fresh},
		{"wallet", "remove", "p/rude", "--passphrase-file", fresh, "--yes"},
		{"wallet", "unattended", "off", "--passphrase-file", fresh}, {"wallet", "add"}, {"wallet", canary[:3]},
		{"credentials", "list"}, {"credentials", "list", "--json"}, {"credentials", "why", "p/good"},
		{"credentials", "why", "p/rude", "--json"}, {"credentials", "check"},
		{"credentials", "check", "--file", pw},
		{"credentials", "list", "--file", pp}, {"audit"}, {"audit", "--json"},
		{"audit", "--fix", "--passphrase-file", fresh}, {"list"}, {"list", "--json"},
		{"show", "p/good", "--hidden"},
		{"history", "p/good"}, {"expect", "p/good"}, {"export", "p/good", "--as", "uri"},
		{"copy", "p/good", "p/copy"}, {"meaning", "secret.bound-elsewhere"},
	} {
		command("", args...)
	}
	// Killed at any moment, nothing in clear is left but where it was to be.
	for i := range 12 {
		signal := []syscall.Signal{syscall.SIGKILL, syscall.SIGABRT, syscall.SIGTERM}[i%3]
		for _, args := range [][]string{{"credentials", "add", "p/good", "--secret", "file:" + pw},
			{"test", "p/good", "--secret", "file:" + pw},
			{"wallet", "add", "p/good", "--secret", "file:" + pw, "--passphrase-file", fresh}} {
			cmd := w.command(args...)
			var out strings.Builder
			cmd.Stdout, cmd.Stderr = &out, &out
			must(t, cmd.Start())
			time.Sleep(time.Duration(3+i*3) * time.Millisecond)
			_ = cmd.Process.Signal(signal)
			_ = cmd.Wait()
			if strings.Contains(out.String(), canary) || strings.Contains(out.String(), phrase) {
				t.Errorf("%v, ended by %v, shows a secret:\n%s", args, signal, out.String())
			}
		}
	}
	command("", "credentials", "add", "p/good", "--secret", "file:"+pw) // it clears away what is left
	looks, found := stop()
	if len(found) > 0 || looks < 100 {
		t.Errorf("after %d looks, a secret is in %v", looks, found)
	}
	t.Logf("every process was looked at %d times", looks)
	// given as an argument against all advice, so after the watch
	command("", "wallet", "add", "p/clear", "--secret", canary, "--passphrase-file", fresh)
	files := 0
	for _, folder := range []string{w.home, temp} {
		err := filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || kept[path] {
				return err
			}
			files++
			text, err := os.ReadFile(path)
			for _, secret := range []string{canary, phrase, base64.StdEncoding.EncodeToString([]byte(canary)),
				fmt.Sprintf("%x", canary)} {
				if strings.Contains(string(text), secret) {
					t.Errorf("%s holds a secret", path)
				}
			}
			return err
		})
		must(t, err)
	}
	if files < 10 {
		t.Errorf("only %d files were looked at", files)
	}
}
