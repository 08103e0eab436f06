package wallet

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// kept makes a wallet that jobs open, with an entry, as this user has seen it.
func kept(t *testing.T, dir string, memory Memory) Wallet {
	t.Helper()
	w := Wallet{Dir: dir, Memory: memory, WorkFactor: 4}
	ctx := context.Background()
	must(t, w.Create(ctx, phrase()))
	to := target.Target{User: "u", TLS: "verify", Endpoint: target.Endpoint{Host: "h", Port: 1}}
	if err := w.Change(ctx, phrase(), func(c *Contents) error {
		c.Put(Entry{Target: to, Secret: secret.New("genuine")})
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.SetUnattended(ctx, phrase(), true); err != nil {
		t.Fatal(err)
	}
	if _, err := w.OpenUnattended(); err != nil {
		t.Fatal(err)
	}
	return w
}

func phrase() secret.Secret { return secret.New("a sentence of some words") }

// copied copies a wallet's folder.
func copied(t *testing.T, from, to string) {
	t.Helper()
	must(t, os.CopyFS(to, os.DirFS(from)))
	for _, path := range []string{to} {
		must(t, os.Chmod(path, 0o700))
	}
	entries, _ := os.ReadDir(to)
	for _, each := range entries {
		must(t, os.Chmod(filepath.Join(to, each.Name()), 0o600))
	}
}

// forge puts a key for jobs and a content of someone's own into a wallet's folder: the same id, a
// higher version, signed by a key of theirs.
func forge(t *testing.T, w Wallet) {
	t.Helper()
	f, err := w.read(sealedName, "sealed", maxSealed)
	must(t, err)
	own, err := newKeys()
	must(t, err)
	to := target.Target{User: "u", TLS: "off", Endpoint: target.Endpoint{Host: "evil", Port: 1}}
	data, err := seal(&Contents{ID: f.id, Version: f.version + 1,
		Entries: []Entry{{Target: to, Secret: secret.New("forged")}}}, own)
	must(t, err)
	for name, content := range map[string][]byte{sealedName: data,
		unattendedName: frame{"unattended", f.id, 0, writeKeys([]keys{own}, false)}.bytes()} {
		must(t, os.WriteFile(w.path(name), content, 0o600))
	}
}

// TestForgedWithoutItsPassphrase replaces the key for jobs and the content: it is refused, and
// the genuine wallet is not taken for an older one afterwards.
func TestForgedWithoutItsPassphrase(t *testing.T) {
	root := t.TempDir()
	w := kept(t, filepath.Join(root, "w"), Memory{File: filepath.Join(root, "wallets.json")})
	copied(t, w.Dir, filepath.Join(root, "genuine"))
	forge(t, w)
	if _, err := w.OpenUnattended(); code(err) != "secret.wallet-untrusted" {
		t.Errorf("%v", err)
	}
	if _, err := w.Open(phrase()); code(err) != "secret.wallet-forged" {
		t.Errorf("with the passphrase: %v", err)
	}
	// With a line in succession that the old key did not sign, it stays refused.
	was, _ := w.Memory.read()
	key := was.at(w.Dir).Key
	f, _ := w.read(unattendedName, "unattended", maxKeys)
	list, _ := readKeys(f.body, false)
	line := key + " " + encodedKey(list[0].verify) + " " + strings.Repeat("A", 86) + "==\n"
	must(t, os.WriteFile(w.path(successionName), []byte(line), 0o600))
	if _, err := w.OpenUnattended(); code(err) != "secret.wallet-untrusted" {
		t.Errorf("a succession that nobody signed: %v", err)
	}
	must(t, os.RemoveAll(w.Dir))
	copied(t, filepath.Join(root, "genuine"), w.Dir)
	if c, err := w.OpenUnattended(); err != nil || c.Entries[0].Secret.Reveal() != "genuine" {
		t.Errorf("the genuine one: %v", err)
	}
}

// TestKeysSucceedEachOther makes changes on another machine, as many as there may be, and meets
// the wallet again here.
func TestKeysSucceedEachOther(t *testing.T) {
	root := t.TempDir()
	here := kept(t, filepath.Join(root, "w"), Memory{File: filepath.Join(root, "here.json")})
	there := Wallet{Dir: here.Dir, Memory: Memory{File: filepath.Join(root, "there.json")}, WorkFactor: 4}
	for _, next := range []string{"another sentence of words", "a third sentence of words"} {
		last := phrase()
		if next != "another sentence of words" {
			last = secret.New("another sentence of words")
		}
		must(t, there.SetPassphrase(t.Context(), last, secret.New(next)))
	}
	if c, err := here.OpenUnattended(); err != nil || c.Entries[0].Secret.Reveal() != "genuine" {
		t.Errorf("two changes on another machine: %v", err)
	}
	must(t, there.SetPassphrase(t.Context(), secret.New("a third sentence of words"), phrase()))
	must(t, os.Remove(here.path(successionName)))
	if _, err := here.OpenUnattended(); code(err) != "secret.wallet-untrusted" {
		t.Errorf("a change without its succession: %v", err)
	}
	if _, err := here.Open(phrase()); err != nil { // as wallet trust does
		t.Errorf("the passphrase does not prove the keys: %v", err)
	}
	if _, err := here.OpenUnattended(); err != nil {
		t.Errorf("after the passphrase: %v", err)
	}
}

// TestOlderAndMovedHomes keeps what worked working: a memory from before keys were remembered, a
// home that was copied or moved, and a home that is a link.
func TestOlderAndMovedHomes(t *testing.T) {
	root := t.TempDir()
	memory := Memory{File: filepath.Join(root, "wallets.json")}
	w := kept(t, filepath.Join(root, "w"), memory)
	before, err := os.ReadFile(memory.File)
	must(t, err)
	all, err := memory.read()
	must(t, err)
	old := bytes.ReplaceAll(before, []byte(",\n    \"key\": \""+all.at(w.Dir).Key+"\""), nil)
	if bytes.Equal(old, before) {
		t.Fatalf("%s", before)
	}
	must(t, os.WriteFile(memory.File, old, 0o600))
	if _, err := w.OpenUnattended(); err != nil {
		t.Errorf("a wallet from before: %v", err)
	}
	if all, _ = memory.read(); all.at(w.Dir).Key == "" {
		t.Error("its key is not remembered")
	}
	moved := w
	moved.Dir = filepath.Join(root, "moved")
	copied(t, w.Dir, moved.Dir)
	if _, err := moved.OpenUnattended(); err != nil {
		t.Errorf("a copied home: %v", err)
	}
	forge(t, moved)
	if _, err := moved.OpenUnattended(); code(err) != "secret.wallet-untrusted" {
		t.Errorf("a forged copy: %v", err)
	}
	link := w
	link.Dir = filepath.Join(root, "link")
	must(t, os.Symlink("w", link.Dir))
	if _, err := link.OpenUnattended(); err != nil {
		t.Errorf("a linked home: %v", err)
	}
}

// TestALinkInItsPlace puts a link to an older and to another wallet instead of the one that was
// seen.
func TestALinkInItsPlace(t *testing.T) {
	root := t.TempDir()
	memory := Memory{File: filepath.Join(root, "wallets.json")}
	w := kept(t, filepath.Join(root, "w"), memory)
	older := filepath.Join(root, "older")
	copied(t, w.Dir, older)
	must(t, w.Change(t.Context(), phrase(), func(c *Contents) error { return nil }))
	foreign := kept(t, filepath.Join(root, "foreign"), Memory{File: filepath.Join(root, "foreign.json")})
	must(t, os.Rename(w.Dir, filepath.Join(root, "away")))
	for target, want := range map[string]string{older: "secret.wallet-older", foreign.Dir: "secret.wallet-replaced"} {
		_ = os.Remove(w.Dir)
		must(t, os.Symlink(target, w.Dir))
		if _, err := w.OpenUnattended(); code(err) != want {
			t.Errorf("a link to %s: %v", filepath.Base(target), err)
		}
	}
}
