package harbor

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"sync"
	"testing"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/harbor/clouds"
	"gentle-harbor/internal/harbor/edits"
	"gentle-harbor/internal/harbor/worldtest"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/standin"
	"gentle-harbor/internal/target"
)

// TestFiftyUseCasesInOneWorld runs fifty use cases of all kinds side by side in one World, each
// with options of its own: none of them sees what another was told, and the race detector
// (scripts/fuzz runs it) sees nothing.
func TestFiftyUseCasesInOneWorld(t *testing.T) {
	s := start(t, standin.Faults{})
	w, who, _ := worldtest.New(t)
	var mu sync.Mutex
	who.Away, w.Say = true, func(string) { mu.Lock(); defer mu.Unlock() }
	worldtest.Save(t, w, "p", at(s, "secret: wallet\n"))
	phrase := filepath.Join(w.Dir, "phrase")
	must(t, os.WriteFile(phrase, []byte("a sentence of some words"), 0o600))
	first := New(w)
	first.PassphraseFile = phrase
	dir, err := first.WalletDir("")
	must(t, err)
	own := target.Target{User: "warden_app", TLS: "off", Endpoint: target.Endpoint{Host: "127.0.0.1", Port: s.Port()}}
	must(t, first.CreateWallet(t.Context(), first.WalletAt(dir)))
	if _, err := first.Put(t.Context(), first.WalletAt(dir),
		wallet.Entry{Target: own, Secret: secret.New(canary)}, true); err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	for i := range 50 {
		all.Go(func() {
			r := New(w)
			r.Connects = true
			if err := kinds[i%len(kinds)](t, r, i, phrase); err != nil {
				t.Errorf("%d: %v", i, err)
			}
			if !reflect.DeepEqual(first.Set, profile.Layer{}) || first.Until != "" {
				t.Errorf("%d: another use case is told %v, %q", i, first.Set, first.Until)
			}
		})
	}
	all.Wait()
}

// kinds are use cases; i is another one for each.
var kinds = []func(t *testing.T, r Run, i int, phrase string) error{
	func(t *testing.T, r Run, _ int, phrase string) error { // a good test, with the wallet
		r.PassphraseFile = phrase
		to, err := r.Aim(t.Context(), "p", false)
		if err != nil {
			return err
		}
		report, err := r.Test(t.Context(), to, nil)
		if err == nil && !report.OK {
			err = fmt.Errorf("%s", report.Code())
		}
		return err
	},
	// a closed port, as far as that: what the others are told is not asked
	func(t *testing.T, r Run, _ int, _ string) error {
		r.Until, r.Set = "port", profile.Layer{"port": {Text: "1",
			Origin: profile.Origin{Layer: profile.LayerFlag, Name: "--port"}}}
		to, err := r.Aim(t.Context(), "p", false)
		if err != nil {
			return err
		}
		report, err := r.Test(t.Context(), to, nil)
		if err == nil && report.Code() != "port.refused" {
			err = fmt.Errorf("%q", report.Code())
		}
		return err
	},
	func(t *testing.T, r Run, _ int, phrase string) error { // a session
		r.PassphraseFile = phrase
		return r.Connected(t.Context(), "p",
			Work{Needs: engine.Runs, Do: func(session engine.Session, _ engine.Language, _ func(error) error) error {
				return session.Ask(t.Context())
			}})
	},
	func(t *testing.T, r Run, i int, _ string) error { // a profile of its own, changed and removed
		r.Set = profile.Layer{"engine": {Text: "postgres"}, "user": {Text: fmt.Sprint("u", i)}}
		name := fmt.Sprint("made/", i)
		if err := (Making{Run: r, Name: name, Saved: func(edits.Place) {}}).Add(t.Context()); err != nil {
			return err
		}
		p, err := r.edits().Existing(name)
		if err != nil {
			return err
		}
		if err := r.edits().Change(t.Context(), p, profile.Layer{"note": {Text: "x"}}, nil, func() {}); err != nil {
			return err
		}
		return r.edits().Remove(t.Context(), []string{name}, func(string) {})
	},
	func(t *testing.T, r Run, i int, _ string) error { // aliases
		in, err := r.edits().AliasFile(false)
		if err != nil {
			return err
		}
		name := fmt.Sprint("a", i)
		if err := r.edits().PutAlias(t.Context(), in, name,
			profile.Layer{"engine": {Text: "postgres"},
				"addresses": profile.ListValue([]string{"127.0.0.1:1"}, profile.Origin{})}, false); err != nil {
			return err
		}
		_, _, err = r.edits().Alias(name)
		return err
	},
	func(t *testing.T, r Run, i int, phrase string) error { // the wallet is written and read
		r.PassphraseFile = phrase
		dir, err := r.WalletDir("")
		if err != nil {
			return err
		}
		if i > 7 { // one writer is enough: its key is slow to make, on purpose
			_, err = r.OpenWallet(t.Context(), r.WalletAt(dir))
			return err
		}
		_, err = r.Put(t.Context(), r.WalletAt(dir),
			wallet.Entry{Target: target.Target{User: fmt.Sprint("u", i), TLS: "verify",
				Endpoint: target.Endpoint{Host: "h", Port: 1}}, Secret: secret.New("x")}, true)
		return err
	},
	func(t *testing.T, r Run, _ int, phrase string) error { // what looks at all of it
		r.PassphraseFile = phrase
		if _, err := r.List(""); err != nil {
			return err
		}
		if _, err := (clouds.Clouds{Stores: r.Stores}).CloudStatus(t.Context(), false); err != nil {
			return err
		}
		_, err := r.Audit(t.Context(), false, false)
		return err
	},
	func(t *testing.T, r Run, _ int, _ string) error { // nobody reads the others' passphrase
		to, err := r.Aim(t.Context(), "p", false)
		if err != nil {
			return err
		}
		report, err := r.Test(t.Context(), to, nil)
		if err == nil && report.Code() != "secret.wallet-locked" {
			err = fmt.Errorf("%q", report.Code())
		}
		return err
	},
}
