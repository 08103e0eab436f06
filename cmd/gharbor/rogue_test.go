//go:build unix

package main

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/standin"
)

// Servers, sockets, programs and files that mean harm, met by the built program. Each case showed
// a password, hung or flooded it once.

// elsewhere runs the program in a mount namespace in which a hosts file decides what names lead to.
func (w *world) elsewhere(hosts string, args ...string) result {
	w.Helper()
	if runtime.GOOS != "linux" || os.Geteuid() != 0 || exec.Command("unshare", "-m", "true").Run() != nil {
		missing(w.T, "a mount namespace (Linux, as root)")
	}
	file := w.write("hosts", hosts)
	cmd := exec.Command("unshare", append([]string{"-m", "sh", "-c",
		`mount --bind "$0" /etc/hosts && exec "$@"`, file, gharbor}, args...)...)
	cmd.Dir, cmd.Env = w.home, w.environ
	return w.finish(cmd)
}

// usualSocket runs a test with --json in a mount namespace in which a socket is at the usual
// place of MariaDB's, and gives what it found.
func (w *world) usualSocket(socket, code string, args ...string) *finding.Finding {
	w.Helper()
	if runtime.GOOS != "linux" || os.Geteuid() != 0 || exec.Command("unshare", "-m", "true").Run() != nil {
		missing(w.T, "a mount namespace (Linux, as root)")
	}
	folder := filepath.Join(w.TempDir(), "run")
	must(w.T, os.Mkdir(folder, 0o755))
	must(w.T, os.Symlink(socket, filepath.Join(folder, "mysqld.sock")))
	cmd := exec.Command("unshare", append([]string{"-m", "sh", "-c",
		`mkdir -p /run/mysqld && mount --bind "$0" /run/mysqld && exec "$@"`, folder, gharbor, "test",
		"--json"}, args...)...)
	cmd.Dir, cmd.Env = w.home, w.environ
	r := w.finish(cmd)
	var all struct{ Profiles []checkup.Report }
	if err := json.Unmarshal([]byte(r.out), &all); err != nil || len(all.Profiles) != 1 ||
		!slices.Contains(strings.Fields(code), string(all.Profiles[0].Code())) {
		w.Fatalf("%v, not %s: %v\n%s%s", args, code, err, r.out, r.err)
	}
	return all.Profiles[0].Finding
}

