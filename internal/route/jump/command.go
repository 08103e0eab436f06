package jump

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/child"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// Where the values of a ProxyCommand's tokens come from, for whoever has to change one.
var tokenNames = map[byte]string{
	'h': "the host (HostName, else the hop's host)", 'n': "the hop's host", 'p': "the hop's port",
	'r': "the hop's user", 'u': "the name of this account", 'd': "the home folder",
	'i': "the number of this account",
	'l': "the name of this machine", 'L': "the name of this machine",
	'k': "the HostKeyAlias, else the hop's host", 'j': "the ProxyJump",
}

// commandLine gives the line that the configuration's own program (ProxyCommand) is started with,
// "" for none: what is shown to a person, agreed to and given to the shell. Tokens have their
// values in it; variables and ~ are left to the shell, as in OpenSSH. A value that a shell could
// read as more than a word is refused.
func (a *attempt) commandLine() (string, Word, error) {
	word := a.settings.One["proxycommand"]
	if word.Text == "" || strings.EqualFold(word.Text, "none") {
		return "", word, nil
	}
	tokens := a.tokens()
	var line strings.Builder
	for i := 0; i < len(word.Text); i++ {
		c := word.Text[i]
		if c != '%' {
			line.WriteByte(c)
			continue
		}
		if i++; i == len(word.Text) {
			return "", word, broken(word, "the ProxyCommand ends in a %%")
		}
		if c = word.Text[i]; c == '%' {
			line.WriteByte('%')
			continue
		}
		value, known := tokens[c]
		if !known {
			return "", word, broken(word, "the token %%%c is not known here", c)
		}
		if !harmlessWord(value, c == 'd') {
			return "", word, a.problem(finding.TunnelCommandValue,
				finding.Facts{finding.FactOrigin: word.Place(),
					finding.FactDetail: fmt.Sprintf("%s, which stands for %%%c, is %q", tokenNames[c], c, value)})
		}
		line.WriteString(value)
	}
	if program, relative := relativeProgram(line.String()); relative && a.Strange {
		facts := finding.Facts{finding.FactOrigin: word.Place(), finding.FactName: program}
		if folder := a.Config.World.Dir; folder != "" {
			facts[finding.FactFile] = filepath.Join(folder, program)
		}
		return "", word, a.problem(finding.TunnelCommandRelative, facts)
	}
	return line.String(), word, nil
}

// harmlessWord reports whether a value is one word to every shell, and no option. A folder may
// hold slashes.
func harmlessWord(value string, folder bool) bool {
	if value == "" || value[0] == '-' {
		return false
	}
	return !strings.ContainsFunc(value, func(r rune) bool {
		return !('a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9' ||
			strings.ContainsRune("._@%+:-", r) || folder && r == '/')
	})
}

// relativeProgram gives the first word of a line where that is a path which depends on the
// current folder.
func relativeProgram(line string) (string, bool) {
	words := strings.Fields(line)
	if len(words) > 0 && words[0] == "exec" {
		words = words[1:]
	}
	if len(words) == 0 {
		return "", false
	}
	program := strings.Trim(words[0], `"'`)
	return program, strings.Contains(program, "/") && !strings.ContainsAny(program[:1], "/~$")
}

// command starts the configuration's own program, whose input and output are the connection.
func (a *attempt) command(line string, word Word) (net.Conn, error) {
	if !a.Config.World.posix() {
		return nil, a.problem(finding.TunnelNoShell, finding.Facts{finding.FactOrigin: word.Place()})
	}
	cmd := exec.Command("/bin/sh", "-c", "exec "+line)
	cmd.Env = a.Config.World.Environ
	away := func() {}
	if a.Strange {
		// The project's folder, in which one usually is, must have no part in what runs.
		folder, err := files.TempFolder(a.Temp, "gharbor-")
		if err != nil {
			return nil, a.notStarted(word, err)
		}
		away = func() { _ = os.Remove(folder) }
		cmd.Dir = folder
		cmd.Env = append(slices.DeleteFunc(slices.Clone(cmd.Env), func(each string) bool {
			return strings.HasPrefix(each, "PWD=") || strings.HasPrefix(each, "OLDPWD=")
		}), "PWD="+folder)
	}
	cmd.WaitDelay = 100 * time.Millisecond // a child of its own may hold what it wrote to
	group := child.Apart(cmd)
	p := &piped{}
	theirIn, in, err := os.Pipe()
	if err == nil {
		defer theirIn.Close()
		var theirOut *os.File
		if p.out, theirOut, err = os.Pipe(); err == nil {
			defer theirOut.Close()
			p.in, cmd.Stdin, cmd.Stdout = in, theirIn, theirOut
			if err = group.Start(); err == nil {
				p.end = sync.OnceFunc(func() {
					_, _ = p.in.Close(), p.out.Close()
					group.Kill()
					group.Close()
					away() // immediately, since this program may end before that one has
					go func() { _ = cmd.Wait() }()
				})
				return p, nil
			}
			_ = p.out.Close()
		}
		_ = in.Close()
	}
	away()
	return nil, a.notStarted(word, err)
}

func (a *attempt) notStarted(word Word, err error) error {
	made := a.problem(finding.TunnelUnknown, finding.Facts{finding.FactOrigin: word.Place()})
	made.Err, made.Words = err, outside.Said(err.Error())
	return made
}

// piped is a connection to a program.
type piped struct {
	in, out *os.File // ends of pipes, which have deadlines
	end     func()
}

func (p *piped) Read(b []byte) (int, error)  { return p.out.Read(b) }
func (p *piped) Write(b []byte) (int, error) { return p.in.Write(b) }
func (p *piped) Close() error                { p.end(); return nil }
func (p *piped) LocalAddr() net.Addr         { return pipeAddr{} }
func (p *piped) RemoteAddr() net.Addr        { return pipeAddr{} }

// CloseWrite ends the program's input; what it writes goes on to be read.
func (p *piped) CloseWrite() error { return p.in.Close() }

// SetDeadline sets both deadlines.
func (p *piped) SetDeadline(at time.Time) error {
	return errors.Join(p.out.SetReadDeadline(at), p.in.SetWriteDeadline(at))
}

// SetReadDeadline ends reads at a time.
func (p *piped) SetReadDeadline(at time.Time) error { return p.out.SetReadDeadline(at) }

// SetWriteDeadline ends writes at a time.
func (p *piped) SetWriteDeadline(at time.Time) error { return p.in.SetWriteDeadline(at) }

type pipeAddr struct{}

func (pipeAddr) Network() string { return "program" }
func (pipeAddr) String() string  { return "a program" }
