//go:build unix

package agree

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/profile"
)

// shelf is a project beside your own profiles.
type shelf struct {
	*testing.T
	root string
	profile.Library
	gate Gate
}

func newShelf(t *testing.T) *shelf {
	root := t.TempDir()
	s := &shelf{T: t, root: root, Library: profile.Library{
		Mine:    profile.Store{Dir: filepath.Join(root, "mine")},
		Project: profile.Store{Dir: filepath.Join(root, "project", ".gentle-harbor"), Project: true},
	}}
	s.gate = Gate{Library: s.Library, Agreements: Agreements{File: filepath.Join(root, "state", "agreements.json")}}
	return s
}

func (s *shelf) put(path, text string) string {
	s.Helper()
	path = filepath.Join(s.root, path)
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text), 0o755)); err != nil {
		s.Fatal(err)
	}
	return path
}

func (s *shelf) project(name, text string) {
	s.Helper()
	s.put("project/.gentle-harbor/profiles/"+name+".yaml", text)
}

func (s *shelf) stack(name string) profile.Stack {
	s.Helper()
	stack, err := s.Load(name)
	if err != nil {
		s.Fatal(err)
	}
	return stack
}

func (s *shelf) admit(name string, over ...profile.Layer) (Admitted, error) {
	s.Helper()
	return s.gate.Admit(s.Context(), s.stack(name), over...)
}

func (s *shelf) agree(name string) {
	s.Helper()
	t, err := Of(s.Library, s.stack(name), s.gate.ssh())
	if err == nil {
		err = s.gate.Agreements.Agree(s.Context(), t, time.Now())
	}
	if err != nil {
		s.Fatal(err)
	}
}

func refused(err error, why string) bool {
	var r *Refused
	return errors.As(err, &r) && strings.Contains(r.Why, why)
}

func TestZeroValueOpensNothing(t *testing.T) {
	var a Admitted
	if a.OK() || a.Profile().Host != "" || a.Again() == nil ||
		a.Over(profile.Layer{"host": {Text: "h"}}).OK() || a.Database("x").OK() {
		t.Error("the zero value is a profile")
	}
	stranger := profile.Value{Text: "h", Origin: profile.Origin{Project: "/p"}}
	if _, err := Own(profile.Library{}, "x", profile.Layer{}, profile.Layer{"host": stranger}); !refused(err,
		"comes from the project") {
		t.Errorf("%v", err)
	}
	own, err := Own(profile.Library{}, "x", profile.Layer{"engine": {Text: "mysql"}, "user": {Text: "u"}})
	if err != nil || !own.OK() || own.Again() != nil || own.Profile().User != "u" {
		t.Errorf("%v", err)
	}
	if own.Over(profile.Layer{"host": stranger}).Profile().Host != "localhost" ||
		own.Over(profile.Layer{"host": {Text: "h"}}).Profile().Host != "h" {
		t.Error("a layer over it counts in another way")
	}
}