// TestRogueLogins meets servers on what the profile takes for another machine, which ask in their
// own ways for the password or do not prove who they are.
func TestRogueLogins(t *testing.T) {
	w := newWorld(t, "PW="+canary)
	authority, encryption := encrypting(t, "db.fellside.example")
	trusted := []string{"--tls-ca", w.write("ca.pem", string(authority.PEM))}
	off, encrypt := []string{"--tls", "off"}, []string{"--tls", "encrypt"}
	hostile := "\x1b]0;owned\x07\x1b[2J\u202egnp.exe\r\nok"
	type rogue struct {
		name   string
		config standin.Config
		args   []string
		code   string
		says   string
	}
	var cases []rogue
	for _, engine := range []string{"postgres", "mysql"} {
		asks := func(faults standin.Faults) standin.Config {
			return standin.Config{Engine: engine, TLS: encryption, Faults: faults}
		}
		clear, words := asks(standin.Faults{AskClear: true}), asks(standin.Faults{ErrorText: hostile, Echo: true})
		words.Login = "mysql_native_password"
		cases = append(cases, rogue{"clear", clear, off, "login.would-show-password", ""},
			rogue{"clear, encrypted", clear, encrypt, "login.would-show-password", ""},
			rogue{"clear, not trusted", clear, nil, "tls.not-trusted", ""}, rogue{"clear, verified", clear, trusted, "", ""},
			rogue{"hostile words", words, encrypt, "login.refused", ""})
		huge := append([]byte{0xff, 0xff, 0xff, 0, 10}, make([]byte, 4<<20)...)
		if engine == "postgres" {
			huge = append([]byte("R\x7f\xff\xff\xff"), make([]byte, 4<<20)...)
		}
		cases = append(cases, rogue{"huge", asks(standin.Faults{Greeting: huge}), off, "greeting.malformed", ""},
			rogue{"hostile greeting", asks(standin.Faults{Greeting: []byte("SSH-2.0-" + hostile)}), off, "greeting.", ""},
			rogue{"own key", standin.Config{Engine: "mysql", TLS: encryption, Faults: standin.Faults{OwnKey: true}}, encrypt,
				"login.would-show-password", ""})
	}
	for _, c := range append(cases, []rogue{
		{"sha256_password in the greeting", standin.Config{Engine: "mysql", Login: "sha256_password"},
			off, "login.would-show-password", "the password was not sent"},
		{"no proof", standin.Config{Engine: "postgres", Faults: standin.Faults{Unproven: "no proof"}},
			off, "login.server-unproven", "--tls verify"},
		{"a wrong proof", standin.Config{Engine: "postgres", Faults: standin.Faults{Unproven: "wrong proof"}},
			off, "login.server-unproven", "may not be the real one"},
		{"few rounds", standin.Config{Engine: "postgres", Faults: standin.Faults{Rounds: 100}},
			off, "login.too-few-rounds", "4096 is the least"},
		{"many rounds", standin.Config{Engine: "postgres", Faults: standin.Faults{Rounds: 10_000_000}},
			[]string{"--tls", "off", "--timeout", "1s"}, "login.too-many-rounds", "10000000 rounds"},
		{"no proof", standin.Config{Engine: "oracle", Faults: standin.Faults{Unproven: "no proof"}},
			off, "login.server-unproven", "--tls verify"},
		{"few rounds", standin.Config{Engine: "oracle", Faults: standin.Faults{Rounds: 100}},
			off, "login.too-few-rounds", "4096 is the least"},
		{"a challenge", standin.Config{Engine: "oracle"}, off, "",
			"note: The password was used for verifier-12c"},
		{"an old verifier", standin.Config{Engine: "oracle", Login: "verifier-10g"}, off,
			"login.old-verifier", "capital letters do not count"},
		{"a challenge", standin.Config{Engine: "postgres"}, off, "",
			"note: The password was used for SCRAM-SHA-256"},
		{"a challenge", standin.Config{Engine: "mariadb", Login: "mysql_native_password"},
			off, "", "can now try to guess it"},
		{"nothing asked", standin.Config{Engine: "postgres", Faults: standin.Faults{AskNothing: true}},
			off, "", "did not ask for the password"},
		{"nothing asked", standin.Config{Engine: "mysql", Faults: standin.Faults{AskNothing: true}},
			off, "", "did not ask for the password"},
		{"a method that is not listed", standin.Config{Engine: "postgres"},
			[]string{"--tls", "off", "--login-methods", "md5"}, "login.method-not-supported", "accepts only: md5"},
		{"the listed one", standin.Config{Engine: "postgres"},
			[]string{"--tls", "off", "--login-methods", "MD5", "--login-methods", "SCRAM-SHA-256"}, "",
			"SCRAM-SHA-256"},
		{"nothing asked, not listed",
			standin.Config{Engine: "postgres", Faults: standin.Faults{AskNothing: true}},
			[]string{"--tls", "off", "--login-methods", "md5"}, "login.method-not-supported",
			"one that asks for nothing"},
		{"a method of another engine", standin.Config{Engine: "postgres"},
			[]string{"--login-methods", "caching_sha2_password"}, "settings.invalid", "it has scram-sha-256"},
	}...) {
		s := practice(t, c.config)
		r := w.elsewhere("127.0.0.1 localhost db.fellside.example\n",
			append([]string{"test", fmt.Sprintf("%s://warden_app@db.fellside.example:%d/bunkhouse",
				c.config.Engine, s.Port()), "--secret", "env:PW"}, c.args...)...)
		if want := map[bool]string{true: "You are in",
			false: "finding " + c.code}[c.code == ""]; !strings.Contains(r.out, want) {
			t.Errorf("%s, %s:\n%s%s", c.name, c.config.Engine, r.out, r.err)
		}
		if text := strings.Join(strings.Fields(r.out), " "); !strings.Contains(text, c.says) {
			t.Errorf("%s, %s: %q is missing in:\n%s", c.name, c.config.Engine, c.says, r.out)
		}
		if shown := len(s.Shown()) > 0; shown != (c.name == "clear, verified") || strings.Contains(r.out+r.err, canary) {
			t.Errorf("%s, %s: the password was shown: %v", c.name, c.config.Engine, shown)
		}
		if strings.ContainsAny(r.out+r.err, "\x1b\x07\r\u202e") || r.peak > 100<<20 {
			t.Errorf("%s, %s: %d MB, or raw words in %q", c.name, c.config.Engine, r.peak>>20, r.out+r.err)
		}
		if r.took > 5*time.Second {
			t.Errorf("%s, %s: it took %s", c.name, c.config.Engine, r.took)
		}
	}
}

