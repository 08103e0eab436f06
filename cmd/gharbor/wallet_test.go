//go:build unix

package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentle-harbor/internal/secret/keep/credentials"

	"gentle-harbor/internal/standin"
)

// phrase opens the wallets of these tests; it is a canary too.
const phrase = "canary-5b2f-phrase of the warden"

// withWallet writes a passphrase file and makes a wallet that holds what a credential file does.
func (w *world) withWallet(entries string) (passphrase string) {
	w.Helper()
	passphrase = w.write("phrase", phrase+"\n")
	w.must(0, "wallet", "create", "--passphrase-file", passphrase)
	if entries != "" {
		file := w.write("absorb", credentials.Header+"\n"+entries)
		w.must(0, "wallet", "import", file, "--passphrase-file", passphrase, "--remove", "--yes")
		if _, err := os.Stat(file); !os.IsNotExist(err) {
			w.Error("the credential file is still there")
		}
	}
	return passphrase
}

// unattended opens the wallet to jobs.
func (w *world) unattended(passphrase string) {
	w.Helper()
	w.must(0, "wallet", "unattended", "on", "--passphrase-file", passphrase, "--yes")
}

func (w *world) profile(name string, s *standin.Server, more ...string) {
	w.Helper()
	w.must(0, append([]string{"add", name,
		fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", s.Port())}, more...)...)
}

func TestWalletWithoutATerminal(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t)
	w.profile("huts/local", s)
	has(t, w.must(4, "wallet", "list").err, "secret.wallet-missing", "gharbor wallet create")
	pp, place := w.write("phrase", phrase+"\n"), fmt.Sprintf("127.0.0.1:%d", s.Port())
	has(t, w.must(2, "wallet", "create").err, "--passphrase-file")
	has(t, w.must(2, "wallet", "create", "--passphrase-file", w.write("no", "\n")).err, "cannot be empty")
	has(t, w.must(0, "wallet", "create", "--passphrase-file", pp).out, "Made the wallet")
	has(t, w.must(3, "wallet", "create", "--passphrase-file", pp).err, "already")
	pw := w.write("pw", canary+"\n")
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{2, "needs a profile's name, or a server", nil},
		{2, "needs a profile's name, or a server", []string{"huts/local", "--server", "h"}},
		{4, "secret.wallet-passphrase",
			[]string{"huts/local", "--secret-file", pw, "--passphrase-file", w.write("wrong", "wrong")}},
		{4, "There is no file", []string{"huts/local", "--secret-file", "nowhere", "--passphrase-file", pp}},
	} {
		has(t, w.must(c.code, append([]string{"wallet", "add"}, c.args...)...).err, c.says)
	}
	has(t, w.must(2, "wallet", "put").err, "did you mean add?")
	has(t, w.must(2, "wallet", "add", "huts/local", "--password", canary).err, "no flag takes a password")
	r := w.must(0, "wallet", "add", "huts/local", "--secret-file", pw, "--passphrase-file", pp)
	has(t, r.out, "Stored the password of warden_app for "+place)
	has(t, r.err, "unattended on")

	// Locked without a terminal; open with the passphrase; open to jobs once that is switched on.
	has(t, w.must(4, "test", "huts/local", "--secret", "wallet").out, "secret.wallet-locked", "--passphrase-file")
	f := w.fails("secret.wallet-locked", "huts/local")
	has(t, strings.Join(f.Seen, "\n"), "it opens only with its passphrase", "credentials: there is none",
		"terminal: there is none")
	has(t, w.must(0, "test", "huts/local", "--passphrase-file", pp).out, "from the wallet", "You are in")
	has(t, w.must(2, "wallet", "unattended", "on", "--passphrase-file", pp).err,
		"can read every entry of the wallet", "--yes")
	w.unattended(pp)
	has(t, w.must(0, "test", "huts/local").out, "from the wallet", "stored for warden_app at "+place,
		"You are in", "login method", "SCRAM-SHA-256", "account       warden_app")

	// What is stored meets only its user, place and encryption; the finding names the difference.
	for _, c := range []struct {
		says string
		args []string
	}{
		{"stored for the user warden_app, and this connection logs in as reader", []string{"--user", "reader"}},
		{"stored for " + place + ", and this connection goes to localhost",
			[]string{"--host", "localhost", "--port", fmt.Sprint(s.Port())}},
		{"and this connection goes to 127.0.0.1:1", []string{"--port", "1"}},
		{"goes to /run/s", []string{"--socket", "/run/s"}},
	} {
		f := w.fails("secret.bound-elsewhere", append([]string{"huts/local", "--secret", "wallet"}, c.args...)...)
		has(t, f.Cause, c.says)
		if !slices.ContainsFunc(tries(f), func(line string) bool {
			return strings.Contains(line, "gharbor wallet add --server ")
		}) {
			t.Errorf("no remedy keeps it for this connection: %v", tries(f))
		}
	}
	if len(s.Shown()) > 0 {
		t.Error("a password was shown")
	}

	// Users of a place: the only one, or the one that is marked first.
	w.write("gharbor/profiles/huts/anyone.yaml",
		fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\ndatabase: bunkhouse\n", s.Port()))
	if r := w.report("huts/anyone"); !r.OK || r.Server.User != "warden_app" {
		t.Errorf("the only user: %+v", r.Finding)
	}
	w.stdin = "other"
	w.must(0, "wallet", "add", "--server", place, "--user", "steward", "--secret-file", "-", "--passphrase-file", pp)
	w.stdin = ""
	has(t, w.must(3, "test", "huts/anyone").err, "warden_app, steward", "--default-user")
	again := []string{"wallet", "add", "huts/local", "--user", "steward",
		"--secret-file", w.write("other", "other"), "--passphrase-file", pp, "--default-user"}
	has(t, w.must(2, again...).err, "a password of steward for "+place+" is stored already", "--replace")
	has(t, w.must(0, append(again, "--replace")...).out, "Changed the password of steward")
	if r := w.report("huts/anyone"); !r.OK || r.Server.User != "steward" {
		t.Errorf("the user that is marked first: %+v", r.Finding)
	}

	has(t, w.must(0, "wallet", "list").out, "steward (default)", "huts/local")
	has(t, w.must(2, "wallet", "reveal", "huts/local", "--passphrase-file", pp).err, "only at a terminal")
	has(t, w.must(2, "wallet", "remove", "huts/local").err, "--yes")
	has(t, w.must(3, "wallet", "remove", "--server", "h", "--user", "warden_app", "--passphrase-file", pp,
		"--yes").err, "has no entry for warden_app at h")
	w.must(0, "wallet", "remove", "huts/local", "--passphrase-file", pp, "--yes")
	w.fails("secret.bound-elsewhere", "huts/local")
	has(t, w.must(0, "wallet", "recover", "--passphrase-file", pp, "--yes").out, "2 entries")
	w.must(0, "test", "huts/local")

	// New passphrase, new keys; jobs go on. Switched off, they do not.
	fresh := w.write("fresh", "quite another phrase")
	w.must(0, "wallet", "passphrase", "--passphrase-file", pp, "--new-passphrase-file", fresh)
	w.must(0, "test", "huts/local")
	must(t, os.Truncate(filepath.Join(w.home, "gharbor/wallet/sealed"), 99))
	has(t, w.must(4, "wallet", "check").out, "FAILED", "cut off")
	has(t, w.must(4, "test", "huts/local", "--passphrase-file", fresh).out, "secret.wallet-cut", "gharbor wallet recover")
	has(t, w.must(0, "wallet", "recover", "--passphrase-file", fresh, "--yes").err, "sealed.damaged")
	w.must(0, "test", "huts/local", "--passphrase-file", fresh)
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func TestWalletElsewhereAndByName(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t)
	w.profile("huts/local", s)
	pp := w.write("phrase", phrase)
	elsewhere := filepath.Join(w.home, "far", "wallet")
	w.must(0, "wallet", "create", "--wallet", elsewhere, "--passphrase-file", pp)
	pw := w.write("pw", canary)
	w.must(0, "wallet", "add", "--wallet", elsewhere, "huts/local", "--secret-file", pw, "--passphrase-file", pp)
	w.must(0, "wallet", "unattended", "on", "--wallet", elsewhere, "--passphrase-file", pp, "--yes")
	w.must(4, "test", "huts/local")
	has(t, w.must(0, "test", "huts/local", "--wallet", elsewhere).out, elsewhere)
	w.must(0, "wallet", "create", "--name", "team", "--passphrase-file", pp)
	w.must(0, "wallet", "add", "--name", "team", "huts/local", "--secret-file", pw, "--passphrase-file", pp)
	w.must(0, "wallet", "unattended", "on", "--name", "team", "--passphrase-file", pp, "--yes")
	has(t, w.must(0, "test", "huts/local", "--secret", "wallet:team").out, "wallets/team")
	w.profile("huts/team", s, "--secret", "wallet:team", "--user", "steward")
	has(t, w.must(0, "wallet", "add", "huts/team", "--secret-file", w.write("other", "other"),
		"--passphrase-file", pp).out, "wallets/team")
	w.must(0, "test", "huts/team")
}

// TestJobWithNothingButTheWallet runs a job as another account, with an empty environment: no
// HOME, no variables.
func TestJobWithNothingButTheWallet(t *testing.T) {
	if os.Geteuid() != 0 {
		missing(t, "the right to be another account (root)")
	}
	t.Parallel()
	p, m := realPostgres(t), realMariaDB(t)
	w := newWorld(t)
	w.must(0, "add", "huts/job", fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", p.port))
	w.must(0, "add", "archive/job", fmt.Sprintf("mysql://warden_app@127.0.0.1:%d/bunkhouse", m.port))
	pp := w.withWallet(fmt.Sprintf("at 127.0.0.1:%d\n  warden_app: %s\nat 127.0.0.1:%d\n  warden_app: %s\n",
		p.port, canary, m.port, canary))
	w.unattended(pp)
	// The home of an account that exists for this test alone, by a list of accounts that only
	// this test sees.
	home := filepath.Join(realFolder, "job")
	must(t, os.MkdirAll(filepath.Join(home, ".config"), 0o700))
	must(t, os.CopyFS(filepath.Join(home, ".config", "gentle-harbor"), os.DirFS(filepath.Join(w.home, "gharbor"))))
	list, err := os.ReadFile("/etc/passwd")
	must(t, err)
	accounts := w.write("passwd", string(list)+"harborjob:x:54321:54321::"+home+":/bin/sh\n")
	must(t, os.Chmod(accounts, 0o644))
	if out, err := exec.Command("sh", "-c", `chown -R 54321:54321 "$0" && chmod -R go-rwx "$0"`,
		home).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	for _, name := range []string{"huts/job", "archive/job"} {
		cmd := exec.Command("unshare", "-m", "sh", "-c",
			`mount --bind "$0" /etc/passwd && exec setpriv --reuid 54321 --regid 54321 --clear-groups env -i "$@"`,
			accounts, gharbor, "run", name, "select 'let in'")
		cmd.Dir = "/"
		r := w.finish(cmd)
		if r.code != 0 || !strings.Contains(r.out, "let in") {
			t.Errorf("%s: exit %d\n%s%s", name, r.code, r.out, r.err)
		}
	}
	// The same account is not let in by another user's wallet.
	cmd := exec.Command("setpriv", "--reuid", "54322", "--regid", "54322", "--clear-groups", "env", "-i",
		"GHARBOR_HOME="+filepath.Join(home, ".config/gentle-harbor"), gharbor, "test", "huts/job")
	cmd.Dir = "/"
	if r := w.finish(cmd); r.code == 0 {
		t.Errorf("another account is let in:\n%s", r.out)
	}
}

// kinds are the awkward passwords that a server can have.
var kinds = map[string]string{
	"spaces": "plain words have spaces", "lead": " a space before", "trail": "a space behind ",
	"quotes": `it's a "quote"`, "hash": "a#b # c", "signs": "a=b:c@d/e?f&g%20",
	"slash": `back\slash\n`, "german": "Hüttenschlüssel", "kanji": "小屋の鍵", "dollar": "$HOME `x` $(y)",
	"long": strings.Repeat("long ", 20) + "x", "word": "without password",
}

func TestEveryAwkwardPasswordLogsInFromEverySource(t *testing.T) {
	t.Parallel()
	p, m := realPostgres(t), realMariaDB(t)
	address := desktop(t)
	w := newWorld(t, "DBUS_SESSION_BUS_ADDRESS="+address)
	quote := func(text, escape string) string {
		return "'" + strings.NewReplacer("'", "''", `\`, escape).Replace(text) + "'"
	}
	owners := map[string]string{
		"postgres": "postgres://overseer@" + strings.ReplaceAll(p.socket, "/", "%2F"),
		"mysql":    "mysql://root@" + strings.ReplaceAll(m.socket, "/", "%2F"),
	}
	ports := map[string]int{"postgres": p.port, "mysql": m.port}
	var entries strings.Builder
	for engine, owner := range owners {
		fmt.Fprintf(&entries, "at 127.0.0.1:%d\n", ports[engine])
		for name, text := range kinds {
			statement := "create role awkward_" + name + " login in role awkward password " + quote(text, `\`)
			if engine == "mysql" {
				statement = "create user awkward_" + name + "@127.0.0.1 identified by " + quote(text, `\\`)
			}
			w.stdin = statement
			w.must(0, "run", owner, "-")
			quoted, err := json.Marshal(text)
			must(t, err)
			fmt.Fprintf(&entries, "  awkward_%s: %s\n", name, quoted)
		}
	}
	// Accounts with an empty password, and with none.
	w.stdin = "create user awkward_none@127.0.0.1"
	w.must(0, "run", owners["mysql"], "-")
	fmt.Fprintf(&entries, "at 127.0.0.1:%d\n  awkward_none without password\n  awkward_empty: \"\"\n", m.port)
	w.stdin = "create user awkward_empty@127.0.0.1 identified by ''"
	w.must(0, "run", owners["mysql"], "-")
	w.stdin = ""
	own := w.write("gharbor/credentials", credentials.Header+"\n"+entries.String())
	other := w.write("other/credentials", credentials.Header+"\n"+entries.String())
	pp := w.withWallet(entries.String())
	w.unattended(pp)
	logins := 0
	login := func(name, engine, source, saw string, more ...string) {
		t.Helper()
		at := fmt.Sprintf("%s://awkward_%s@127.0.0.1:%d/", engine, name, ports[engine])
		if engine == "postgres" {
			at += "postgres"
		}
		r := w.run(append([]string{"test", at, "--json"}, more...)...)
		if r.code != 0 || !strings.Contains(r.out, saw) || !strings.Contains(r.out, `"login_method": "`) {
			t.Errorf("%s of %s by %s: exit %d\n%s", name, engine, source, r.code, r.err)
		}
		logins++
	}
	for engine := range owners {
		for name, text := range kinds {
			login(name, engine, "search", "from the wallet")
			login(name, engine, "wallet", "from the wallet", "--secret", "wallet")
			login(name, engine, "credentials", "credentials, line", "--secret", "credentials")
			login(name, engine, "a named credential file", other, "--secret", "credentials:"+other)
			login(name, engine, "file", "read from the file", "--secret", "file:"+w.write("pw", text))
			login(name, engine, "command", "printed by the program", "--secret", "command: [cat, "+w.write("pw2", text+"\n")+"]")
			w.environ = append(w.environ, "AWKWARD="+text)
			login(name, engine, "env", "variable AWKWARD", "--secret", "env:AWKWARD")
			w.environ = w.environ[:len(w.environ)-1]
			w.stdin = text + "\n"
			login(name, engine, "standard input", "--secret-file", "--secret", "ask", "--secret-file", "-", "--store", "keyring")
			w.stdin = ""
			login(name, engine, "keyring", "keyring, item", "--secret", "keyring")
		}
	}
	for _, source := range []string{"wallet", "credentials"} {
		login("none", "mysql", source, "none, as the", "--secret", source)
		login("empty", "mysql", source, "from the", "--secret", source)
	}
	must(t, os.Remove(filepath.Join(w.home, "gharbor/wallet/unattended")))
	login("word", "postgres", "the search, past a wallet that is locked", own)
	t.Logf("%d logins", logins)

	// The keyring binds too.
	f := w.fails("secret.bound-elsewhere", fmt.Sprintf("postgres://awkward_word@localhost:%d/postgres", p.port),
		"--secret", "keyring")
	has(t, f.Cause, "goes to localhost")
	w.fails("secret.not-stored", "postgres://stranger@127.0.0.2:1/postgres", "--secret", "keyring")
	w.environ = w.environ[:len(w.environ)-1]
	w.fails("secret.keyring-missing", "postgres://awkward_word@127.0.0.1:1/postgres", "--secret", "keyring")
}

// desktop starts a session bus with a real Secret Service, unlocked, and gives the bus's address.
func desktop(t *testing.T) string {
	t.Helper()
	for _, name := range []string{"dbus-run-session", "gnome-keyring-daemon"} {
		tool(t, name)
	}
	home := t.TempDir()
	cmd := exec.Command("dbus-run-session", "--", "sh", "-c",
		`printf keyring | gnome-keyring-daemon --unlock --components=secrets >"$HOME/log" 2>&1; echo "$DBUS_SESSION_BUS_ADDRESS"; read end`)
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "XDG_RUNTIME_DIR=" + home, "XDG_DATA_HOME=" + home}
	in, err := cmd.StdinPipe()
	must(t, err)
	out, err := cmd.StdoutPipe()
	must(t, err)
	must(t, cmd.Start())
	t.Cleanup(func() { _ = in.Close(); _ = cmd.Wait() })
	line := make([]byte, 512)
	n, err := out.Read(line)
	must(t, err)
	address := strings.TrimSpace(string(line[:n]))
	w := newWorld(t, "DBUS_SESSION_BUS_ADDRESS="+address)
	until(t, "the keyring", filepath.Join(home, "log"), func() bool {
		return strings.Contains(w.run("test", "postgres://a@127.0.0.1:1/b", "--secret", "keyring").out, "secret.not-stored")
	})
	return address
}

func TestCredentialsCommand(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t)
	w.profile("huts/local", s, "--secret", "credentials")
	f := w.fails("secret.credentials-missing", "huts/local")
	has(t, tries(f)[0], "gharbor credentials add huts/local")
	w.stdin = canary
	has(t, w.must(0, "credentials", "add", "huts/local", "--secret-file", "-").out, "Stored the password of warden_app")
	path := filepath.Join(w.home, "gharbor/credentials")
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
	has(t, w.must(0, "test", "huts/local").out, "credentials, line 3", "You are in")
	w.stdin = "x y"
	w.must(0, "credentials", "add", "--server", "*.fellside.example", "--user", "reader", "--secret-file", "-")
	w.must(0, "credentials", "add", "--server", fmt.Sprintf("127.0.0.1:%d/bunkhouse", s.Port()),
		"--user", "reader", "--secret", "none")
	has(t, w.must(0, "credentials", "list").out, "warden_app", "*.fellside.example", "reader (no password)", "bunkhouse")
	has(t, w.must(0, "credentials", "why", "huts/local").out, "is served by line 3", "not  line 4",
		"stored for the user reader")
	w.must(0, "change", "huts/local", "--user", "steward")
	r := w.must(4, "credentials", "why", "huts/local")
	has(t, r.out+r.err, "stored for the user warden_app, and this connection logs in as steward",
		"secret.bound-elsewhere", "gharbor credentials add huts/local")
	has(t, w.must(0, "credentials", "check").out, "3 entries")
	has(t, w.must(3, "credentials", "remove", "--server", "h", "--user", "u", "--yes").err, "has no entry for u at h")
	w.must(0, "credentials", "remove", "--server", "*.fellside.example", "--user", "reader", "--yes")
	if text, err := os.ReadFile(path); err != nil || strings.Contains(string(text), "fellside.example") ||
		!strings.Contains(string(text), canary) {
		t.Errorf("removed too much or too little: %v", err)
	}
	must(t, os.Chmod(path, 0o640))
	for _, args := range [][]string{{"list"}, {"check"}, {"why", "huts/local"},
		{"add", "--server", "h", "--user", "u", "--secret", "empty"},
		{"remove", "--server", "h", "--user", "u", "--yes"}} {
		has(t, w.must(4, append([]string{"credentials"}, args...)...).err, "secret.file-unsafe", "chmod 600",
			"gharbor audit --fix")
	}
	w.must(0, "audit", "--fix")
	w.must(0, "credentials", "list")
	must(t, os.WriteFile(path, []byte(credentials.Header+"\nat h\n  u: "+canary+" # x\n"), 0o600))
	for _, args := range [][]string{{"credentials", "list"}, {"credentials", "check"}, {"test", "huts/local"},
		{"credentials", "add", "--server", "h", "--user", "u", "--secret", "empty"}} {
		r := w.must(4, args...)
		has(t, r.out+r.err, "credentials:3: a # makes it unclear")
		if strings.Contains(r.out+r.err, canary) {
			t.Errorf("%v shows the password", args)
		}
	}
}

// TestFullDisk fills a small disk on which the wallet lies: writes fail and nothing is lost.
func TestFullDisk(t *testing.T) {
	if os.Geteuid() != 0 {
		missing(t, "the right to mount (root)")
	}
	t.Parallel()
	w := newWorld(t)
	pp := w.withWallet("at h:1\n  warden_app: " + canary + "\n")
	w.write("gharbor/profiles/a.yaml", "engine: postgres\nhost: 127.0.0.1\nport: 1\nuser: warden_app\n")
	pw := w.write("pw", strings.Repeat("x", 9000))
	disk := t.TempDir()
	cmd := exec.Command("unshare", "-m", "sh", "-c", `mount -t tmpfs -o size=48k,mode=700 none "$1" && cp -r "$2/gharbor/wallet" "$1/wallet" && export GHARBOR_WALLET="$1/wallet" || exit 9
say() { echo "== $1 $2"; }
head -c 20000 /dev/zero >"$1/filler"
"$0" wallet add --server h:2 --user u --secret-file "$4" --passphrase-file "$3"; say put $?
cat /dev/zero >"$1/more" 2>/dev/null
"$0" wallet add --server h:3 --user u --secret-file "$4" --passphrase-file "$3"; say full $?
"$0" wallet passphrase --passphrase-file "$3" --new-passphrase-file "$4"; say phrase $?
"$0" wallet list --passphrase-file "$3"; say list $?
rm "$1/filler" "$1/more"
"$0" wallet add --server h:4 --user u --secret empty --passphrase-file "$3"; say again $?
"$0" wallet list --passphrase-file "$3"; ls -A "$1/wallet"`,
		gharbor, disk, w.home, pp, pw)
	cmd.Dir, cmd.Env = w.home, w.environ
	r := w.finish(cmd)
	has(t, r.out, "== full 3", "== phrase 3", "== list 0", "== again 0", "h:1", "h:4")
	has(t, r.err, "could not be written, and stands as it was")
	if strings.Contains(r.out, ".new-") || strings.Contains(r.out+r.err, canary) {
		t.Errorf("half a file is left, or the password is shown:\n%s%s", r.out, r.err)
	}
}

func TestKeepAfterAGoodTest(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t)
	w.profile("huts/local", s)
	pp := w.write("phrase", phrase)
	w.stdin = canary + "\n"
	has(t, w.must(2, "test", "huts/local", "--secret-file", "-", "--store", "drawer").err, "--store takes")
	has(t, w.must(2, "test", "-", "--secret-file", "-").err, "only one thing")
	has(t, w.must(2, "test", "huts/local", "huts/local", "--secret-file", "-").err, "are for one profile")
	has(t, w.must(0, "test", "huts/local", "--secret-file", "-", "--json").out, "--secret-file")
	// A pipe, as a shell makes one for what a program prints.
	pipe := w.command()
	pipe.Path, pipe.Args = "/bin/bash", []string{"bash", "-c",
		gharbor + " test huts/local --secret-file <(cat " + w.write("pw", canary) + ")"}
	if r := w.finish(pipe); r.code != 0 {
		t.Errorf("from a pipe: exit %d\n%s%s", r.code, r.out, r.err)
	}
	w.must(0, "wallet", "create", "--passphrase-file", pp)
	has(t, w.must(0, "test", "huts/local", "--secret-file", "-", "--store", "wallet",
		"--passphrase-file", pp).err, "Stored for warden_app")
	w.stdin = "wrong"
	w.must(6, "test", "huts/local", "--secret-file", "-", "--secret", "ask", "--store", "credentials")
	if _, err := os.Stat(filepath.Join(w.home, "gharbor/credentials")); err == nil {
		t.Error("a password that the server refused was kept")
	}
	w.stdin = ""
	w.unattended(pp)
	has(t, w.must(0, "test", "huts/local").out, "from the wallet")
	// A connection string's password goes to a wallet or nowhere.
	w.stdin = fmt.Sprintf("postgres://warden_app:%s@127.0.0.1:%d/bunkhouse", canary, s.Port())
	w.must(2, "add", "huts/second", "-", "--test", "--store", "keyring")
	w.must(0, "add", "huts/third", "-", "--test", "--store", "wallet", "--passphrase-file", pp)
	w.stdin = ""
	has(t, w.must(0, "test", "huts/third").out, "from the wallet")
}