// TestEachChangeIsAskedAbout changes each setting that a project says, each file that it names,
// and each layer.
func TestEachChangeIsAskedAbout(t *testing.T) {
	s := newShelf(t)
	tool := s.put("project/tool", "#!/bin/sh\necho one\n")
	s.put("project/ca.pem", "one")
	good := "engine: postgres\nuser: a\nhost: h\ntls: {mode: verify, ca: ../../ca.pem}\nsecret: {command: [" +
		tool + "]}\non-open: [\"set a = 1; set b\", set c = 1]\n"
	s.project("p", good)
	if _, err := s.admit("p"); !refused(err, "nobody here has said yet") {
		t.Errorf("%v", err)
	}
	s.agree("p")
	is := func(what string, agreed bool) {
		t.Helper()
		a, err := s.admit("p")
		if agreed != (err == nil) || !agreed && !refused(err, "has changed since") || a.OK() != agreed {
			t.Errorf("%s: %v", what, err)
		}
	}
	is("as it was", true)
	for what, text := range map[string]string{
		"another host": strings.Replace(good, "host: h", "host: strange", 1),
		"another port": good + "port: 7\n", "weaker encryption": strings.Replace(good, "verify", "encrypt", 1),
		"another secret":    strings.Replace(good, "["+tool+"]", "["+tool+", more]", 1),
		"another statement": strings.Replace(good, "set c = 1", "set c = 2", 1),
		"the same words in other statements": strings.Replace(good, `["set a = 1; set b", set c = 1]`,
			`[set a = 1, "set b; set c = 1"]`, 1),
		"another user": strings.Replace(good, "user: a", "user: b", 1),
		"an option":    good + "options: {search_path: x}\n", "a role": good + "role: x\n",
		"nothing of the encryption": strings.Replace(good, "tls: {mode: verify, ca: ../../ca.pem}\n", "", 1),
		"a login method":            good + "login-methods: [md5]\n", "a socket's owner": good + "socket-owner: \"54321\"\n",
	} {
		s.project("p", text)
		is(what, false)
	}
	s.project("p", good+"note: new words\nlabels: {a: b}\n# a comment\n")
	is("words for people", true)
	s.project("group", "role: from the group\n")
	is("a group", false)
	_ = os.Remove(filepath.Join(s.Project.Dir, "profiles", "group.yaml"))
	for _, path := range []string{"project/tool", "project/ca.pem"} {
		before, _ := os.ReadFile(filepath.Join(s.root, path))
		s.put(path, "changed")
		is(path, false)
		s.put(path, string(before))
	}
	is("as it was again", true)
	// What is your own to say asks nobody.
	if a, err := s.admit("p", profile.Layer{"user": {Text: "me"}}); err != nil || a.Profile().User != "me" {
		t.Errorf("a flag: %v", err)
	}
	if was, err := s.gate.Agreements.Withdraw(t.Context(), s.Project.Dir, "p"); !was || err != nil {
		t.Errorf("%v, %v", was, err)
	}
	if _, err := s.admit("p"); !refused(err, "nobody here") {
		t.Errorf("%v", err)
	}
}

// TestWhatWasHashedIsWhatIsUsed swaps files after a profile was admitted.
func TestWhatWasHashedIsWhatIsUsed(t *testing.T) {
	s := newShelf(t)
	tool, ca := s.put("project/tool", "#!/bin/sh\necho one\n"), s.put("project/ca.pem", "one")
	s.project("p", "engine: postgres\nuser: a\nhost: h\ntls: {ca: ../../ca.pem}\nsecret: {command: [../../tool, plain]}\n")
	s.agree("p")
	a, err := s.admit("p")
	if err != nil || a.Again() != nil {
		t.Fatal(err)
	}
	program, err := a.Command([]string{tool, "plain"})
	if err != nil {
		t.Fatal(err)
	}
	run, dir, done := program.Words, program.Dir, program.Done
	if held, err := io.ReadAll(program.File); err != nil || string(held) != "#!/bin/sh\necho one\n" {
		t.Errorf("what is started: %s %v", held, err)
	}
	s.put("project/tool", "#!/bin/sh\necho two\n")
	s.put("project/ca.pem", "two")
	if data, err := a.ReadFile(ca, 100); err != nil || string(data) != "one" {
		t.Errorf("%s, %v", data, err)
	}
	if _, err := a.ReadFile(ca, 2); err == nil {
		t.Error("a limit is passed")
	}
	if data, err := os.ReadFile(run[0]); err != nil || string(data) != "#!/bin/sh\necho one\n" ||
		run[1] != "plain" || strings.HasPrefix(run[0], s.root+"/project") {
		t.Errorf("%v %s, %v", run, data, err)
	}
	if entries, err := os.ReadDir(dir); err != nil || len(entries) > 0 {
		t.Errorf("%s: %v, %v", dir, entries, err)
	}
	done()
	if _, err := os.Stat(run[0]); err == nil {
		t.Error("the copy stays")
	}
	if err := a.Again(); !refused(err, "changed since this command began") {
		t.Errorf("%v", err)
	}
}

