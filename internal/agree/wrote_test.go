//go:build unix

package agree

import (
	"errors"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/profile"
)

// wrote writes a project's profile as a command would, and notes the agreement to it.
func (s *shelf) wrote(name, text string) error {
	s.Helper()
	s.project(name, text)
	layer, err := profile.Parse([]byte(text), "x", profile.LayerProfile)
	if err != nil {
		s.Fatal(err)
	}
	return s.gate.Agreements.Wrote(s.Context(), s.Library, s.stack("project:"+name), layer, s.gate.ssh(), time.Now())
}

// TestWroteAgreesToOneself has a profile written into projects whose other files say this and that.
func TestWroteAgreesToOneself(t *testing.T) {
	const own = "engine: postgres\nuser: a\nhost: h\n"
	for _, c := range []struct {
		name    string
		before  func(s *shelf)
		text    string
		refused string
	}{
		{name: "alone", text: own},
		{name: "beside a group that nobody agreed to", before: func(s *shelf) {
			s.project("g/group", "on-open: [drop table hut]\n")
		}, text: own, refused: "more than what you wrote"},
		{name: "beside a group of labels", before: func(s *shelf) { s.project("g/group", "labels: {a: b}\n") }, text: own},
		{name: "beside a group that was agreed to", before: func(s *shelf) {
			s.project("g/group", "on-open: [set a = 1]\n")
			s.project("g/other", own)
			s.agree("g/other")
		}, text: own},
		{name: "beside one that changed since", before: func(s *shelf) {
			s.project("g/group", "on-open: [set a = 1]\n")
			s.project("g/other", own)
			s.agree("g/other")
			s.project("g/group", "on-open: [drop table hut]\n")
		}, text: own, refused: "more than what you wrote"},
		{name: "from a base that nobody agreed to", before: func(s *shelf) {
			s.project("b", own+"on-open: [drop table hut]\n")
		}, text: "base: b\nnote: x\n",
			refused: "more than what you wrote"},
		{name: "over all that a base says", before: func(s *shelf) { s.project("b", "host: evil\nuser: e\n") },
			text: "base: b\n" + own},
		{name: "with an authority of the project's", before: func(s *shelf) { s.put("project/ca.pem", "one") },
			text: own + "tls: {mode: verify, ca: ../../../ca.pem}\n"},
		{name: "with an authority that changed since it was agreed to", before: func(s *shelf) {
			s.put("project/ca.pem", "one")
			s.project("g/other", own+"tls: {mode: verify, ca: ../../../ca.pem}\n")
			s.agree("g/other")
			s.put("project/ca.pem", "two")
		}, text: own + "tls: {mode: verify, ca: ../../../ca.pem}\n", refused: "more than what you wrote"},
	} {
		s := newShelf(t)
		if c.before != nil {
			c.before(s)
		}
		err := s.wrote("g/p", c.text)
		if c.refused == "" && err != nil || c.refused != "" && !refused(err, c.refused) {
			t.Errorf("%s: %v", c.name, err)
		}
		if _, err := s.admit("project:g/p"); (err == nil) != (c.refused == "") {
			t.Errorf("%s: then it is admitted: %v", c.name, err)
		}
	}
	s := newShelf(t)
	s.project("p", own+"on-open: [drop table hut]\n") // someone was quicker
	err := s.gate.Agreements.Wrote(t.Context(), s.Library, s.stack("project:p"),
		profile.Layer{"engine": {Text: "postgres"}, "user": {Text: "a"}, "host": {Text: "h"}}, s.gate.ssh(),
		time.Now())
	if !refused(err, "something else than what you wrote") {
		t.Errorf("%v", err)
	}
}

// TestAskedAgainExactlyWhenItChanged makes, for each setting, each layer of a project that can
// say it, and each kind of change, a profile that was agreed to. It must be asked for again
// exactly when what the project says has changed.
func TestAskedAgainExactlyWhenItChanged(t *testing.T) {
	values := map[string][2]string{
		"engine": {"postgres", "mariadb"}, "host": {"a.example", "b.example"}, "port": {"1", "2"},
		"socket": {"/a", "/b"}, "secret": {"env:A", "env:B"}, "login-methods": {"[md5]", "[scram-sha-256]"},
		"timeout": {"3s", "4s"}, "on-open": {"[set a = 1]", "[set a = 2]"},
		"tls":     {"{mode: verify}", "{mode: verify, server-name: x}"},
		"options": {"{search_path: a}", "{search_path: b}"},
		"expect":  {"{superuser: false}", "{superuser: true}"}, "labels": {"{a: b}", "{a: c}"},
		"database": {"d", "e"}, "user": {"u", "v"}, "role": {"r", "q"}, "note": {"n", "m"},
		"socket-owner": {"x", "y"},
	}
	aside := map[string]bool{"labels": true, "note": true}
	asked, kept := 0, 0
	for name, value := range values {
		for _, layer := range []string{"g/p", "base", "g/group", "group"} {
			for _, change := range []string{"nothing", "value", "gone", "comment", "your own file", "a flag", "hidden"} {
				s := newShelf(t)
				texts := map[string]string{"g/p": "base: project:base\n", "base": "", "g/group": "", "group": ""}
				texts["g/p"] += "" // its own settings follow
				for setting, fixed := range map[string]string{"engine": "postgres", "user": "fixed"} {
					if setting != name {
						texts["base"] += setting + ": " + fixed + "\n"
					}
				}
				if change == "hidden" && layer != "g/p" {
					texts["g/p"] += name + ": " + value[1] + "\n"
				}
				put := func(value string) {
					for each, text := range texts {
						if each == layer && value != "" {
							text += name + ": " + value + "\n"
						}
						s.project(each, text)
					}
				}
				put(value[0])
				before, err := s.gate.Agreements.Standing(s.terms("project:g/p"))
				if err != nil || before.Agreed {
					t.Fatal(err)
				}
				s.agree("project:g/p")
				var over []profile.Layer
				changed := false
				switch change {
				case "value":
					put(value[1])
					changed = !aside[name]
				case "gone":
					put("")
					changed = !aside[name]
				case "comment":
					texts["g/p"] += "# words\n"
					put(value[0])
				case "your own file":
					s.put("mine/profiles/g/p2.yaml", "engine: mysql\nuser: x\n")
				case "a flag":
					over = append(over, profile.Layer{"note": {Text: "flag"}})
				case "hidden":
					if layer == "g/p" {
						continue
					}
					other := value[0]
					if strings.HasPrefix(other, "{") { // maps merge by key: what is under is hidden only where the keys are the same
						continue
					}
					put(strings.Replace(other, other, value[1], 1))
					changed = false
				}
				_, err = s.admit("project:g/p", over...)
				var no *Refused
				if errors.As(err, &no) != changed {
					t.Errorf("%s in %s, %s: %v", name, layer, change, err)
				}
				if changed {
					asked++
				} else {
					kept++
				}
			}
		}
	}
	t.Logf("%d changes asked about, %d not", asked, kept)
	if asked < 100 || kept < 200 {
		t.Errorf("%d and %d are too few", asked, kept)
	}
}

// terms gives what a profile of the project would do.
func (s *shelf) terms(name string) Terms {
	s.Helper()
	terms, err := Of(s.Library, s.stack(name), s.gate.ssh())
	if err != nil {
		s.Fatal(err)
	}
	return terms
}
