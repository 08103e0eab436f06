//go:build unix

package realtest

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"golang.org/x/term"
)

// Person sits at a terminal, in which a program runs.
type Person struct {
	*testing.T
	Terminal *os.File // the person's end of it
	Cmd      *exec.Cmd
	mu       sync.Mutex
	seen     bytes.Buffer
	at       int // what was read of seen so far
	state    *term.State
}

// AtTerminal starts a program at a terminal of 40 rows. The program is killed at the test's end.
func AtTerminal(t *testing.T, columns int, cmd *exec.Cmd) *Person {
	t.Helper()
	cmd.Env = append(cmd.Env, "TERM=xterm", "NO_COLOR=1")
	terminal, tty, err := pty.Open()
	must(t, err)
	must(t, pty.Setsize(terminal, &pty.Winsize{Rows: 40, Cols: uint16(columns)}))
	state, err := term.GetState(int(tty.Fd()))
	must(t, err)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = tty, tty, tty
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	must(t, cmd.Start())
	p := &Person{T: t, Terminal: terminal, Cmd: cmd, state: state}
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
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = tty.Close(); _ = terminal.Close() })
	return p
}

// Reads waits until the screen shows a text after what was read before.
func (p *Person) Reads(text string) {
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

// Types types a text, a moment after what came before.
func (p *Person) Types(text string) {
	p.Helper()
	time.Sleep(20 * time.Millisecond)
	if _, err := p.Terminal.WriteString(text); err != nil {
		p.Fatal(err)
	}
}

// Answers reads a question and types a line.
func (p *Person) Answers(question, line string) {
	p.Helper()
	p.Reads(question)
	p.Types(line + "\n")
}

// Ends waits for the program's end and gives its exit code and how long it took.
func (p *Person) Ends() (int, time.Duration) {
	p.Helper()
	began := time.Now()
	done := make(chan struct{})
	go func() { _ = p.Cmd.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(30 * time.Second):
		p.Fatalf("it does not end; on the screen:\n%s", p.Screen())
	}
	p.Settles()
	after, err := term.GetState(int(p.Terminal.Fd()))
	if err != nil {
		p.Fatal(err)
	}
	if fmt.Sprint(*after) != fmt.Sprint(*p.state) {
		p.Error("the terminal is not as it was")
	}
	return p.Cmd.ProcessState.ExitCode(), time.Since(began)
}

// Settles waits until all that the program wrote is read from its terminal: until there is
// something, and a moment brings no more.
func (p *Person) Settles() {
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

// Read gives what the screen showed up to what [Person.Reads] found last, and Unread what came after
// it.
func (p *Person) Read() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.seen.String()[:p.at]
}

// Unread is described with Read.
func (p *Person) Unread() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.seen.String()[p.at:]
}

// Screen gives all that the screen showed.
func (p *Person) Screen() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.seen.String()
}