// TestArgumentsNameNothingOfTheProject has a project's program be given something that the
// project can change.
func TestArgumentsNameNothingOfTheProject(t *testing.T) {
	s := newShelf(t)
	s.put("project/fetch.sh", "echo x")
	s.put("project/tools/main.py", "x")
	inside := filepath.Join(s.root, "project", "fetch.sh")
	for _, c := range []struct {
		command string
		refused bool
	}{
		{"[sh, ./fetch.sh]", true}, {"[sh, fetch.sh]", true}, {"[python3, tools]", true},
		{`[sh, -c, ". ./fetch.sh"]`, true}, {`[sh, -c, "x=1;./fetch.sh"]`, true},
		{"[cat, " + inside + "]", true}, {"[cat, --file=" + inside + "]", true},
		{"[cat, --file=fetch.sh]", true}, {"[printf, word]", false}, {"[keeper, hut, --quiet]", false},
		{`[sh, -c, ". $HOME/clone/fetch.sh"]`, true}, {"[sh, \"~/clone/fetch.sh\"]", true},
	} {
		s.project("p", "engine: postgres\nuser: a\nhost: h\nsecret: {command: "+c.command+"}\n")
		_, err := Of(s.Library, s.stack("p"), s.gate.ssh())
		if c.refused != (err != nil) {
			t.Errorf("%s: %v", c.command, err)
		}
		if _, err := s.admit("p"); c.refused && !refused(err, "inside the project") {
			t.Errorf("%s: %v", c.command, err)
		}
	}
}

// TestDrafts admits a profile that is being written, with a project's base, only when what the
// base says was agreed to.
func TestDrafts(t *testing.T) {
	s := newShelf(t)
	s.project("shared", "engine: postgres\nuser: a\nhost: h\nsecret: {command: [keeper]}\n")
	s.project("g/group", "on-open: [drop table hut]\n")
	own := func(base string) profile.Layer {
		return profile.Layer{"base": {Text: base}, "note": {Text: "mine"}}
	}
	draft := func(store profile.Store, name string, layer profile.Layer) error {
		_, err := s.gate.Try(t.Context(), s.Draft(store, name, layer))
		return err
	}
	if err := draft(s.Mine, "x", own("project:shared")); !refused(err, "nobody here") {
		t.Errorf("a base: %v", err)
	}
	if err := draft(s.Project, "g/x",
		profile.Layer{"engine": {Text: "mysql"}, "user": {Text: "u"}}); !refused(err, "nobody here") {
		t.Errorf("a group: %v", err)
	}
	if err := draft(s.Project, "x", profile.Layer{"engine": {Text: "mysql"}, "user": {Text: "u"}}); err != nil {
		t.Errorf("all your own: %v", err)
	}
	s.agree("project:shared")
	if err := draft(s.Mine, "x", own("project:shared")); err != nil {
		t.Errorf("an agreed base: %v", err)
	}
	s.project("shared", "engine: postgres\nuser: a\nhost: other\nsecret: {command: [keeper]}\n")
	if err := draft(s.Mine, "x", own("project:shared")); !refused(err, "nobody here") {
		t.Errorf("a base that changed: %v", err)
	}
}

// TestOlderAgreements asks once more for agreements that did not keep what was said, and shows
// what changed in others.
func TestOlderAgreements(t *testing.T) {
	s := newShelf(t)
	s.project("p", "engine: postgres\nuser: a\nhost: h\n")
	s.put("state/agreements.json", `[{"project": "`+s.Project.Dir+`", "profile": "p", "digest": "aa", "when": "2026-01-01T00:00:00Z"}]`)
	if _, err := s.admit("p"); !refused(err, "in an older version") {
		t.Errorf("%v", err)
	}
	var shown []string
	s.gate.Ask = func(_ context.Context, _ profile.Stack, terms Terms, standing Standing) (bool, error) {
		if standing.Before != nil && standing.Before.Terms != nil {
			shown = terms.Changes(*standing.Before.Terms)
		}
		return true, nil
	}
	if _, err := s.admit("p"); err != nil || shown != nil {
		t.Errorf("%v, %q", err, shown)
	}
	s.project("p", "engine: postgres\nuser: a\nhost: other\non-open: [set a = 1]\n")
	if _, err := s.admit("p"); err != nil ||
		strings.Join(shown, "; ") != "was  host: h; is   host: other; is   on-open: 1. set a = 1" {
		t.Errorf("%v, %q", err, shown)
	}
}