// TestLocalhostIsThisMachine has a name service lead localhost to another machine: nothing goes
// there.
func TestLocalhostIsThisMachine(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	for host, tls := range map[string]string{"localhost": "off", "hut.localhost": "off", "LOCALHOST": "off"} {
		r := w.elsewhere("192.0.2.7 localhost hut.localhost LOCALHOST\n", "test",
			"--json", fmt.Sprintf("postgres://warden_app@%s:%d/bunkhouse", host, s.Port()),
			"--secret", "env:PW", "--tls", tls)
		if r.code != 0 || strings.Contains(r.out, "192.0.2.7") || !strings.Contains(r.out, `"address": "127.0.0.1:`) {
			t.Errorf("%s: exit %d\n%s%s", host, r.code, r.out, r.err)
		}
	}
}

// TestServersThatDoNotStop answers the first question, and then is silent or sends rows without
// an end.
func TestServersThatDoNotStop(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mysql", "oracle", "mongodb"} {
		for after, code := range map[string]string{"silence": "query.silent", "endless": "query.too-much",
			"giant": "query.too-much"} {
			s := practice(t, standin.Config{Engine: engine, Faults: standin.Faults{After: after}})
			w := newWorld(t, "PW="+canary)
			// megabytes take their time on a busy machine
			w.must(0, "add", "p", fmt.Sprintf("%s://warden_app@127.0.0.1:%d/bunkhouse", engine, s.Port()),
				"--secret", "env:PW", "--timeout", map[bool]string{true: "600ms", false: "5s"}[after == "silence"])
			for _, args := range [][]string{{"test", "p"}, {"test", "p", "--expect", "superuser=false"},
				{"await", "p", "--for", "1s"}, {"expect", "p"}} {
				r := w.run(args...)
				if r.code != 7 || !strings.Contains(r.out+r.err, code) || r.took > 8*time.Second || r.peak > 120<<20 {
					t.Errorf("%s, %s, %v: exit %d after %s with %d MB\n%s%s", engine, after, args, r.code,
						r.took, r.peak>>20, r.out, r.err)
				}
			}
		}
		s := practice(t, standin.Config{Engine: engine, Faults: standin.Faults{StallQuery: true}})
		w := newWorld(t, "PW="+canary)
		r := w.run("survey", fmt.Sprintf("%s://warden_app@127.0.0.1:%d", engine, s.Port()), "databases",
			"--secret", "env:PW", "--timeout", "300ms")
		if r.took > 8*time.Second || r.code == 0 {
			t.Errorf("survey of a silent %s: exit %d after %s", engine, r.code, r.took)
		}
	}
}

// clean reports whether a text has nothing in it that steers a terminal.
func clean(text string) bool {
	return outside.Clean(strings.NewReplacer("\n", "", "\t", "").Replace(text))
}

