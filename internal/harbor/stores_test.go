package harbor

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
)

const phrase = "a sentence of some words"

func TestBind(t *testing.T) {
	r, _, _ := newRun(t)
	r.save(t, "p", "engine: postgres\nhost: db.fellside.example\nport: 6021\nuser: warden_app\ndatabase: bunkhouse\n")
	r.save(t, "anyone", "engine: postgres\nhost: db.fellside.example\n")
	for _, c := range []struct {
		name  string
		b     Binding
		want  string
		tls   string
		fails string
	}{
		{"a profile", Binding{Profile: "p"}, "warden_app db.fellside.example:6021", "verify", ""},
		{"a profile and another user", Binding{Profile: "p", User: "reader"}, "reader db.fellside.example:6021",
			"verify", ""},
		{"a profile as an address", Binding{Server: "p"}, "", "", "its name is written alone: gharbor wallet add p"},
		{"an address", Binding{Server: "h:5/d", User: "u", TLS: "encrypt"}, "u h:5/d", "encrypt", ""},
		{"this machine", Binding{Server: "127.0.0.1:5", User: "u"}, "u 127.0.0.1:5", "off", ""},
		{"both", Binding{Profile: "p", Server: "h:5"}, "", "", "needs a profile's name, or a server and a user"},
		{"neither", Binding{User: "u"}, "", "", "needs a profile's name, or a server and a user"},
		{"nobody", Binding{Profile: "anyone"}, "", "", "the user whose password it is"},
		{"a word that is no profile", Binding{Server: "word/d", User: "u"}, "", "", "name the port too"},
	} {
		to, err := r.Bind(t.Context(), "wallet add", c.b)
		if c.fails != "" {
			if err == nil || !strings.Contains(err.Error(), c.fails) {
				t.Errorf("%s: %v", c.name, err)
			}
			continue
		}
		if got := to.User + " " + to.Endpoint.String(); err != nil || got != c.want || to.TLS != c.tls {
			t.Errorf("%s: %s %s, %v", c.name, got, to.TLS, err)
		}
	}
}

// TestOfferKeeping keeps a typed password where the person says, and makes the profile look there.
func TestOfferKeeping(t *testing.T) {
	s := start(t, standin.Faults{})
	for _, c := range []struct {
		name    string
		secret  string
		keep    string
		answers [][2]string
		stored  string // the file that appears
		profile string
	}{
		{name: "nowhere", answers: [][2]string{{"Store this password", "no"}}},
		{name: "the wallet", answers: [][2]string{{"Store this password", "?"}, {"Store this password", "w"},
			{"Passphrase for the new", phrase}, {"Once more", phrase}}, stored: "wallet/sealed"},
		{name: "a file", answers: [][2]string{{"Store this password", "credentials"}}, stored: "credentials"},
		{name: "a flag", secret: "ask", keep: "credentials", stored: "credentials", profile: "secret: credentials"},
		{name: "a profile that wants it typed", secret: "ask"},
	} {
		r, who, _ := newRun(t, append([][2]string{{"Password of warden_app", canary}}, c.answers...)...)
		text := at(s, "")
		if c.secret != "" {
			text += "secret: " + c.secret + "\n"
		}
		r.save(t, "p", text)
		r.Keep = c.keep
		to, err := r.Aim(t.Context(), "p", false)
		must(t, err)
		if report, err := r.Test(t.Context(), to, nil); err != nil || !report.OK {
			t.Fatalf("%s: %v %+v", c.name, err, report)
		}
		if err := r.OfferKeeping(t.Context(), to.Effective, secret.Secret{}); err != nil || who.Wrong != "" ||
			len(who.Lines) > 0 {
			t.Errorf("%s: %v, %s, %v", c.name, err, who.Wrong, who.Lines)
		}
		for _, file := range []string{"wallet/sealed", "credentials"} {
			if _, err := os.Stat(filepath.Join(r.Dir, file)); (err == nil) != (file == c.stored) {
				t.Errorf("%s: %s: %v", c.name, file, err)
			}
		}
		if !strings.Contains(r.text(t, "p"), c.profile) || strings.Contains(strings.Join(who.Log, "\n"), canary) {
			t.Errorf("%s: %s", c.name, r.text(t, "p"))
		}
	}
}

