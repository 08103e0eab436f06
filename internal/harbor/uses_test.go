package harbor

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/standin"
)

// TestWhatWordsMeanForRemoval takes names and groups of the user's own, and leaves the project's.
func TestWhatWordsMeanForRemoval(t *testing.T) {
	r, _, notes := newRun(t)
	for _, name := range []string{"huts/a", "huts/far/b", "other"} {
		r.save(t, name, "engine: postgres\nuser: u\n")
	}
	theirs := filepath.Join(r.Dir, ".gentle-harbor/profiles/huts/c.yaml")
	must(t, os.MkdirAll(filepath.Dir(theirs), 0o755))
	must(t, os.WriteFile(theirs, []byte("engine: postgres\nuser: u\n"), 0o644))
	for words, want := range map[string]string{"huts/": "huts/a huts/far/b", "other huts/a other": "huts/a other",
		"project:huts/": "huts/c", "": "", "nowhere/": "", "hut": ""} {
		got, err := New(r.World).ToRemove(strings.Fields(words))
		if (err != nil) != (want == "") || strings.ReplaceAll(strings.Join(got, " "), "project:", "") != want {
			t.Errorf("%q: %q %v", words, got, err)
		}
	}
	if text := strings.Join(*notes, "\n"); !strings.Contains(text, "1 more of huts/ are the project's") {
		t.Error(text)
	}
	all, err := r.ListWithin(t.Context())
	if err != nil || len(all.Rows) != 4 {
		t.Errorf("%+v %v", all.Rows, err)
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	if late, err := r.ListWithin(over); err != nil || len(late.Rows) > 4 {
		t.Errorf("a person who has typed on: %+v %v", late.Rows, err)
	}
}

// TestAcceptedHops lists the host keys that were accepted here, and forgets those of one hop.
func TestAcceptedHops(t *testing.T) {
	r, _, _ := newRun(t)
	path, err := r.KnownHosts()
	must(t, err)
	const key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGPKSUTyz1HwHReFVvD5obVsALAgJRNarH4TRpNePnAS"
	must(t, os.MkdirAll(filepath.Dir(path), 0o700))
	if err := os.WriteFile(path, []byte("# gentle-harbor known-hosts 2\ngate.fellside.example "+key+"\n"+
		"[far.fellside.example]:2222 "+key+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for hop, want := range map[string]int{"": 2, "gate.fellside.example": 1, "nobody.fellside.example": 0} {
		list, err := r.KnownHops(hop)
		if len(list) != want || (err != nil) != (want == 0) ||
			want == 1 && !strings.HasPrefix(list[0].Fingerprint, "SHA256:") {
			t.Errorf("%q: %+v %v", hop, list, err)
		}
	}
	if n, err := r.ForgetHop(t.Context(), "nobody.fellside.example"); n != 0 || err == nil {
		t.Errorf("%d keys of nobody's were forgotten", n)
	}
	if n, err := r.ForgetHop(t.Context(), "gate.fellside.example"); n != 1 || err != nil {
		t.Errorf("%d keys, %v", n, err)
	}
	if list, err := r.KnownHops(""); len(list) != 1 || err != nil {
		t.Errorf("%+v %v", list, err)
	}
}

// TestProbesAndRefusals asks the addresses of an alias without a login, and says what is remembered
// of a login that was refused.
func TestProbesAndRefusals(t *testing.T) {
	s := start(t, standin.Faults{})
	r, _, _ := newRun(t)
	r.aliases(t, fmt.Sprintf(
		"one: {engine: postgres, addresses: ['127.0.0.1:%d', '127.0.0.1:1'], tls: {mode: 'off'}}\n", s.Port()))
	found, err := r.ProbeAliases(t.Context(), []string{"one"}, 2, 4, time.Second)
	if err != nil || len(found) != 1 || len(found[0].Addresses) != 2 || found[0].Addresses[0].Good != 2 ||
		found[0].Addresses[1].Answers ||
		slices.ContainsFunc(s.Opened(), func(database string) bool { return database != "" }) {
		t.Errorf("%+v %v, logins %q", found, err, s.Opened())
	}
	if _, err := r.ProbeAliases(t.Context(), []string{"none"}, 1, 1, time.Second); err == nil {
		t.Error("an alias that is not there answers")
	}
	r.Environ = append(r.Environ, "BAD=not-it")
	r.save(t, "p", at(s, "secret: env:BAD\n"))
	r.save(t, "admin", strings.ReplaceAll(at(s, "secret: env:PW\n"), "bunkhouse", "postgres"))
	of, err := r.LastRefused(t.Context(), "p")
	if err != nil || of.Tested || of.Past != nil {
		t.Errorf("it was never tested, and: %+v %v", of, err)
	}
	to, err := r.Aim(t.Context(), "p", false)
	must(t, err)
	report, err := r.Test(t.Context(), to, nil)
	if err != nil || report.OK {
		t.Fatalf("%+v %v", report, err)
	}
	of, err = r.LastRefused(t.Context(), "p")
	if err != nil || of.Past == nil || of.Past.Code != "login.refused" || of.Attempt.User != "warden_app" ||
		of.Attempt.From != "127.0.0.1" || of.Attempt.Encrypted || r.Showing(of) == "" {
		t.Errorf("%+v %v", of, err)
	}
	ends := func(exits ...int) (all []*One) {
		for _, exit := range exits {
			all = append(all, &One{Report: &checkup.Report{Exit: exit}})
		}
		return all
	}
	for want, exits := range map[int][]int{0: {0, 0}, 5: {0, 5, 5}, 1: {5, 6, 5}} {
		if got := ExitOf(ends(exits...)); got != want {
			t.Errorf("%v end with %d", exits, got)
		}
	}
}