// TestWordsThatSteer has each text that someone else chooses hold escape sequences or the
// password, and looks at each form of output.
func TestWordsThatSteer(t *testing.T) {
	w := newWorld(t, "PW="+canary)
	states := practice(t, standin.Config{Engine: "postgres",
		Faults: standin.Faults{Refusal: "28\x1b[2J\u009b31m" + canary}})
	lists := practice(t, standin.Config{Engine: "postgres", Databases: []string{"bunkhouse\x1bc", "b\u202eunk"}})
	w.must(0, "add", "p/state", fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", states.Port()),
		"--secret", "env:PW")
	w.must(0, "add", "p/names", fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", lists.Port()),
		"--secret", "env:PW")
	history := `{"when":"2026-11-20T10:00:00Z","ok":true,"ms":1,"legs":{"lo\u001bgin":1},"settings":{"host":"a\u001b[2J","port\u009b":"1"},"address":"1\u001bc","identity":"x\u202e","version":"v\u0007","account":"a\u001b"}` +
		"\n"
	state := filepath.Join(w.home, "gharbor", "state")
	w.run("test", "p/state") // makes the file
	found, _ := filepath.Glob(filepath.Join(state, "history", "*.jsonl"))
	if len(found) == 0 {
		found, _ = filepath.Glob(filepath.Join(state, "*", "*.jsonl"))
	}
	for _, file := range found {
		w.Log(file)
		put(t, file, []byte(history+strings.Replace(history, "true", "false", 1)))
	}
	w.write("bunk/.gentle-harbor/profiles/labels.yaml",
		"engine: mysql\nuser: a\nlabels: {\"k\\e[2J\": x}\noptions: {\"o\\u009bx\": y}\n")
	w.write("bunk/.gentle-harbor/profiles/zone.yaml", "engine: mysql\nuser: a\nhost: \"fe80::1%\\e[2J\"\n")
	for _, args := range [][]string{
		{"test", "p/state"}, {"test", "p/state", "--json"}, {"test", "p/state", "--as", "tap"},
		{"test", "p/state", "--as", "junit"}, {"test", "p/"},
		{"test", "p/names"}, {"test", "p/names", "--json"}, {"test", "p/names", "--as", "tap"},
		{"test", "p/names", "--as", "junit"}, {"run", "p/names", "select 1"},
		{"history", "p/state"}, {"history", "p/state", "--json"}, {"history", "p/names"}, {"list"},
		{"list", "--json"}, {"show", "project:labels"}, {"show", "project:labels", "--json"},
		{"show", "project:zone"}, {"test", "project:zone"}, {"list", "--flat"}, {"agree", "labels"},
		{"survey", "p/names", "databases", "--database", "postgres"}, {"add", "x\x1b[2J"},
		{"show", "x\x1b[2J"}, {"xy\x1bz"},
		{"test", "p/names", "--host", "fe80::1%\x1b[2J"}, {"test", "p/names", "--label", "a\x1b=b"},
		{"add", "y", "mysql://a@h", "--label", "a\x1b[2Jb=c"},
	} {
		cmd := w.command(args...)
		cmd.Dir = filepath.Join(w.home, "bunk")
		r := w.finish(cmd)
		if !clean(r.out) || !clean(r.err) || strings.Contains(r.out+r.err, canary) {
			t.Errorf("%q shows raw words:\n%q\n%q", args, r.out, r.err)
		}
		var any any
		if strings.HasPrefix(r.out, "<?xml") && xml.Unmarshal([]byte(r.out), &struct{}{}) != nil ||
			strings.HasPrefix(r.out, "{") && json.Unmarshal([]byte(r.out), &any) != nil {
			t.Errorf("%q is no longer XML or JSON:\n%s", args, r.out)
		}
	}
	if r := w.run("test", "p/names"); !strings.Contains(r.out, "database.missing") ||
		strings.Contains(r.out, "--database 'bunk") {
		t.Errorf("a name that cannot be typed is in a command:\n%s", r.out)
	}
}

// serveSocket is a socket's server, as which this program starts itself anew: see
// TestSocketOfAnother.
func serveSocket(path string) int {
	listener, err := net.Listen("unix", path)
	if err != nil || os.Chmod(path, 0o666) != nil {
		return 1
	}
	for {
		conn, err := listener.Accept()
		if err != nil {
			return 1
		}
		words := make([]byte, 512)
		_ = conn.SetReadDeadline(time.Now().Add(500 * time.Millisecond))
		if n, _ := conn.Read(words); n > 0 {
			_ = os.WriteFile(path+".said", words[:n], 0o644)
		}
		_ = conn.Close()
	}
}

