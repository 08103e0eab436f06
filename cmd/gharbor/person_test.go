//go:build unix

package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"golang.org/x/term"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/standin"
)

// person sits at a terminal, in which the program runs.
type person struct {
	*testing.T
	terminal *os.File
	cmd      *exec.Cmd
	mu       sync.Mutex
	seen     bytes.Buffer
	at       int // what was read of seen so far
	state    *term.State
}

func (w *world) sit(args ...string) *person { return w.sitAt(120, args...) }

// sitAt is sit at a terminal of a number of columns.
func (w *world) sitAt(columns int, args ...string) *person {
	w.Helper()
	return w.atTerminal(columns, w.command(args...))
}

// atTerminal starts a program at a terminal.
func (w *world) atTerminal(columns int, cmd *exec.Cmd) *person {
	w.Helper()
	cmd.Env = append(cmd.Env, "TERM=xterm", "NO_COLOR=1")
	terminal, tty, err := pty.Open()
	if err != nil {
		w.Fatal(err)
	}
	if err := pty.Setsize(terminal, &pty.Winsize{Rows: 40, Cols: uint16(columns)}); err != nil {
		w.Fatal(err)
	}
	state, err := term.GetState(int(tty.Fd()))
	if err != nil {
		w.Fatal(err)
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = tty, tty, tty
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := cmd.Start(); err != nil {
		w.Fatal(err)
	}
	p := &person{T: w.T, terminal: terminal, cmd: cmd, state: state}
	go func() {
		words := make([]byte, 4096)
		for {
			n, err := terminal.Read(words)
			p.mu.Lock()
			p.seen.Write(words[:n])
			p.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	w.Cleanup(func() { _ = cmd.Process.Kill(); _ = tty.Close(); _ = terminal.Close() })
	return p
}

// reads waits until the screen shows a text after what was read before.
func (p *person) reads(text string) {
	p.Helper()
	for end := time.Now().Add(90 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		p.mu.Lock()
		i := strings.Index(p.seen.String()[p.at:], text)
		if i >= 0 {
			p.at += i + len(text)
		}
		p.mu.Unlock()
		if i >= 0 {
			return
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.Fatalf("%q does not come; on the screen:\n%s", text, p.seen.String())
}

func (p *person) types(text string) {
	p.Helper()
	time.Sleep(20 * time.Millisecond)
	if _, err := p.terminal.WriteString(text); err != nil {
		p.Fatal(err)
	}
}

// answers reads a question and types a line.
func (p *person) answers(question, line string) {
	p.Helper()
	p.reads(question)
	p.types(line + "\n")
}

// ends waits for the program's end and gives its exit code and how long it took.
func (p *person) ends() (int, time.Duration) {
	p.Helper()
	began := time.Now()
	done := make(chan struct{})
	go func() { _ = p.cmd.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(30 * time.Second):
		p.Fatalf("it does not end; on the screen:\n%s", p.screen())
	}
	p.settles()
	after, err := term.GetState(int(p.terminal.Fd()))
	if err != nil {
		p.Fatal(err)
	}
	if fmt.Sprint(*after) != fmt.Sprint(*p.state) {
		p.Error("the terminal is not as it was")
	}
	return p.cmd.ProcessState.ExitCode(), time.Since(began)
}

// settles waits until all that the program wrote is read from its terminal: until there is
// something, and a moment brings no more.
func (p *person) settles() {
	size := func() int {
		p.mu.Lock()
		defer p.mu.Unlock()
		return p.seen.Len()
	}
	quiet := 0
	for end, last := time.Now().Add(2*time.Second), -1; time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		now := size()
		if quiet++; now != last {
			quiet = 0
		}
		if now > 0 && quiet == 5 { // on a busy machine what reads may be late
			return
		}
		last = now
	}
}

func (p *person) screen() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.seen.String()
}

func TestAddAtATerminal(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	practice(t, standin.Config{Engine: "postgres", Address: "127.0.9.1:5432"}) // so that there is a server to offer
	w := newWorld(t)
	p := w.sit("add", "huts/local")
	p.answers("or Enter for another: ", "")
	p.answers("engine ("+strings.Join(known.Names(), ", ")+"): ", "postgress")
	p.answers("not an engine known here", "postgresql")
	p.answers("host [localhost]: ", "127.0.0.1:1")
	p.answers("database [postgres]: ", "bunkhaus")
	p.answers("user: ", "")
	p.answers("There is no default", "warden_app")
	p.answers("(? lists them): ", "")
	p.answers("Password of warden_app at 127.0.0.1:1: ", strings.ToLower(canary))
	p.reads("finding port.refused")
	p.answers("or leave? [change] ", "what")
	p.answers("Type change", "")
	p.answers("Which setting [port]: ", "prt")
	p.answers("no setting of that name", "")
	p.answers("port [1]: ", "x")
	p.answers("is not a port", fmt.Sprint(s.Port()))
	// The password was sent to nobody yet, so it is not asked for again.
	p.reads("finding login.refused")
	p.answers("or leave? [change] ", "test")
	p.answers("Password of warden_app", canary)
	p.reads("finding database.missing")
	p.answers("or leave? [change] ", "change")
	p.answers("Which setting [database]: ", "database")
	p.answers("database [bunkhaus]: ", "bunkhouse")
	// What was typed for one target is offered for another, and not used there unasked.
	p.answers("database bunkhouse, without encryption too? (yes, no) [yes] ", "no")
	p.answers("Password of warden_app", canary)
	p.reads("You are in")
	p.reads("Saved huts/local")
	p.answers("Store this password", "")
	if code, _ := p.ends(); code != 0 {
		t.Errorf("exit %d", code)
	}
	if strings.Contains(strings.ToLower(p.screen()), strings.ToLower(canary)) {
		t.Error("the screen shows the password")
	}
	file, err := os.ReadFile(filepath.Join(w.home, "gharbor", "profiles", "huts", "local.yaml"))
	want := fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\ndatabase: bunkhouse\nuser: warden_app\n", s.Port())
	if err != nil || string(file) != want {
		t.Errorf("saved is %q, %v", file, err)
	}
}

// TestAddOffersServers takes the address of a server that greets here, and leaves nothing typed
// behind when the dialogue is interrupted.
func TestAddOffersServers(t *testing.T) {
	s := practice(t, standin.Config{Engine: "mariadb", Login: "mysql_native_password", Address: "127.0.9.2:3306"})
	w := newWorld(t)
	for _, engine := range []string{"MariaDB", "mariadb"} {
		p := w.sit("add", "huts/here", "--engine", engine, "--user", "warden_app", "--note", "it's new")
		p.reads("Which one (1")
		line := regexp.MustCompile(fmt.Sprintf(`(?m)^  (\d)  127\.0\.9\.2:%d `, s.Port())).FindStringSubmatch(p.screen())
		if line == nil {
			t.Fatalf("it is not offered:\n%s", p.screen())
		}
		p.answers("or Enter for another: ", line[1])
		p.answers("database", "bunkhouse")
		p.answers("(? lists them): ", "?")
		p.reads("choose where to store it")
		p.answers("(? lists them): ", canary) // the password itself, where its source is asked for
		p.reads("That is not where a password comes from")
		p.answers("(? lists them): ", "")
		p.answers("Password of warden_app", "\x03")
		p.reads("To go on from here:")
		code, _ := p.ends()
		if strings.Contains(p.screen(), canary) {
			t.Error("the screen shows what was typed at the password")
		}
		// The line is folded after a backslash, as a shell takes it.
		has(t, strings.ReplaceAll(strings.ReplaceAll(p.screen(), "\r", ""), " \\\n      ", " "),
			fmt.Sprintf("gharbor add huts/here --engine mariadb --host 127.0.9.2 --port %d --database bunkhouse "+
				"--user warden_app --note 'it'\\''s new'",
				s.Port()))
		if code != 130 {
			t.Errorf("exit %d", code)
		}
	}
}

func TestAddCanBeLeftOrSavedAsItIs(t *testing.T) {
	w := newWorld(t)
	for _, c := range []struct {
		word string
		code int
		says string
	}{{"leave", 5, "was not saved"}, {"save", 0, "Saved p"}} {
		p := w.sit("add", "p", "mysql://a@127.0.0.1:1/x", "--secret", "none")
		p.answers("or leave? [change] ", c.word)
		p.reads(c.says)
		if c.word == "leave" {
			p.reads("To go on from here:")
			p.reads("gharbor add p --engine mysql --host 127.0.0.1 --port 1 --database x --user a --secret none")
		}
		if code, _ := p.ends(); code != c.code {
			t.Errorf("%s: exit %d", c.word, code)
		}
	}
	p := w.sit("remove", "p")
	p.answers("Remove p?", "no")
	p.reads("Nothing was removed")
	p = w.sit("remove", "p")
	p.answers("Remove p?", "yes")
	p.reads("Removed p")
}

func TestNoPasswordIsAskedAbout(t *testing.T) {
	s := practice(t, standin.Config{Engine: "mysql", Login: "mysql_native_password"})
	w := newWorld(t)
	to := fmt.Sprintf("mysql://warden_app@127.0.0.1:%d", s.Port())
	p := w.sit("test", to)
	p.answers("Password of", "")
	p.answers("Is there no password", "again")
	p.answers("Password of", canary)
	p.reads("You are in")
	p = w.sit("test", to)
	p.answers("Password of", "")
	p.answers("Is there no password", "none")
	p.reads("no password was sent")
	// How long a person takes is no leg's time.
	p = w.sit("test", to)
	p.reads("Password of")
	time.Sleep(1500 * time.Millisecond)
	p.types(canary + "\n")
	p.reads("You are in, after ")
	p.answers("Store this password", "")
	p.ends()
	if match := regexp.MustCompile(`after ([0-9.]+) ms`).FindStringSubmatch(p.screen()); match == nil ||
		len(match[1]) > len("999.9") {
		t.Errorf("%v", match)
	}
	p = w.sit("test", fmt.Sprintf("mysql://127.0.0.1:%d", s.Port()))
	p.answers("User at 127.0.0.1", "warden_app")
	p.answers("Password of warden_app", canary)
	p.reads("You are in")
}

func TestInterrupt(t *testing.T) {
	w := newWorld(t, "PW="+canary)
	to := func(faults standin.Faults) string {
		s := practice(t, standin.Config{Engine: "postgres", Faults: faults})
		return fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", s.Port())
	}
	for _, c := range []struct {
		name  string
		args  []string
		wait  string
		types string
	}{
		{"a question", []string{"add", "p", "--host", "h"}, "engine", ""},
		{"a secret", []string{"test", to(standin.Faults{})}, "Password of", ""},
		{"whether there is a password", []string{"test", to(standin.Faults{})}, "Password of", "\n"},
		{"silence", []string{"test", to(standin.Faults{Stall: true}), "--secret", "env:PW"}, "", ""},
		{"a silent login", []string{"test", to(standin.Faults{StallLogin: true}), "--secret", "env:PW"}, "", ""},
		{"a silent query", []string{"run", to(standin.Faults{StallQuery: true}), "select 1", "--secret", "env:PW"}, "", ""},
		{"after a failure", []string{"add", "p", "mysql://a@127.0.0.1:1/x", "--secret", "none"}, "or leave?", ""},
		{"the demo's servers", []string{"demo", "--stay"}, "Ctrl-C here ends them", ""},
		{"an answer before removing", []string{"remove", "q"}, "Remove q?", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := &world{T: t, home: w.home, environ: w.environ}
			w.must(0, "add", "q", "mysql://a@h", "--replace")
			p := w.sit(c.args...)
			if c.wait != "" {
				p.reads(c.wait)
			} else {
				time.Sleep(250 * time.Millisecond)
			}
			if c.types != "" {
				p.types(c.types)
				p.reads("Is there no password")
			}
			p.types("\x03")
			if code, took := p.ends(); code != 130 || took > 8*time.Second {
				t.Errorf("exit %d after %s; on the screen:\n%s", code, took, p.screen())
			}
		})
	}
}

// TestRogue meets servers on what the profile takes for another machine; names of
// fellside.example are this machine's, by a hosts file of a mount namespace of the test's own.
func TestRogue(t *testing.T) {
	if runtime.GOOS != "linux" || os.Geteuid() != 0 || exec.Command("unshare", "-m", "true").Run() != nil {
		missing(t, "a mount namespace (Linux, as root)")
	}
	authority, err := standin.NewAuthority("rogue")
	if err != nil {
		t.Fatal(err)
	}
	encryption, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), "db.fellside.example")
	if err != nil {
		t.Fatal(err)
	}
	w := newWorld(t, "PW="+canary)
	hosts := w.write("hosts", "127.0.0.1 localhost db.fellside.example\n")
	ca := w.write("ca.pem", string(authority.PEM))
	hostile := "\x1b]0;owned\x07\x1b[2J\u202egnp.exe\r\nok"
	for _, c := range []struct {
		name   string
		engine string
		faults standin.Faults
		args   []string
		code   string
		shown  bool
	}{
		{"clear", "postgres", standin.Faults{AskClear: true}, []string{"--tls", "off"}, "login.would-show-password", false},
		{"clear", "mysql", standin.Faults{AskClear: true}, []string{"--tls", "off"}, "login.would-show-password", false},
		{"clear, encrypted", "postgres", standin.Faults{AskClear: true}, []string{"--tls", "encrypt"},
			"login.would-show-password", false},
		{"clear, encrypted", "mysql", standin.Faults{AskClear: true}, []string{"--tls", "encrypt"},
			"login.would-show-password", false},
		{"own key", "mysql", standin.Faults{OwnKey: true}, []string{"--tls", "off"}, "login.would-show-password", false},
		{"own key, encrypted", "mysql", standin.Faults{OwnKey: true}, []string{"--tls", "encrypt"},
			"login.would-show-password", false},
		{"not trusted", "postgres", standin.Faults{AskClear: true}, nil, "tls.not-trusted", false},
		{"not trusted", "mysql", standin.Faults{AskClear: true}, nil, "tls.not-trusted", false},
		{"clear, verified", "postgres", standin.Faults{AskClear: true}, []string{"--tls-ca", ca}, "", true},
		{"clear, verified", "mysql", standin.Faults{AskClear: true}, []string{"--tls-ca", ca}, "", true},
		{"hostile words", "postgres", standin.Faults{ErrorText: hostile, Echo: true}, []string{"--tls", "off"},
			"login.refused", false},
		{"hostile words", "mysql", standin.Faults{ErrorText: hostile, Echo: true}, []string{"--tls", "encrypt"}, "", false},
		{"hostile greeting", "postgres", standin.Faults{Greeting: []byte("SSH-2.0-" + hostile)},
			[]string{"--tls", "off"}, "greeting.not-a-database", false},
		{"huge greeting", "mysql", standin.Faults{Greeting: append([]byte{0xff, 0xff, 0xff, 0, 10},
			make([]byte, 4<<20)...)}, []string{"--tls", "off"}, "greeting.malformed", false},
		{"huge message", "postgres", standin.Faults{Greeting: append([]byte("R\x7f\xff\xff\xff"),
			make([]byte, 4<<20)...)}, []string{"--tls", "off"}, "greeting.malformed", false},
	} {
		s := practice(t, standin.Config{Engine: c.engine, Faults: c.faults, TLS: encryption})
		for _, extra := range [][]string{nil, {"--json"}} {
			args := append([]string{"-m", "sh", "-c", `mount --bind "$0" /etc/hosts && exec "$@"`, hosts, gharbor, "test",
				fmt.Sprintf("%s://warden_app@db.fellside.example:%d/bunkhouse", c.engine, s.Port()),
				"--secret", "env:PW", "--timeout", "10s"}, append(extra, c.args...)...)
			cmd := exec.Command("unshare", args...)
			cmd.Dir, cmd.Env = w.home, w.environ
			r := w.finish(cmd)
			name := fmt.Sprint(c.name, " ", c.engine, extra)
			if c.code != "" {
				has(t, r.out, c.code)
			}
			if shown := len(s.Shown()) > 0; shown != c.shown {
				t.Errorf("%s: the password was shown: %v\n%s%s", name, shown, r.out, r.err)
			}
			if strings.Contains(r.out+r.err, canary) || strings.ContainsAny(r.out+r.err, "\x1b\x07\r\u202e") {
				t.Errorf("%s: raw words or the password in %q", name, r.out+r.err)
			}
			if r.peak > 100<<20 {
				t.Errorf("%s: %d MB", name, r.peak>>20)
			}
		}
	}
}

// TestProgramsHaveTheTerminal has an editor and the program of a door look for a terminal: they
// are given this program's own.
func TestProgramsHaveTheTerminal(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	w.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()),
		"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
	look := w.write("look", "#!/bin/sh\nfor n in 0 1 2; do test -t $n && printf 'has-%s ' $n; done\n")
	must(t, os.Chmod(look, 0o700))
	for _, args := range [][]string{{"with", "p", "--", look}, {"edit", "p"}} {
		p := w.atTerminal(100, func() *exec.Cmd {
			cmd := w.command(args...)
			cmd.Env = append(cmd.Env, "EDITOR="+look)
			return cmd
		}())
		p.reads("has-0 has-1 has-2")
		p.ends()
	}
}