func TestChoose(t *testing.T) {
	r, _, _ := newRun(t)
	r.Dir = t.TempDir()
	for name, label := range map[string]string{"a/one": "x: y", "a/two": "x: z", "b": "w: y"} {
		r.save(t, name, "engine: postgres\nuser: u\nlabels: {"+label+"}\n")
	}
	r.save(t, "broken", "x\n")
	for _, c := range []struct {
		names  []string
		choice Choice
		want   string
	}{
		{[]string{"b"}, Choice{}, "b"}, {[]string{"a/"}, Choice{}, "a/one a/two"},
		{[]string{"none/"}, Choice{}, "there is no profile in the group none"},
		{nil, Choice{All: true}, "a/one a/two b broken"}, {nil, Choice{Labels: []string{"x"}}, "a/one a/two"},
		{nil, Choice{Labels: []string{"x=z"}}, "a/two"},
		{[]string{"a/"}, Choice{Labels: []string{"x=y"}}, "a/one"},
		{nil, Choice{Labels: []string{"no"}}, "no profile has the label no"},
		{[]string{"mysql://u@h/d/"}, Choice{}, "mysql://u@h/d/"},
	} {
		words, err := r.Choose(c.names, c.choice)
		got := strings.Join(words, " ")
		if err != nil {
			got = err.Error()
		}
		if !strings.HasPrefix(got, c.want) {
			t.Errorf("%v %+v: %s", c.names, c.choice, got)
		}
	}
	list, err := r.List("")
	if err != nil || len(list.Rows) != 4 || list.Project {
		t.Fatalf("%v", err)
	}
	for _, row := range list.Rows {
		if (row.Broken != "") != (row.Profile == "broken") ||
			row.Has("A/ONE", nil) != (row.Profile == "a/one") || row.Has("x=z", nil) != (row.Profile == "a/two") {
			t.Errorf("%+v", row)
		}
	}
}

// TestConnected hands a session over, and makes a finding of what fails in connecting and in the
// work.
func TestConnected(t *testing.T) {
	s := start(t, standin.Faults{})
	r, _, _ := newRun(t)
	r.save(t, "good", at(s, "secret: env:PW\n"))
	r.save(t, "bad", at(s, "secret: empty\n"))
	worked := 0
	work := func(err error) Work {
		return Work{Needs: engine.Runs, Do: func(_ engine.Session, l engine.Language, _ func(error) error) error {
			worked += len(l.Name) / 3
			return err
		}}
	}
	never := work(nil)
	never.Ready = func(l engine.Language, _ guard.Level) error { return errors.New("not ready for " + l.Name) }
	if err := r.Connected(t.Context(), "bad", never); err == nil || err.Error() != "not ready for SQL" || worked != 0 {
		t.Errorf("%v", err)
	}
	if err := r.Connected(t.Context(), "good", work(nil)); err != nil || worked != 1 {
		t.Errorf("%v", err)
	}
	for _, c := range []struct {
		name, code string
		exit       int
		err        error
	}{{"bad", "login.refused", 6, nil},
		{"good", "query.syntax", 7, &finding.Problem{Code: "query.syntax", Words: outside.Said("no such column")}}} {
		failed, ok := r.Connected(t.Context(), c.name, work(c.err)).(*Failed)
		if !ok || string(failed.Finding.Code) != c.code || failed.Exit != c.exit || (failed.Err != nil) != (c.err != nil) {
			t.Errorf("%s: %+v", c.name, failed)
		}
	}
}

