package harbor

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/standin"
	"gentle-harbor/internal/target"
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
		{"a profile and another user", Binding{Profile: "p", User: "reader"}, "reader db.fellside.example:6021", "verify", ""},
		{"a profile as an address", Binding{For: "p"}, "warden_app db.fellside.example:6021", "verify", ""},
		{"an address", Binding{For: "h:5/d", User: "u", TLS: "encrypt"}, "u h:5/d", "encrypt", ""},
		{"this machine", Binding{For: "127.0.0.1:5", User: "u"}, "u 127.0.0.1:5", "off", ""},
		{"both", Binding{Profile: "p", For: "h:5"}, "", "", "wants to know what it is for"},
		{"neither", Binding{User: "u"}, "", "", "wants to know what it is for"},
		{"nobody", Binding{Profile: "anyone"}, "", "", "--user NAME"},
		{"a word that is no profile", Binding{For: "word/d", User: "u"}, "", "", "name the port too"},
	} {
		to, err := r.Bind(t.Context(), "wallet put", c.b)
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

// TestWallet makes a wallet with a person, takes entries in and out, and changes its passphrase.
func TestWallet(t *testing.T) {
	r, who, notes := newRun(t, [2]string{"Passphrase for the new wallet", ""}, [2]string{"Passphrase for the new", "short"}, [2]string{"Once more", "other"},
		[2]string{"Passphrase for the new", "short"}, [2]string{"Once more", "short"})
	w := r.WalletAt(filepath.Join(r.Dir, "wallet"))
	if err := r.CreateWallet(t.Context(), w); err != nil || who.Wrong != "" || len(who.Lines) > 0 {
		t.Fatalf("%v, %s", err, who.Wrong)
	}
	if len(*notes) != 1 || !strings.Contains((*notes)[0], "fewer than 12") {
		t.Errorf("%q", *notes)
	}
	if err := r.CreateWallet(t.Context(), w); err == nil {
		t.Error("a second wallet is made over the first")
	}
	to := target.Target{User: "u", TLS: "verify", Endpoint: target.Endpoint{Host: "h", Port: 1}}
	for i, was := range []bool{false, true} {
		if got, err := r.Put(t.Context(), w, wallet.Entry{Target: to, Secret: secret.New(canary)}); got != was || err != nil {
			t.Errorf("%d: %v, %v", i, got, err)
		}
	}
	who.Lines = [][2]string{{"New passphrase", phrase}, {"Once more", phrase}}
	if err := r.SetPassphrase(t.Context(), w); err != nil || who.Wrong != "" {
		t.Fatalf("%v, %s", err, who.Wrong)
	}
	r.PassphraseRead = secret.New("short")
	if _, err := r.OpenWallet(t.Context(), w); err == nil {
		t.Error("the old passphrase opens it")
	}
	r.PassphraseRead = secret.New(phrase)
	contents, err := r.OpenWallet(t.Context(), w)
	if err != nil || len(contents.Entries) != 1 {
		t.Fatalf("%v", err)
	}
	other := to
	other.Port = 2
	for want, about := range map[string]target.Target{"it does for u at h:1": other, "wallet list shows": {User: "x"}} {
		if err := NoEntry(about, contents, w.Dir); !strings.Contains(err.Error(), want) {
			t.Errorf("%v", err)
		}
	}
	if changed, err := r.SetUnattended(t.Context(), w, true); !changed || err != nil {
		t.Errorf("%v, %v", changed, err)
	}
	checked, err := r.CheckWallet(t.Context(), w)
	if err != nil || checked.Problem != nil || checked.Contents == nil {
		t.Errorf("%+v, %v", checked.Problem, err)
	}
	if err := os.Truncate(filepath.Join(w.Dir, "sealed"), 20); err != nil {
		t.Fatal(err)
	}
	if checked, err = r.CheckWallet(t.Context(), w); err != nil || checked.Problem == nil {
		t.Errorf("a cut file is not seen: %v", err)
	}
	if back, err := r.Recover(t.Context(), w, wallet.Previous); err != nil || back.Version == 0 {
		t.Errorf("%v", err)
	}
}

// TestImportCredentials takes a file into a wallet, and removes it only when it is all there.
func TestImportCredentials(t *testing.T) {
	r, _, _ := newRun(t)
	r.PassphraseRead = secret.New(phrase)
	w := r.WalletAt(filepath.Join(r.Dir, "wallet"))
	path := filepath.Join(r.Dir, "credentials")
	to := target.Target{User: "u", TLS: "verify", Endpoint: target.Endpoint{Host: "h", Port: 1}}
	put := func(text string) {
		t.Helper()
		if _, err := r.AddCredential(t.Context(), path, to, secret.New(text)); err != nil {
			t.Fatal(err)
		}
	}
	put(canary)
	if _, _, err := r.ImportCredentials(t.Context(), w, path, false); err == nil {
		t.Error("a wallet that is not there took it")
	}
	if err := w.Create(t.Context(), r.PassphraseRead); err != nil {
		t.Fatal(err)
	}
	for i, want := range []Imported{{New: 1}, {Same: 1}} {
		if n, _, err := r.ImportCredentials(t.Context(), w, path, false); err != nil || n != want {
			t.Errorf("%d: %+v, %v", i, n, err)
		}
	}
	put("another")
	if _, _, err := r.ImportCredentials(t.Context(), w, path, false); err == nil || strings.Contains(err.Error(), "another ") && strings.Contains(err.Error(), canary) {
		t.Errorf("%v", err)
	}
	n, remove, err := r.ImportCredentials(t.Context(), w, path, true)
	if err != nil || n != (Imported{Changed: 1}) {
		t.Fatalf("%+v, %v", n, err)
	}
	put("changed meanwhile")
	if err := remove(); err == nil {
		t.Error("a file that has changed was removed")
	}
	put("another")
	if err := remove(); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(path); err == nil {
		t.Error("it is still there")
	}
}

func TestJudgeCredentials(t *testing.T) {
	r, _, _ := newRun(t)
	r.save(t, "p", "engine: postgres\nhost: h\nport: 1\nuser: u\ndatabase: d\n")
	r.save(t, "q", "engine: postgres\nhost: elsewhere\nuser: u\n")
	path, err := r.CredentialFile("", "p")
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range []target.Endpoint{{Host: "h"}, {Host: "h", Port: 1}, {Host: "x", Port: 7}} {
		if _, err := r.AddCredential(t.Context(), path, target.Target{User: "u", TLS: "verify", Endpoint: e}, secret.New(canary)); err != nil {
			t.Fatal(err)
		}
	}
	e, err := r.Admitted(t.Context(), "p")
	if err != nil {
		t.Fatal(err)
	}
	judged, line, problem, err := r.JudgeCredentials(path, "p", e)
	if err != nil || problem != nil || len(judged) != 3 {
		t.Fatalf("%v %v %v", judged, problem, err)
	}
	for _, each := range judged {
		if each.Serves != (each.Line == line) || !each.Serves && len(each.Differs) == 0 || strings.Contains(fmt.Sprint(each), canary) {
			t.Errorf("%v", each)
		}
	}
	if e, err = r.Admitted(t.Context(), "q"); err != nil {
		t.Fatal(err)
	}
	if _, _, problem, err = r.JudgeCredentials(path, "q", e); problem == nil || err != nil {
		t.Errorf("%v, %v", problem, err)
	}
	if n, list, err := CheckCredentials(path); n != 3 || len(list) != 0 || err != nil {
		t.Errorf("%d %v %v", n, list, err)
	}
	if err := r.RemoveCredential(t.Context(), path, target.Target{User: "nobody", Endpoint: target.Endpoint{Host: "h"}}); err == nil {
		t.Error("nothing was removed, and nobody says so")
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
		{name: "nowhere", answers: [][2]string{{"Keep this password", "no"}}},
		{name: "the wallet", answers: [][2]string{{"Keep this password", "?"}, {"Keep this password", "w"}, {"Passphrase for the new", phrase}, {"Once more", phrase}}, stored: "wallet/sealed"},
		{name: "a file", answers: [][2]string{{"Keep this password", "credentials"}}, stored: "credentials"},
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
		if err != nil {
			t.Fatal(err)
		}
		if report, err := r.Test(t.Context(), to, nil); err != nil || !report.OK {
			t.Fatalf("%s: %v %+v", c.name, err, report)
		}
		if err := r.OfferKeeping(t.Context(), to.Effective, secret.Secret{}); err != nil || who.Wrong != "" || len(who.Lines) > 0 {
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
		{[]string{"b"}, Choice{}, "b"}, {[]string{"a/"}, Choice{}, "a/one a/two"}, {[]string{"none/"}, Choice{}, "there is no profile in the group none"},
		{nil, Choice{All: true}, "a/one a/two b broken"}, {nil, Choice{Labels: []string{"x"}}, "a/one a/two"}, {nil, Choice{Labels: []string{"x=z"}}, "a/two"},
		{[]string{"a/"}, Choice{Labels: []string{"x=y"}}, "a/one"}, {nil, Choice{Labels: []string{"no"}}, "no profile matches"},
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
	list, err := r.List()
	if err != nil || len(list.Rows) != 4 || list.Project {
		t.Fatalf("%v", err)
	}
	for _, row := range list.Rows {
		if (row.Broken != "") != (row.Profile == "broken") || row.Has("A/ONE", nil) != (row.Profile == "a/one") || row.Has("x=z", nil) != (row.Profile == "a/two") {
			t.Errorf("%+v", row)
		}
	}
}

// TestConnected hands a session over, and makes a finding of what fails in connecting and in the work.
func TestConnected(t *testing.T) {
	s := start(t, standin.Faults{})
	r, _, _ := newRun(t)
	r.save(t, "good", at(s, "secret: env:PW\n"))
	r.save(t, "bad", at(s, "secret: empty\n"))
	worked := 0
	work := func(err error) func(engine.Session) error {
		return func(engine.Session) error { worked++; return err }
	}
	if err := r.Connected(t.Context(), "good", work(nil)); err != nil || worked != 1 {
		t.Errorf("%v", err)
	}
	for _, c := range []struct {
		name, code string
		exit       int
		err        error
	}{{"bad", "login.refused", 6, nil}, {"good", "query.syntax", 7, &finding.Problem{Code: "query.syntax", Words: outside.Said("no such column")}}} {
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
	if err != nil || all.Failed != 3 || done != 3 || len(all.Legs) != 0 || !slices.Equal(all.Totals, []float64{-1, -1, -1}) || all.LastBad.Code() != "login.refused" {
		t.Errorf("%+v, %v", all, err)
	}
	p, err := r.Existing("p")
	if err != nil {
		t.Fatal(err)
	}
	written := profile.Layer{}
	if _, report, err := r.Expect(t.Context(), "p", p, func(l profile.Layer) { written = l }); err != nil || !report.OK || written["expect.superuser"].Text != "false" {
		t.Errorf("%v, %v", err, written)
	}
	if !strings.Contains(r.text(t, "p"), `superuser: "false"`) {
		t.Error(r.text(t, "p"))
	}
	if all, err = r.Repeat(t.Context(), "p", 2, func(int) {}); err != nil || all.Failed != 0 || all.Legs[len(all.Legs)-1].Leg != "all" {
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

// TestExport gives the password only where it is asked for, and makes files that were not there alone.
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
	if folder, err := r.NewFolder("below/f", []profile.Pair{{Name: "host", Value: "h"}}); err != nil || folder != filepath.Join(r.Dir, "below", "f") {
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
	if err := os.WriteFile(path, []byte("# gentle-harbor credentials 1\nat h:1\n  u: "+canary+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	a, err := r.Audit(t.Context(), false)
	if err != nil || a.Fixed != 0 || a.Left["serious"] == 0 || strings.Contains(fmt.Sprint(a.Findings), canary) {
		t.Errorf("%+v, %v", a, err)
	}
	if a, err = r.Audit(t.Context(), true); err != nil || a.Fixed == 0 {
		t.Errorf("%+v, %v", a, err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v", err)
	}
}