// TestSocketOfAnother has another user listen in a folder that everyone may write to.
func TestSocketOfAnother(t *testing.T) {
	if runtime.GOOS != "linux" || os.Geteuid() != 0 {
		missing(t, "another user's account (Linux, as root)")
	}
	folder := t.TempDir()
	must(t, os.Chmod(folder, 0o777|os.ModeSticky))
	for parent := filepath.Dir(folder); parent != "/tmp" && parent != "/"; parent = filepath.Dir(parent) {
		must(t, os.Chmod(parent, 0o755))
	}
	path := filepath.Join(folder, ".s.PGSQL.5432")
	helper := another(t, path)
	said := func() bool {
		time.Sleep(50 * time.Millisecond)
		_, err := os.Stat(path + ".said")
		return err == nil
	}
	w := newWorld(t, "PW="+canary)
	w.must(0, "add", "p", "--engine", "postgres", "--socket", folder, "--user", "warden_app", "--secret", "env:PW")
	f := w.fails("port.socket-owner", "p")
	has(t, f.Cause, "54321", "nothing was sent")
	has(t, strings.Join(tries(f), "\n"),
		"--socket-owner 54321", "ps -o user,pid,args -p "+strconv.Itoa(helper.Process.Pid))
	if said() {
		t.Error("something was sent")
	}
	for _, owner := range []string{"1", "mail", "54322", "root"} {
		w.fails("port.socket-owner", "p", "--socket-owner", owner)
	}
	if said() {
		t.Error("something was sent")
	}
	if r := w.report("p", "--socket-owner", "54321"); r.Finding == nil ||
		r.Finding.Code == "port.socket-owner" || !said() {
		t.Errorf("the named owner is not trusted: %+v", r.Finding)
	}
}