func TestSecretsAtATerminal(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t)
	w.profile("huts/local", s)
	p := w.sit("test", "huts/local")
	p.Answers("Password of warden_app", canary)
	p.Answers("Store this password", "where")
	p.Answers("the best store", "wallet")
	p.Answers("Passphrase for the new wallet", phrase)
	p.Answers("Once more", "something else")
	p.Answers("not the same", "")
	p.Answers("cannot be empty", phrase)
	p.Answers("Once more", phrase)
	p.Reads("Stored for warden_app")
	if code, _ := p.Ends(); code != 0 || strings.Contains(p.Screen(), canary) || strings.Contains(p.Screen(), phrase) {
		t.Errorf("exit %d, or a secret is on the screen:\n%s", code, p.Screen())
	}
	// Left closed, the search goes on; opened, it serves; a wrong passphrase may be typed again.
	p = w.sit("test", "huts/local")
	p.Answers("Enter alone leaves it closed", "")
	p.Answers("Password of warden_app", canary)
	p.Answers("Store this password", "no")
	if code, _ := p.Ends(); code != 0 {
		t.Errorf("exit %d:\n%s", code, p.Screen())
	}
	p = w.sit("test", "huts/local")
	p.Answers("Enter alone leaves it closed", "wrong")
	p.Answers("That is not its passphrase", phrase)
	p.Reads("from the wallet")
	if code, _ := p.Ends(); code != 0 || strings.Contains(p.Screen(), "Store this password") {
		t.Errorf("exit %d:\n%s", code, p.Screen())
	}
	p = w.sit("wallet", "unattended", "on")
	p.Answers("Is that what you want?", "yes")
	p.Answers("Passphrase of the wallet", phrase)
	p.Reads("Jobs of this account")
	p.Ends()
	// Only reveal shows a password, and only after the passphrase, however open the wallet is to jobs.
	p = w.sit("wallet", "reveal", "huts/local")
	p.Answers("Passphrase of the wallet", "wrong")
	p.Reads("secret.wallet-passphrase")
	if code, _ := p.Ends(); code != 4 || strings.Contains(p.Screen(), canary) {
		t.Errorf("exit %d:\n%s", code, p.Screen())
	}
	p = w.sit("wallet", "reveal", "huts/local")
	p.Answers("Passphrase of the wallet", phrase)
	p.Reads(canary)
	p.Ends()
	p = w.sit("wallet", "add", "--server", "h:1", "--user", "u")
	p.Reads("Password of u")
	_, _ = p.Terminal.Write([]byte{3})
	if code, _ := p.Ends(); code != 130 {
		t.Errorf("Ctrl-C: exit %d", code)
	}
}

