package child

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"testing"
	"time"
)

const role = "CHILD_TEST_ROLE"

// TestMain is also the programs that the tests start: "sleeper" waits, "parent" starts a sleeper
// that holds its output and waits, "follower" starts one that follows it.
func TestMain(m *testing.M) {
	self := func(as string) *exec.Cmd {
		cmd := exec.Command(os.Args[0])
		cmd.Env, cmd.Stdout = append(os.Environ(), role+"="+as), os.Stdout
		return cmd
	}
	var err error
	switch os.Getenv(role) {
	case "":
		os.Exit(m.Run())
	case "parent":
		err = self("sleeper").Start()
	case "follower":
		err = Following(self("sleeper")).Start()
	case "leaver":
		group := Apart(self("sleeper"))
		err = group.Start()
		group.Kill()
		group.Close()
	}
	fmt.Println("ready", err)
	if os.Getenv(role) != "leaver" {
		time.Sleep(time.Minute)
	}
	os.Exit(0)
}

// TestNothingIsLeft ends a program and the one that it started: all of them hold the pipe that
// the test reads, which ends with the last.
func TestNothingIsLeft(t *testing.T) {
	for _, c := range []struct {
		role  string
		ready int // how many programs say that they are there
		end   func(*Group)
		able  bool
	}{
		{"parent", 2, (*Group).Kill, true},
		{"parent", 2, func(g *Group) { g.Kill(); g.Kill() }, true},
		{"leaver", 1, func(*Group) {}, true},
		{"follower", 2, func(g *Group) { _ = g.cmd.Process.Kill() }, runtime.GOOS == "linux" || runtime.GOOS == "windows"},
	} {
		if !c.able {
			t.Logf("%s: this system cannot end a program with its parent", c.role)
			continue
		}
		read, write, err := os.Pipe()
		if err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command(os.Args[0])
		cmd.Env, cmd.Stdout = append(os.Environ(), role+"="+c.role), write
		group := Apart(cmd)
		if err := group.Start(); err != nil {
			t.Fatal(err)
		}
		_ = write.Close()
		lines, over := bufio.NewReader(read), make(chan error, 1)
		for range c.ready {
			if line, err := lines.ReadString('\n'); err != nil || !strings.Contains(line, "ready <nil>") {
				t.Fatalf("%s: %q %v", c.role, line, err)
			}
		}
		c.end(group)
		go func() {
			_, err := io.Copy(io.Discard, lines)
			over <- err
		}()
		select {
		case <-over:
		case <-time.After(20 * time.Second):
			t.Errorf("%s: something is left", c.role)
			group.Kill()
		}
		_ = cmd.Wait()
		group.Close()
		_ = read.Close()
	}
}

// TestNotStarted leaves nothing to end.
func TestNotStarted(t *testing.T) {
	for name, made := range map[string]func(*exec.Cmd) *Group{"apart": Apart, "in front": InFront, "following": Following, "detached": Detached} {
		group := made(exec.Command("there-is-no-such-program"))
		if err := group.Start(); err == nil {
			t.Errorf("%s: started", name)
		}
		group.Kill()
		group.Close()
	}
}