// TestBoundSecretIsNotSentForAnother looks for near databases by a further connection: what is
// bound to the first database stays there, and what the profile names follows it.
func TestBoundSecretIsNotSentForAnother(t *testing.T) {
	w := newWorld(t, "PW="+canary)
	for _, c := range []struct {
		name, entry string
		args        []string
		further     bool
	}{
		{"bound to the database", "warden_app on bunkhaus: " + canary, nil, false},
		{"bound to the server", "warden_app: " + canary, nil, true},
		{"of the profile's own", "", []string{"--secret", "env:PW"}, true},
		{"typed", "", []string{"--secret", "ask", "--secret-file", "-"}, false},
	} {
		s := practice(t, standin.Config{Engine: "postgres"})
		w.write("gharbor/credentials",
			"# gentle-harbor credentials 1\nat 127.0.0.1\n  "+map[bool]string{true: "nobody: x",
				false: c.entry}[c.entry == ""]+"\n")
		w.stdin = canary
		for _, word := range []string{"test", "await"} {
			before := len(s.Opened())
			args := append([]string{word, fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhaus", s.Port())}, c.args...)
			if word == "await" {
				args = append(args, "--for", "100ms")
			}
			r := w.run(args...)
			has(t, r.out, "database.missing")
			opened := s.Opened()[before:]
			if further := len(opened) > 1; word == "test" && further != c.further || word == "await" && further && !c.further {
				t.Errorf("%s, %s: the databases that were opened are %v\n%s%s", c.name, word, opened, r.out, r.err)
			}
		}
	}
}

// TestProgramsThatPrintAPassword leave children behind, hang, and ask at the terminal.
func TestProgramsThatPrintAPassword(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	to := fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", s.Port())
	marked := func(script string) (string, func() bool) {
		mark := strconv.Itoa(700000 + os.Getpid()%1000*100 + len(script))
		path := w.write("program"+mark, "#!/bin/sh\n"+strings.ReplaceAll(script, "SLEEP", "sleep "+mark)+"\n")
		must(t, os.Chmod(path, 0o700))
		return "command: [" + path + "]", func() bool {
			time.Sleep(100 * time.Millisecond)
			out, _ := exec.Command("sh", "-c",
				"for p in /proc/[0-9]*/cmdline; do tr '\\0' ' ' <$p 2>/dev/null; echo; done").Output()
			return strings.Contains(string(out), "sleep "+mark)
		}
	}
	reference, alive := marked("SLEEP &\nprintf %s \"$PW\"")
	r := w.must(0, "test", to, "--secret", reference)
	if r.took > 8*time.Second || alive() {
		t.Errorf("a child that holds the output open: after %s, alive %v", r.took, alive())
	}
	reference, alive = marked("SLEEP")
	p := w.sit("test", to, "--secret", reference)
	for range 300 { // a loaded machine starts both late
		if alive() {
			break
		}
	}
	p.Types("\x03")
	if code, took := p.Ends(); code != 130 || took > 8*time.Second || alive() {
		t.Errorf("a program that hangs: exit %d after %s, alive %v\n%s", code, took, alive(), p.Screen())
	}
	reference, alive = marked("trap '' INT TERM HUP\nSLEEP & SLEEP")
	if r := w.must(4, "test", to, "--secret", reference); r.took > 13*time.Second || alive() ||
		!strings.Contains(r.out, "within 10s") {
		t.Errorf("a program that ignores signals: after %s, alive %v", r.took, alive())
	}
	reference, _ = marked("printf 'which hut? ' >/dev/tty\nread -r line </dev/tty\nprintf %s \"$line\"")
	p = w.sit("test", to, "--secret", reference)
	p.Answers("which hut? ", canary)
	p.Reads("You are in")
	if code, _ := p.Ends(); code != 0 {
		t.Errorf("exit %d", code)
	}
}

// TestNothingIsShownWhileASecretIsTyped looks at the terminal's settings when the question can be
// read, and ends the program by each signal.
func TestNothingIsShownWhileASecretIsTyped(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t)
	for _, ends := range []string{"\x03", "\x1c", "TERM", "HUP", "QUIT", "line"} {
		p := w.sit("test", fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", s.Port()), "--secret", "ask")
		p.Reads("Password of")
		if echoes(p.Terminal) {
			t.Errorf("%q: the terminal shows what is typed", ends)
		}
		switch signal, ok := map[string]syscall.Signal{"TERM": syscall.SIGTERM, "HUP": syscall.SIGHUP,
			"QUIT": syscall.SIGQUIT}[ends]; {
		case ok:
			_ = p.Cmd.Process.Signal(signal)
		case ends == "line":
			p.Types(canary + "\n")
		default:
			p.Types(ends)
		}
		want := map[bool]int{true: 0, false: 130}[ends == "line"]
		if code, took := p.Ends(); code != want || took > 8*time.Second ||
			strings.Contains(p.Screen(), "goroutine") || strings.Contains(p.Screen(), canary) {
			t.Errorf("%q: exit %d after %s\n%s", ends, code, took, p.Screen())
		}
	}
}

// TestPipesInThePlaceOfFiles hang a program that opens them without looking.
func TestPipesInThePlaceOfFiles(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	at := fmt.Sprintf("127.0.0.1:%d", s.Port())
	w.must(0, "add", "good", "postgres://warden_app@"+at+"/bunkhouse", "--secret", "env:PW")
	pipe := func(name string) string {
		path := filepath.Join(w.home, name)
		must(t, os.MkdirAll(filepath.Dir(path), 0o700))
		must(t, syscall.Mkfifo(path, 0o600))
		return path
	}
	pipe("gharbor/profiles/piped.yaml")
	authority := pipe("ca.pem")
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{3, "not a regular file", []string{"test", "piped"}},
		{0, "good", []string{"list"}},
		{3, "settings.tls-file", []string{"test", "good", "--tls", "verify", "--tls-ca", authority}},
		{4, "secret.not-a-file", []string{"test", "good", "--secret", "file:" + authority}},
		{4, "secret.not-a-file", []string{"test", "good", "--secret", "credentials:" + authority}},
	} {
		if r := w.must(c.code, c.args...); r.took > 8*time.Second || !strings.Contains(r.out+r.err, c.says) {
			t.Errorf("%v after %s:\n%s%s", c.args, r.took, r.out, r.err)
		}
	}
	// A credential file that is a pipe stops the search.
	pipe("gharbor/credentials")
	r := w.run("test", "postgres://warden_app@"+at+"/bunkhouse")
	if r.code != 4 || !strings.Contains(r.out, "secret.not-a-file") || r.took > 5*time.Second {
		t.Errorf("exit %d after %s\n%s%s", r.code, r.took, r.out, r.err)
	}
	// A pipe that a person names is read.
	shell := exec.Command("bash", "-c",
		`"$0" import piped2 <(printf 'postgres://reader@db.fellside.example/bunkhouse') && "$0" test good --secret ask --secret-file <(printf %s "$PW")`,
		gharbor)
	shell.Dir, shell.Env = w.home, w.environ
	if r := w.finish(shell); r.code != 0 || !strings.Contains(r.out, "You are in") {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	// A file over its limit is not used as far as it was read.
	large := w.write("large", strings.Repeat("# x\n", 100_000)+"postgres://reader@db.fellside.example/bunkhouse\n")
	has(t, w.must(3, "import", "large", large).err, "larger")
}

// TestReportsAndFormulas writes reports to what is not a plain file, and rows that a spreadsheet
// would run.
func TestReportsAndFormulas(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	w.must(0, "add", "p", fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", s.Port()), "--secret", "env:PW")
	has(t, w.must(0, "test", "p", "--as", "tap", "--to", "/dev/stdout").out, "TAP version 13")
	has(t, w.must(0, "test", "p", "--as", "tap", "--to", "/dev/stderr").err, "TAP version 13")
	if info, err := os.Lstat("/dev/stdout"); err != nil || info.Mode()&os.ModeSymlink == 0 {
		t.Fatalf("/dev/stdout is no longer a link: %v", err)
	}
	victim := w.write("victim", "as it was")
	must(t, os.Symlink(victim, filepath.Join(w.home, "report")))
	w.must(0, "test", "p", "--as", "tap", "--to", "report")
	kept, _ := os.ReadFile(victim)
	made, err := os.ReadFile(filepath.Join(w.home, "report"))
	if info, _ := os.Lstat(filepath.Join(w.home, "report")); string(kept) != "as it was" || err != nil ||
		!strings.Contains(string(made), "TAP version 13") || info.Mode()&os.ModeSymlink != 0 {
		t.Errorf("the link's file holds %q, the report %q, %v", kept, made, err)
	}
	statement := `select '=1+1' as "=a", '+x' as b, '-x' as c, '@x' as d, -5 as e, 'plain' as f, '	x' as g`
	for flags, want := range map[string][]string{"": {"=1+1", "+x", "-x", "@x", "-5", "plain", "\tx"},
		"--escape-formulas": {"'=1+1", "'+x", "'-x", "'@x", "-5", "plain", "'\tx"}} {
		r := w.must(0, append([]string{"run", "p", statement, "--as", "csv"}, strings.Fields(flags)...)...)
		rows, err := csv.NewReader(strings.NewReader(r.out)).ReadAll()
		if err != nil || len(rows) != 2 || fmt.Sprintf("%q", rows[1]) != fmt.Sprintf("%q", want) {
			t.Errorf("%s: %q, %v", flags, rows, err)
		}
	}
	has(t, w.must(0, "help", "run").out, "--escape-formulas", "takes a text that begins with = + - @")
}

// self is a copy of this test's program that every account can run.
var self = sync.OnceValues(func() (string, error) {
	copied := filepath.Join(realFolder, "self")
	path, err := os.Executable()
	if err != nil {
		return "", err
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return "", err
	}
	return copied, os.WriteFile(copied, data, 0o755)
})

// another has the account 54321, which is nobody's here, answer at a socket.
func another(t *testing.T, path string) *exec.Cmd {
	t.Helper()
	copied, err := self()
	must(t, err)
	helper := exec.Command(copied)
	helper.Env = []string{"GHARBOR_TEST_SOCKET=" + path}
	helper.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 54321, Gid: 54321}}
	must(t, helper.Start())
	t.Cleanup(func() { _ = helper.Process.Kill(); _ = helper.Wait() })
	for range 200 {
		if info, err := os.Stat(path); err == nil && info.Mode().Perm() == 0o666 {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	return helper
}