func TestAudit(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "WEAK="+"warden_app", "COMMON=Password123", "SAME="+canary)
	has(t, w.must(0, "audit").out, "Serious: 0; warnings: 0; advice: 0")
	w.profile("ok", s, "--secret", "ask")
	has(t, w.must(0, "audit").out, "Serious: 0; warnings: 0; advice: 0")
	pp := w.withWallet("at h:1\n  unused: u-" + canary + "\nat db.fellside.example tls off\n  reader: " +
		canary + "\n  nopass: \"\"\n")
	has(t, w.must(0, "audit").out, "opens with its passphrase only")
	w.unattended(pp)
	for name, args := range map[string][]string{
		"plain":   {"postgres://reader@db.fellside.example/b", "--tls", "off", "--secret", "wallet"},
		"half":    {"postgres://reader@db.fellside.example/b", "--tls", "encrypt", "--secret", "env:SAME"},
		"name":    {"postgres://warden_app@h2.fellside.example/b", "--secret", "env:WEAK"},
		"common":  {"postgres://reader@127.0.0.1/b", "--secret", "env:COMMON"},
		"unset":   {"postgres://reader@h/b", "--secret", "env:NOWHERE"},
		"nofile":  {"postgres://reader@h/b", "--secret", "file:/nowhere"},
		"noprog":  {"postgres://reader@h/b", "--secret", "command: [/nowhere/keeper]"},
		"noentry": {"postgres://reader@h9/b", "--secret", "wallet"},
		"nocred":  {"postgres://reader@h9/b", "--secret", "credentials"},
		"team":    {"postgres://reader@h9/b", "--secret", "wallet:team"},
		"infile":  {"postgres://reader@h3/b", "--secret", "file:" + w.write("pw", "f-"+canary)},
		"nopass":  {"postgres://nopass@db.fellside.example/b", "--tls", "off"},
	} {
		w.must(0, append([]string{"add", name}, args...)...)
	}
	authority, err := standin.NewAuthority("Fellside Huts test authority")
	must(t, err)
	for name, span := range map[string]time.Duration{"soon": 9 * 24 * time.Hour, "over": -time.Hour,
		"fine": 90 * 24 * time.Hour} {
		cert, key, err := authority.Issue(time.Now().Add(-48*time.Hour), time.Now().Add(span), "carded")
		must(t, err)
		w.must(0, "add", name, "postgres://carded@h4/b", "--tls-cert", w.write(name+".crt", string(cert)),
			"--tls-key", w.write(name+".key", string(key)), "--secret", "none")
	}
	w.write("gharbor/profiles/leak.yaml", "engine: postgres\nuser: a\nnote: the password is\n# password: "+canary+"\n")
	must(t, os.Chmod(filepath.Join(w.home, "gharbor/wallet/unattended"), 0o644))
	must(t, os.Chmod(filepath.Join(w.home, "gharbor/profiles/ok.yaml"), 0o666))
	must(t, os.Chmod(filepath.Join(w.home, "pw"), 0o644))
	r := w.must(1, "audit")
	for _, line := range []string{
		"serious   " + w.home + "/gharbor/wallet/unattended: has mode 0644", "ok.yaml: has mode 0666",
		w.home + "/pw: has mode 0644", "leak.yaml:4: has what looks like a password",
		"serious   plain: logs in to db.fellside.example:5432 without encryption",
		"warning   half: encrypts, but does not check",
		"the certificate of carded ended", "the certificate of carded ends",
		"unset: takes its password from the variable NOWHERE", "nofile: takes",
		"noprog: takes its password from the program /nowhere/keeper",
		"nocred: takes", "team: takes its password from a wallet that is not there",
	} {
		has(t, r.out, line)
	}
	r = w.must(1, "audit", "--fix")
	for _, line := range []string{
		"fixed     " + w.home + "/gharbor/wallet/unattended: has mode 0644", "fixed     " + w.home + "/pw: has mode",
		"noentry: takes its password from the wallet: ", "no profile uses the entry of unused at h:1",
		"may be sent to db.fellside.example without encryption",
		"serious   name (variable WEAK): the password of warden_app at h2.fellside.example:5432 is the account's name",
		"warning   common (variable COMMON): the password of reader at 127.0.0.1:5432 is easy to guess",
		"the password of nopass at db.fellside.example is empty",
		"the same password is used for 2 servers", "has the password of infile in clear",
		"takes its password from the environment",
	} {
		if !strings.Contains(r.out, line) {
			r = w.run("audit") // what could not be opened before is judged now
		}
		has(t, r.out, line)
	}
	if info, err := os.Stat(filepath.Join(w.home, "gharbor/wallet/unattended")); err != nil ||
		info.Mode().Perm() != 0o600 {
		t.Error("the mode was not fixed")
	}
	var all struct {
		LookedAt, Serious int
		Findings          []struct{ Severity, About, Place, What, Fix string }
	}
	r = w.must(1, "audit", "--json")
	must(t, json.Unmarshal([]byte(r.out), &all))
	for _, f := range all.Findings {
		if f.Place == "" || f.What == "" || f.Fix == "" || f.About == "" || f.Severity == "" {
			t.Errorf("%+v", f)
		}
	}
	if strings.Contains(r.out+r.err, canary) || bytes.Contains([]byte(r.out), []byte("Password123")) || all.Serious == 0 {
		t.Errorf("a password is shown, or nothing is serious:\n%s", r.out)
	}
}

