//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/standin"
)

// TestAwaitTakesTurns waits for two silent profiles, one test at a time.
func TestAwaitTakesTurns(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres", Faults: standin.Faults{StallLogin: true}})
	w := newWorld(t, "PW="+canary)
	for _, name := range []string{"g/a", "g/b"} {
		w.must(0, "add", name, fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", s.Port()),
			"--secret", "env:PW", "--timeout", "1s")
	}
	if r := w.must(6, "await", "g/", "--parallel", "1", "--for", "300ms",
		"--every", "50ms"); r.took > 5*time.Second || strings.Count(r.out, "login.silent") < 2 {
		t.Errorf("after %s:\n%s%s", r.took, r.out, r.err)
	}
	p := w.sit("await", "g/", "--parallel", "1", "--for", "30s", "--every", "20s", "--timeout", "20s",
		"--timeout-total", "20s")
	eventually(t, "it tests", func() bool { return s.Connections() > 0 })
	p.Types("\x03")
	if code, took := p.Ends(); code != 130 || took > 8*time.Second {
		t.Errorf("exit %d after %s", code, took)
	}
}

func TestRenameOntoItself(t *testing.T) {
	w := newWorld(t)
	w.must(0, "add", "a", "mysql://u@h")
	for _, args := range [][]string{{"rename", "a", "a", "--replace"}, {"rename", "a", "mine:a", "--replace"},
		{"copy", "a", "a", "--replace"}, {"rename", "a", "a"}} {
		has(t, w.must(2, args...).err, "the same profile")
		w.must(0, "show", "a")
	}
}

// TestLimitsAreSaidAsTheyWere has the whole route's limit end a leg that had longer.
func TestLimitsAreSaidAsTheyWere(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres", Faults: standin.Faults{Stall: true}})
	w := newWorld(t, "PW="+canary)
	at := fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", s.Port())
	r := w.must(5, "test", at, "--secret", "env:PW", "--timeout", "20s", "--timeout-total", "300ms")
	if strings.Contains(r.out, "20s.") || !regexp.MustCompile(`says nothing for ([12]\d\d|300)ms`).MatchString(r.out) {
		t.Errorf("%s", r.out)
	}
}

// TestOneOffFlagsAreNoHistory tests once with another host: that run is not what later tests
// compare with.
func TestOneOffFlagsAreNoHistory(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	w.must(0, "add", "p", "postgres://warden_app@127.0.0.1:1/bunkhouse", "--secret", "env:PW")
	w.must(0, "test", "p", "--port", fmt.Sprint(s.Port()))
	r := w.must(5, "test", "p")
	if strings.Contains(r.out, "since the last good test") {
		t.Errorf("a run with --port is compared with:\n%s", r.out)
	}
	w.must(0, "change", "p", "--port", fmt.Sprint(s.Port()))
	w.must(0, "test", "p")
	w.must(0, "change", "p", "--port", "1")
	has(t, strings.Join(strings.Fields(w.must(5, "test", "p").out), " "), "since the last good test",
		fmt.Sprintf("port was %d, and is 1", s.Port()))
}

func TestUnsetTakesAWholeMapOut(t *testing.T) {
	w := newWorld(t)
	path := w.write("gharbor/profiles/p.yaml",
		"engine: postgres\nuser: u\nexpect:\n  superuser: false\n  encrypted: true\n  can: [select on "+
			"hut]\nlabels:\n  a: b\n  c: d\n# kept\nnote: x\n")
	w.must(0, "change", "p", "--unset", "expect", "--unset", "labels")
	if text, err := os.ReadFile(path); err != nil || strings.Contains(string(text), "superuser") ||
		strings.Contains(string(text), "a: b") || !strings.Contains(string(text), "# kept\nnote: x") {
		t.Errorf("%s, %v", text, err)
	}
}

// TestTheSecretThatFailedIsNotProposed keeps one password in two places.
func TestTheSecretThatFailedIsNotProposed(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW=wrong-5b2f")
	at := fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", s.Port())
	w.write("gharbor/credentials", "# gentle-harbor credentials 1\nat 127.0.0.1\n  warden_app: wrong-5b2f\n")
	w.must(0, "add", "p", at)
	w.must(0, "add", "q", at, "--secret", "credentials")
	w.must(0, "add", "r", at, "--secret", "env:PW")
	for _, args := range [][]string{{"test", "p"}, {"await", "p", "--for", "200ms"}, {"test", "q"}, {"test", "r"}} {
		r := w.must(6, args...)
		if strings.Contains(r.out, "--secret credentials") || strings.Contains(r.out, "--secret env:PW") {
			t.Errorf("%v proposes the secret that failed:\n%s", args, r.out)
		}
	}
	w.write("gharbor/credentials", "# gentle-harbor credentials 1\nat 127.0.0.1\n  warden_app: "+canary+"\n")
	has(t, w.must(6, "test", "r").out, "--secret credentials")
}

// TestReportsGoToTheFolder writes a report beside the profile's folder.
func TestReportsGoToTheFolder(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	w.must(0, "test", fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", s.Port()),
		"--secret", "env:PW", "--as", "json", "--to", "report.json")
	data, err := os.ReadFile(filepath.Join(w.home, "report.json"))
	var any any
	if err != nil || json.Unmarshal(data, &any) != nil {
		t.Errorf("%s, %v", data, err)
	}
}

// TestAQuestionStaysOnTheScreen has several tests run while a person is asked for a password.
func TestAQuestionStaysOnTheScreen(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	at := fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", s.Port())
	w.must(0, "add", "g/asks", at, "--secret", "ask")
	for i := range 6 {
		w.must(0, "add", fmt.Sprintf("g/p%d", i), at, "--secret", "env:PW")
	}
	p := w.sit("test", "g/")
	p.Reads("Password of warden_app")
	time.Sleep(300 * time.Millisecond)
	after := p.Unread()
	if strings.Contains(after, "\x1b[") || strings.Contains(after, "tested") {
		t.Errorf("the question is painted over: %q", after)
	}
	p.Types(canary + "\n")
	p.Reads("7 profiles: 7 connected, 0 failed")
	if code, _ := p.Ends(); code != 0 {
		t.Errorf("exit %d", code)
	}
}
