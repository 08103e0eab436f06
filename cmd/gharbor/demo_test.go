//go:build unix

package main

import (
	"bufio"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestDemoLeavesNothing ends the demo at several moments, by signals and by closing what it
// writes to: no folder stays behind.
func TestDemoLeavesNothing(t *testing.T) {
	t.Parallel()
	start := func(t *testing.T, args ...string) (cmd *exec.Cmd, out *os.File, left func()) {
		w := newWorld(t)
		temp := t.TempDir()
		cmd = w.command(args...)
		cmd.Env = append(cmd.Env, "TMPDIR="+temp)
		out, into, err := os.Pipe()
		must(t, err)
		cmd.Stdout, cmd.Stderr = into, into
		must(t, cmd.Start())
		_ = into.Close()
		return cmd, out, func() {
			t.Helper()
			done := make(chan error, 1)
			go func() { done <- cmd.Wait() }()
			select {
			case <-done:
			case <-time.After(20 * time.Second):
				_ = cmd.Process.Kill()
				t.Error("it does not end")
			}
			entries, err := os.ReadDir(temp)
			must(t, err)
			for _, each := range entries {
				t.Errorf("%s is left", each.Name())
			}
		}
	}
	for _, args := range [][]string{{"demo"}, {"demo", "cloud"}, {"demo", "--all"}, {"demo", "--stay"}} {
		for _, lines := range []int{0, 1, 5, 30} { // how far it has come
			for name, end := range map[string]func(cmd *exec.Cmd, out *os.File){
				"INT":  func(cmd *exec.Cmd, _ *os.File) { _ = cmd.Process.Signal(os.Interrupt) },
				"TERM": func(cmd *exec.Cmd, _ *os.File) { _ = cmd.Process.Signal(syscall.SIGTERM) },
				"HUP":  func(cmd *exec.Cmd, _ *os.File) { _ = cmd.Process.Signal(syscall.SIGHUP) },
				"INT twice": func(cmd *exec.Cmd, _ *os.File) {
					_ = cmd.Process.Signal(os.Interrupt)
					_ = cmd.Process.Signal(syscall.SIGTERM) // two of one kind may become one
				},
				"closed": func(_ *exec.Cmd, out *os.File) { _ = out.Close() },
			} {
				stay := args[len(args)-1] == "--stay"
				if stay && (name == "closed" || lines > 5) ||
					len(args) > 1 && !stay && (lines != 5 || name == "TERM" || name == "HUP") {
					continue // it has said all that it says
				}
				t.Run(strings.Join(args, " ")+" "+name, func(t *testing.T) {
					cmd, out, left := start(t, args...)
					defer out.Close()
					scanner := bufio.NewScanner(out)
					for range lines {
						scanner.Scan()
					}
					if name != "closed" {
						go func() {
							for scanner.Scan() {
							}
						}()
					}
					end(cmd, out)
					left()
				})
			}
		}
	}
}