// TestNoCoreIsDumped holds that a crash writes no memory to disk, and shows no secret in its trace.
func TestNoCoreIsDumped(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres", Faults: standin.Faults{Stall: true}})
	w := newWorld(t, "PW="+canary, "GOTRACEBACK=crash")
	cmd := w.command("test", fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", s.Port()),
		"--secret", "env:PW", "--timeout", "20s")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	must(t, cmd.Start())
	eventually(t, "it tests", func() bool { return s.Connections() > 0 })
	limits, err := os.ReadFile(fmt.Sprintf("/proc/%d/limits", cmd.Process.Pid))
	if err == nil && !strings.Contains(string(limits), "Max core file size        0                    0") {
		t.Errorf("a core could be dumped:\n%s", limits)
	}
	must(t, cmd.Process.Signal(syscall.SIGABRT))
	_ = cmd.Wait()
	if strings.Contains(out.String(), canary) || !strings.Contains(out.String(), "goroutine") {
		t.Errorf("the trace shows the password, or there is none:\n%s", out.String())
	}
}

// TestRemediesOfSecretsMend follows the remedies of findings about secrets to the letter; what a
// person would type comes from files.
func TestRemediesOfSecretsMend(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	place := fmt.Sprintf("127.0.0.1:%d", s.Port())
	for _, c := range []struct {
		code  string
		try   int // which remedy
		spoil func(w *world)
		args  []string
		typed []string // flags instead of a person
		left  string   // another finding that is to be met then; "" when the test itself passes
	}{
		{"secret.wallet-missing", 0, func(w *world) {
			must(t, os.RemoveAll(w.home+"/gharbor/wallet"))
		}, []string{"--secret", "wallet"}, []string{"--passphrase-file"}, "secret.wallet-locked"},
		{"secret.wallet-locked", 1, func(w *world) { must(t, os.Remove(w.home+"/gharbor/wallet/unattended")) },
			[]string{"--secret", "wallet"}, []string{"--passphrase-file", "--yes"}, ""},
		{"secret.wallet-cut", 0, func(w *world) { must(t, os.Truncate(w.home+"/gharbor/wallet/sealed", 300)) },
			nil, []string{"--passphrase-file", "--yes"}, ""},
		{"secret.wallet-empty", 0, func(w *world) { must(t, os.Truncate(w.home+"/gharbor/wallet/sealed", 0)) },
			nil, []string{"--passphrase-file", "--yes"}, ""},
		{"secret.wallet-incomplete", 0, func(w *world) { must(t, os.Remove(w.home+"/gharbor/wallet/sealed")) },
			nil, []string{"--passphrase-file", "--yes"}, ""},
		{"secret.wallet-older", 0, func(w *world) {
			must(t, os.Rename(w.home+"/gharbor/wallet/sealed.previous", w.home+"/gharbor/wallet/sealed"))
		}, nil, []string{"--passphrase-file", "--yes"}, ""},
		{"secret.file-unsafe", 0, func(w *world) { must(t, os.Chmod(w.home+"/gharbor/wallet/sealed", 0o644)) }, nil, nil, ""},
		{"secret.file-unsafe", 1, func(w *world) {
			must(t, os.Chmod(w.home+"/gharbor/wallet/unattended", 0o640))
		}, nil, nil, ""},
		{"secret.folder-unsafe", 0, func(w *world) { must(t, os.Chmod(w.home+"/gharbor/wallet", 0o777)) }, nil, nil, ""},
		{"secret.bound-elsewhere", 1, nil, []string{"--host", "localhost", "--port", fmt.Sprint(s.Port())},
			[]string{"--secret-file", "--passphrase-file"}, ""},
		{"secret.credentials-missing", 0, nil, []string{"--secret", "credentials"}, nil, ""}, // the wallet has it
		{"secret.credentials-missing", 0, func(w *world) { must(t, os.RemoveAll(w.home+"/gharbor/wallet")) },
			[]string{"--secret", "credentials"}, []string{"--secret-file"}, ""},
		{"secret.not-stored", 0, func(w *world) { w.write("gharbor/credentials", credentials.Header+"\n") },
			[]string{"--secret", "credentials"}, nil, ""},
		{"secret.none", 2, func(w *world) {
			w.must(0, "wallet", "remove", "--server", place, "--user", "warden_app",
				"--passphrase-file", w.home+"/phrase", "--yes")
		}, nil, []string{"--secret-file", "--passphrase-file"}, ""},
		{"login.refused", 0, nil, []string{"--secret", "file:" + "wrong"}, nil, ""},
		{"login.refused", 1, func(w *world) {
			w.must(0, "wallet", "add", "p", "--secret-file", w.home+"/wrong", "--passphrase-file", w.home+"/phrase", "--replace")
		}, nil, []string{"--secret-file", "--passphrase-file"}, ""},
		{"login.refused", 1, func(w *world) {
			w.write("gharbor/credentials", credentials.Header+"\nat "+place+"\n  warden_app: wrong\n")
			must(t, os.RemoveAll(w.home+"/gharbor/wallet"))
		}, nil, []string{"--secret-file"}, ""},
	} {
		w := newWorld(t)
		w.environ[2] = "PATH=" + filepath.Dir(gharbor) + ":" + os.Getenv("PATH")
		w.profile("p", s)
		must(t, os.CopyFS(filepath.Join(w.home, "gharbor/wallet"), os.DirFS(oneWallet(t, place))))
		for _, name := range []string{"", "sealed", "owner", "unattended", "sealed.previous"} {
			must(t, os.Chmod(filepath.Join(w.home, "gharbor/wallet", name),
				map[bool]os.FileMode{true: 0o700, false: 0o600}[name == ""]))
		}
		files := map[string]string{"--passphrase-file": w.write("phrase", phrase), "--secret-file": w.write("pw", canary)}
		w.write("wrong", "wrong")
		w.must(0, "test", "p")
		if c.spoil != nil {
			c.spoil(w)
		}
		args := append([]string{"p"}, c.args...)
		f := w.fails(c.code, args...)
		if len(tries(f)) <= c.try {
			t.Errorf("%s: no such remedy: %q", c.code, tries(f))
			continue
		}
		line := tries(f)[c.try]
		if at := strings.Index(line, "gharbor "); at >= 0 {
			line = line[at:]
		}
		for _, flag := range c.typed {
			line += " " + flag + " " + files[flag]
		}
		cmd := exec.Command("sh", "-c", line)
		cmd.Dir, cmd.Env = w.home, w.environ
		if r := w.finish(cmd); r.code != 0 {
			t.Errorf("%s: %s: exit %d\n%s%s", c.code, line, r.code, r.out, r.err)
			continue
		}
		switch {
		case strings.Contains(line, "gharbor test"): // it was the test itself
		case c.left != "":
			w.fails(c.left, args...)
		default:
			if r := w.report(args...); !r.OK {
				t.Errorf("%s: %s does not fix it: %+v", c.code, line, r.Finding)
			}
		}
	}
}

