//go:build unix

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// toolPackages has each program of other people's that a test runs, beside the servers, with the
// package that has it.
var toolPackages = map[string]string{
	"bash": "bash", "zsh": "zsh", "fish": "fish", "prove": "perl", "xmllint": "libxml2-utils",
	"groff": "groff-base", "ip": "iproute2", "node": "nodejs",
	"mandoc": "mandoc", "makewhatis": "mandoc", "mwhatis": "mandoc", "dbus-run-session": "dbus",
	"gnome-keyring-daemon": "gnome-keyring",
}

// tool gives the path of a program of other people's. Where it is not installed, the test is
// skipped, or fails where CI runs.
func tool(t *testing.T, name string) string {
	t.Helper()
	if toolPackages[name] == "" {
		t.Fatalf("%s has no package in toolPackages", name)
	}
	path, err := exec.LookPath(name)
	if err != nil {
		missing(t, name)
	}
	return path
}

// TestToolsAreInstalled has it that a fresh machine gets each program that a test runs, from the
// command that runs the tests.
func TestToolsAreInstalled(t *testing.T) {
	script, err := os.ReadFile("../../scripts/test")
	must(t, err)
	installed := strings.Fields(strings.Join(regexp.MustCompile(`(?m)needed\+?=\((.*)\)$`).FindAllString(string(script),
		-1), " "))
	for i, word := range installed {
		installed[i] = strings.Trim(word[strings.Index(word, "(")+1:], ")")
	}
	for program, name := range toolPackages {
		if !slices.Contains(installed, name) {
			t.Errorf("%s is in %s, which scripts/test does not install", program, name)
		}
	}
	files, _ := filepath.Glob("*_test.go")
	for _, file := range files {
		text, err := os.ReadFile(file)
		must(t, err)
		if file != "tools_test.go" && file != "real_test.go" && strings.Contains(string(text), "exec.Look"+"Path(") {
			t.Errorf("%s: a program is found by tool alone, so that a fresh machine has it", file)
		}
	}
}
