package jump

import (
	"io"
	"net"
	"os/exec"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// command starts the configuration's own program (ProxyCommand), whose input and output are the connection.
func (a *attempt) command(word Word) (net.Conn, error) {
	text, err := a.Config.World.expand(word.Text, a.tokens())
	if err != nil {
		return nil, broken(word, "%v", err)
	}
	cmd := exec.Command("/bin/sh", "-c", "exec "+text)
	cmd.Env = a.Config.World.Environ
	words := &limitedWords{}
	cmd.Stderr = words
	end := apart(cmd)
	in, err := cmd.StdinPipe()
	if err == nil {
		var out io.ReadCloser
		if out, err = cmd.StdoutPipe(); err == nil {
			if err = cmd.Start(); err == nil {
				p := &piped{in: in, out: out, words: words}
				p.end = sync.OnceFunc(func() {
					_, _ = in.Close(), out.Close()
					end()
					_ = cmd.Wait()
				})
				return p, nil
			}
		}
	}
	made := a.problem(finding.TunnelUnknown, finding.Facts{finding.FactOrigin: word.Place()})
	made.Err, made.Words = err, outside.Raw(err.Error())
	return nil, made
}

// limitedWords keeps the first words that a program says on its standard error.
type limitedWords struct {
	mu   sync.Mutex
	text strings.Builder
}

// Write keeps the beginning.
func (w *limitedWords) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if room := 1000 - w.text.Len(); room > 0 {
		w.text.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

// piped is a connection to a program.
type piped struct {
	in    io.WriteCloser
	out   io.ReadCloser
	words *limitedWords
	end   func()
}

func (p *piped) Read(b []byte) (int, error)       { return p.out.Read(b) }
func (p *piped) Write(b []byte) (int, error)      { return p.in.Write(b) }
func (p *piped) Close() error                     { p.end(); return nil }
func (p *piped) LocalAddr() net.Addr              { return pipeAddr{} }
func (p *piped) RemoteAddr() net.Addr             { return pipeAddr{} }
func (p *piped) SetDeadline(time.Time) error      { return nil }
func (p *piped) SetReadDeadline(time.Time) error  { return nil }
func (p *piped) SetWriteDeadline(time.Time) error { return nil }

type pipeAddr struct{}

func (pipeAddr) Network() string { return "program" }
func (pipeAddr) String() string  { return "a program" }
