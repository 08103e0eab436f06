package stores

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/harbor/worldtest"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/credentials"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/target"
)

const phrase = "a sentence of some words"

// TestWallet makes a wallet with a person, takes entries in and out, and changes its passphrase.
func TestWallet(t *testing.T) {
	w0, who, notes := worldtest.New(t, [2]string{"Passphrase for the new wallet", ""},
		[2]string{"Passphrase for the new", "short"}, [2]string{"Once more", "other"},
		[2]string{"Passphrase for the new", "short"}, [2]string{"Once more", "short"})
	r := Of(w0)
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
		if got, err := r.Put(t.Context(), w, wallet.Entry{Target: to, Secret: secret.New(worldtest.Canary)},
			true); got != was || err != nil {
			t.Errorf("%d: %v, %v", i, got, err)
		}
	}
	who.Lines = [][2]string{{"New passphrase", phrase}, {"Once more", phrase}}
	if err := r.SetPassphrase(t.Context(), w); err != nil || who.Wrong != "" {
		t.Fatalf("%v, %s", err, who.Wrong)
	}
	r.passphrase.is = secret.New("short")
	if _, err := r.OpenWallet(t.Context(), w); err == nil {
		t.Error("the old passphrase opens it")
	}
	r.passphrase.is = secret.New(phrase)
	contents, err := r.OpenWallet(t.Context(), w)
	if err != nil || len(contents.Entries) != 1 {
		t.Fatalf("%v", err)
	}
	other := to
	other.Port = 2
	for want, about := range map[string]target.Target{"it has one for u at h:1": other,
		"gharbor wallet list": {User: "x"}} {
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
	must(t, os.Truncate(filepath.Join(w.Dir, "sealed"), 20))
	if checked, err = r.CheckWallet(t.Context(), w); err != nil || checked.Problem == nil {
		t.Errorf("a cut file is not seen: %v", err)
	}
	if back, err := r.Recover(t.Context(), w, wallet.Previous); err != nil || back.Version == 0 {
		t.Errorf("%v", err)
	}
}

// TestImportCredentials takes a file into a wallet, and removes it only when it is all there.
func TestImportCredentials(t *testing.T) {
	w0, _, _ := worldtest.New(t)
	r := Of(w0)
	r.passphrase.is = secret.New(phrase)
	w := r.WalletAt(filepath.Join(r.Dir, "wallet"))
	path := filepath.Join(r.Dir, "credentials")
	to := target.Target{User: "u", TLS: "verify", Endpoint: target.Endpoint{Host: "h", Port: 1}}
	put := func(text string) {
		t.Helper()
		if _, err := r.AddCredential(t.Context(), path, to, secret.New(text), true); err != nil {
			t.Fatal(err)
		}
	}
	put(worldtest.Canary)
	if _, _, err := r.ImportCredentials(t.Context(), w, path, false); err == nil {
		t.Error("a wallet that is not there took it")
	}
	must(t, w.Create(t.Context(), r.passphrase.is))
	for i, want := range []Imported{{New: 1}, {Same: 1}} {
		if n, _, err := r.ImportCredentials(t.Context(), w, path, false); err != nil || n != want {
			t.Errorf("%d: %+v, %v", i, n, err)
		}
	}
	put("another")
	if _, _, err := r.ImportCredentials(t.Context(), w, path, false); err == nil ||
		strings.Contains(err.Error(), "another ") && strings.Contains(err.Error(), worldtest.Canary) {
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
	w0, _, _ := worldtest.New(t)
	r := Of(w0)
	worldtest.Save(t, w0, "p", "engine: postgres\nhost: h\nport: 1\nuser: u\ndatabase: d\n")
	worldtest.Save(t, w0, "q", "engine: postgres\nhost: elsewhere\nuser: u\n")
	path, err := r.CredentialFile("", "p")
	must(t, err)
	for _, e := range []target.Endpoint{{Host: "h"}, {Host: "h", Port: 1}, {Host: "x", Port: 7}} {
		if _, err := r.AddCredential(t.Context(), path, target.Target{User: "u", TLS: "verify", Endpoint: e},
			secret.New(worldtest.Canary), true); err != nil {
			t.Fatal(err)
		}
	}
	e, err := r.Admitted(t.Context(), "p")
	must(t, err)
	judged, line, problem, err := r.JudgeCredentials(path, "p", e)
	if err != nil || problem != nil || len(judged) != 3 {
		t.Fatalf("%v %v %v", judged, problem, err)
	}
	for _, each := range judged {
		if each.Serves != (each.Line == line) || !each.Serves && len(each.Differs) == 0 ||
			strings.Contains(fmt.Sprint(each), worldtest.Canary) {
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
	if err := r.RemoveCredential(t.Context(), path,
		target.Target{User: "nobody", Endpoint: target.Endpoint{Host: "h"}}); err == nil {
		t.Error("nothing was removed, and nobody says so")
	}
}

// TestAWalletIsReadAsItWasWritten looks into an open wallet after another entry was put into it:
// it is there, and nobody is asked again.
func TestAWalletIsReadAsItWasWritten(t *testing.T) {
	w0, who, _ := worldtest.New(t)
	r := Of(w0)
	r.passphrase.is = secret.New(phrase)
	dir := filepath.Join(r.Dir, "wallet")
	w := r.WalletAt(dir)
	must(t, w.Create(t.Context(), secret.New(phrase)))
	who.Lines = [][2]string{{"Passphrase of the wallet", phrase}}
	for _, host := range []string{"a", "b"} {
		to := target.Target{User: "u", TLS: "verify", Endpoint: target.Endpoint{Host: host, Port: 1}}
		if _, err := r.Put(t.Context(), w, wallet.Entry{Target: to, Secret: secret.New(worldtest.Canary)}, true); err != nil {
			t.Fatal(err)
		}
		if s, _, err := r.Keeper(dir).Look(t.Context(), to, secret.Named); err != nil || !s.Given() {
			t.Errorf("%s: %v", host, err)
		}
	}
	if who.Wrong != "" || len(who.Lines) != 0 {
		t.Errorf("%s, %v", who.Wrong, who.Lines)
	}
}

// TestAnImportIsInterrupted takes nothing in once the run has ended.
func TestAnImportIsInterrupted(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	list := []credentials.Entry{{Target: target.Target{Endpoint: target.Endpoint{Host: "db.fellside.example"},
		User: "reader", TLS: "verify"}, Secret: secret.New("x"), Line: 3}}
	contents := &wallet.Contents{}
	if _, err := taken(ctx, contents, list, "f", false, time.Now()); !errors.Is(err, context.Canceled) ||
		len(contents.Entries) > 0 {
		t.Errorf("%v, %d entries", err, len(contents.Entries))
	}
	if n, err := taken(t.Context(), contents, list, "f", false, time.Now()); err != nil || n.New != 1 ||
		len(contents.Entries) != 1 {
		t.Errorf("%v, %+v", err, n)
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
