//go:build linux

package container

import (
	"bufio"
	"bytes"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestBridge runs the bridge's program in a shell as a container has one: with each of the
// programs that it may use alone, with none, and in a language that is not there.
func TestBridge(t *testing.T) {
	server, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer server.Close()
	go func() {
		for {
			conn, err := server.Accept()
			if err != nil {
				return
			}
			line, _ := bufio.NewReader(conn).ReadString('\n')
			_, _ = io.WriteString(conn, "heard "+line)
			_ = conn.Close()
		}
	}()
	_, port, _ := net.SplitHostPort(server.Addr().String())
	for name, c := range map[string]struct {
		programs []string
		opens    bool
		says     string
	}{
		"bash": {[]string{"bash", "cat", "kill"}, true, ""}, "nc": {[]string{"nc"}, true, ""},
		"socat":   {[]string{"socat"}, true, ""},
		"nothing": {nil, false, "the container has no bash, no nc and no socat\n"},
	} {
		bin, missing := t.TempDir(), false
		for _, program := range c.programs {
			path, err := exec.LookPath(program)
			if missing = missing || err != nil && program != "kill"; err == nil {
				must(t, os.Symlink(path, filepath.Join(bin, program)))
			}
		}
		if missing {
			t.Logf("%s is not here", name)
			continue
		}
		for _, language := range []string{"", "LC_ALL=xx_YY.UTF-8", "LANG=de_DE.UTF-8"} {
			cmd := exec.Command("/bin/sh", "-c", bridge, "sh", port)
			cmd.Env = []string{"PATH=" + bin, language}
			in, err := cmd.StdinPipe()
			must(t, err)
			from, err := cmd.StdoutPipe()
			must(t, err)
			var errs bytes.Buffer
			cmd.Stderr = &errs
			must(t, cmd.Start())
			_, _ = io.WriteString(in, "a beginning\n")
			out, _ := bufio.NewReader(from).ReadString('\n')
			_ = in.Close()
			_ = cmd.Wait()
			if isOpen(errs.String()) != c.opens || c.opens && out != "heard a beginning\n" ||
				!strings.Contains(errs.String(), c.says) || !c.opens && cmd.ProcessState.ExitCode() != 72 {
				t.Errorf("%s, %s: %q, %q, exit %d", name, language, out, errs.String(), cmd.ProcessState.ExitCode())
			}
		}
	}
	for words, is := range map[string]bool{"open\n": true,
		"bash: warning: setlocale: LC_ALL: cannot change locale (xx)\nopen\n": true, "open": false,
		"it is open\n": false, "": false, "reopen\n": false} {
		if isOpen(words) != is {
			t.Errorf("%q", words)
		}
	}
}