// TestRepeatAndExpect tests a profile again and again, and writes down what it shows.
func TestRepeatAndExpect(t *testing.T) {
	s := start(t, standin.Faults{})
	r, _, _ := newRun(t)
	r.save(t, "p", at(s, "secret: env:PW\nexpect: {superuser: true}\n"))
	r.save(t, "bad", at(s, "secret: empty\n"))
	done := 0
	all, err := r.Repeat(t.Context(), "bad", 3, func(int) { done++ })
	if err != nil || all.Failed != 3 || done != 3 || len(all.Legs) != 0 ||
		!slices.Equal(all.Totals, []float64{-1, -1, -1}) || all.LastBad.Code() != "login.refused" {
		t.Errorf("%+v, %v", all, err)
	}
	p, err := r.edits().Existing("p")
	must(t, err)
	written := profile.Layer{}
	if _, report, err := r.Expect(t.Context(), "p", p, func(l profile.Layer) { written = l }); err != nil ||
		!report.OK || written["expect.superuser"].Text != "false" {
		t.Errorf("%v, %v", err, written)
	}
	if !strings.Contains(r.text(t, "p"), `superuser: "false"`) {
		t.Error(r.text(t, "p"))
	}
	if all, err = r.Repeat(t.Context(), "p", 2, func(int) {}); err != nil || all.Failed != 0 ||
		all.Legs[len(all.Legs)-1].Leg != "all" {
		t.Errorf("%+v, %v", all, err)
	}
	tests, changed, err := r.History("p")
	if err != nil || len(tests) != 3 || len(changed) != 0 {
		t.Errorf("%v, %v, %v", tests, changed, err)
	}
	for in, want := range map[float64]float64{0.5: 2, 0.95: 4, 0: 1, 1: 4} {
		if got := share([]float64{1, 2, 3, 4}, in); got != want {
			t.Errorf("%v: %v", in, got)
		}
	}
}

// TestExport gives the password only where it is asked for, and makes files that were not there
// alone.
func TestExport(t *testing.T) {
	r, _, _ := newRun(t)
	r.save(t, "p", "engine: postgres\nhost: h\nuser: u\nsecret: env:PW\n")
	for _, form := range []string{"uri", "env", "dotenv", "json"} {
		for _, with := range []bool{false, true} {
			e, password, err := r.Export(t.Context(), "p", with)
			if err != nil || password.Given() != with {
				t.Fatalf("%v", err)
			}
			text, _, err := report.Profile(form, e, password)
			if err != nil || strings.Contains(text, canary) != with {
				t.Errorf("%s: the password is in it: %v, %v", form, !with, err)
			}
		}
	}
	if err := r.NewFile("new", "x"); err != nil {
		t.Error(err)
	}
	if err := r.NewFile("new", "y"); err == nil || !strings.Contains(err.Error(), "not overwritten") {
		t.Errorf("%v", err)
	}
	if info, err := os.Stat(filepath.Join(r.Dir, "new")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v", err)
	}
	if folder, err := r.NewFolder("below/f", []profile.Pair{{Name: "host", Value: "h"}}); err != nil ||
		folder != filepath.Join(r.Dir, "below", "f") {
		t.Errorf("%s, %v", folder, err)
	}
	if _, err := r.NewFolder("below/f", nil); err == nil {
		t.Error("a folder is written into")
	}
	if err := r.ReplaceFile("new", "z"); err != nil {
		t.Error(err)
	}
}

func TestAuditFixes(t *testing.T) {
	r, _, _ := newRun(t)
	r.save(t, "p", "engine: postgres\nuser: u\n")
	path := filepath.Join(r.Dir, "credentials")
	must(t, os.WriteFile(path, []byte("# gentle-harbor credentials 1\nat h:1\n  u: "+canary+"\n"), 0o644))
	must(t, os.Chmod(path, 0o644))
	a, err := r.Audit(t.Context(), false, false)
	if err != nil || a.Fixed != 0 || a.Left["serious"] == 0 || strings.Contains(fmt.Sprint(a.Findings), canary) {
		t.Errorf("%+v, %v", a, err)
	}
	if a, err = r.Audit(t.Context(), true, false); err != nil || a.Fixed == 0 {
		t.Errorf("%+v, %v", a, err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v", err)
	}
}