// oneWallet gives the folder of a wallet with the canary for a place, open to jobs; it is made
// once.
func oneWallet(t *testing.T, place string) string {
	folder := filepath.Join(realFolder, "wallet-"+strings.ReplaceAll(place, ":", "-"))
	if _, err := os.Stat(folder); err == nil {
		return folder
	}
	w := newWorld(t)
	w.environ = append(w.environ, "GHARBOR_WALLET="+folder)
	w.unattended(w.withWallet("at " + place + "\n  warden_app: " + canary + "\n"))
	pp := w.write("phrase", phrase)
	// Another write, so that the state before has the entry too.
	w.must(0, "wallet", "add", "--server", "elsewhere.fellside.example:1", "--user", "reader",
		"--secret", "empty", "--passphrase-file", pp)
	return folder
}

// TestReleasedWork builds the program as it is released: a wallet's passphrase costs the work
// that docs/wallet.md states, and a wallet that costs less, as the tests' own build makes them,
// is refused.
func TestReleasedWork(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	pp := w.write("phrase", phrase+"\n")
	w.must(0, "wallet", "create", "--passphrase-file", pp)
	released := filepath.Join(t.TempDir(), "gharbor")
	build := exec.Command("go", "build", "-o", released, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	run := func(args ...string) result {
		cmd := w.command(args...)
		cmd.Path = released
		return w.finish(cmd)
	}
	if r := run("wallet", "check", "--passphrase-file", pp); r.code != 4 ||
		!strings.Contains(r.out+r.err, "the work factor 18") {
		t.Errorf("a wallet of less work: exit %d\n%s%s", r.code, r.out, r.err)
	}
	must(t, os.RemoveAll(filepath.Join(w.home, "gharbor")))
	if r := run("wallet", "create", "--passphrase-file", pp); r.code != 0 {
		t.Fatal(r.err)
	}
	owner, err := os.ReadFile(filepath.Join(w.home, "gharbor/wallet/owner"))
	must(t, err)
	if !regexp.MustCompile(`(?m)^-> scrypt \S+ 18$`).Match(owner) {
		t.Errorf("the work is another one: %.200q", owner)
	}
}
