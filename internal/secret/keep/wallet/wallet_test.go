package wallet

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"filippo.io/age"
	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

const canary = "canary-5b2f"

var (
	ctx        = context.Background()
	passphrase = secret.New("a passphrase of the hut's warden")
)

// entry makes one that is easy to check.
func entry(user, host string, port int, text string) Entry {
	e := Entry{Target: target.Target{User: user, Endpoint: target.Endpoint{Host: host, Port: port},
		TLS: "verify"}, Secret: secret.New(text), Changed: time.Unix(1_800_000_000, 0).UTC()}
	return e
}

// fresh makes a wallet with a few entries. Its work factor is the tests' own, which the product
// never uses.
func fresh(t testing.TB) Wallet {
	t.Helper()
	folder := t.TempDir()
	w := Wallet{Dir: filepath.Join(folder, "wallet"),
		Memory: Memory{filepath.Join(folder, "state", "wallets.json")}, WorkFactor: 10}
	must(t, w.Create(ctx, passphrase))
	put(t, w, entry("warden_app", "db.fellside.example", 5432, canary))
	return w
}

func put(t testing.TB, w Wallet, entries ...Entry) {
	t.Helper()
	if err := w.Change(ctx, passphrase, func(c *Contents) error {
		for _, e := range entries {
			c.Put(e)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
}

func code(err error) string {
	var p *finding.Problem
	if errors.As(err, &p) {
		return string(p.Code)
	}
	return fmt.Sprint(err)
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// opens requires the wallet to open both ways, where there are two, with the canary in it.
func opens(t testing.TB, w Wallet, passphrase secret.Secret) *Contents {
	t.Helper()
	c, err := w.Open(passphrase)
	must(t, err)
	e, err := c.Match(target.Target{User: "warden_app",
		Endpoint: target.Endpoint{Host: "db.fellside.example", Port: 5432}, TLS: "verify"}, "the wallet")
	if err != nil || e.Secret.Reveal() != canary {
		t.Fatalf("the entry is not there: %v", err)
	}
	if w.HasUnattended() {
		u, err := w.OpenUnattended()
		must(t, err)
		if !u.Unattended || u.Version != c.Version || len(u.Entries) != len(c.Entries) {
			t.Fatalf("unattended gives version %d with %d entries", u.Version, len(u.Entries))
		}
	}
	return c
}

func TestWalletLife(t *testing.T) {
	w := fresh(t)
	if _, err := w.OpenUnattended(); code(err) != "secret.wallet-locked" {
		t.Errorf("without the key for jobs: %v", err)
	}
	if _, err := w.Open(secret.New("wrong")); code(err) != "secret.wallet-passphrase" {
		t.Errorf("a wrong passphrase: %v", err)
	}
	if _, err := w.Open(secret.New("")); code(err) != "secret.wallet-passphrase" {
		t.Errorf("an empty passphrase: %v", err)
	}
	if err := w.Create(ctx, passphrase); err == nil {
		t.Error("a second wallet was made over the first")
	}
	if err := (Wallet{Dir: t.TempDir(), WorkFactor: 10}).Create(ctx, secret.New("")); err == nil {
		t.Error("an empty passphrase makes a wallet")
	}
	changed, err := w.SetUnattended(ctx, passphrase, true)
	must(t, err)
	if again, err := w.SetUnattended(ctx, passphrase, true); !changed || again || err != nil {
		t.Errorf("switched on twice: %v %v %v", changed, again, err)
	}
	opens(t, w, passphrase)
	copied, err := os.ReadFile(filepath.Join(w.Dir, "unattended"))
	must(t, err)

	// New keys with a new passphrase: the old one and a copy of the old key for jobs open nothing.
	next := secret.New("another passphrase")
	must(t, w.SetPassphrase(ctx, passphrase, next))
	if _, err := w.Open(passphrase); code(err) != "secret.wallet-passphrase" {
		t.Errorf("the old passphrase: %v", err)
	}
	if c := opens(t, w, next); c.Version != 3 {
		t.Errorf("version %d", c.Version)
	}
	now, err := os.ReadFile(filepath.Join(w.Dir, "unattended"))
	must(t, err)
	must(t, os.WriteFile(filepath.Join(w.Dir, "unattended"), copied, 0o600))
	if _, err := w.OpenUnattended(); code(err) != "secret.wallet-forged" {
		t.Errorf("an old key for jobs: %v", err)
	}
	must(t, os.WriteFile(filepath.Join(w.Dir, "unattended"), now, 0o600))
	if off, err := w.SetUnattended(ctx, next, false); !off || err != nil || w.HasUnattended() {
		t.Errorf("switched off: %v %v", off, err)
	}
	opens(t, w, next)
	must(t, os.WriteFile(filepath.Join(w.Dir, "unattended"), now, 0o600))
	if _, err := w.OpenUnattended(); code(err) != "secret.wallet-forged" {
		t.Errorf("a copy of the key for jobs after it was switched off: %v", err)
	}
	must(t, os.Remove(filepath.Join(w.Dir, "unattended")))

	// The state before is kept, and comes back under a higher version.
	must(t, w.Change(ctx, next, func(c *Contents) error {
		if !c.Remove(c.Entries[0].Target) || c.Remove(target.Target{User: "nobody"}) {
			t.Error("the entry was not removed")
		}
		return nil
	}))
	c, err := w.Recover(ctx, next, Previous)
	must(t, err)
	if c.Version != 6 || len(c.Entries) != 1 {
		t.Errorf("recovered version %d with %d entries", c.Version, len(c.Entries))
	}
	opens(t, w, next)
	for _, each := range w.Check() {
		if each.Code != "" {
			t.Errorf("%+v", each)
		}
	}
	problem := errors.New("changed my mind")
	if err := w.Change(ctx, next, func(c *Contents) error { c.Entries = nil; return problem }); !errors.Is(err, problem) {
		t.Error(err)
	}
	opens(t, w, next)
	left, err := filepath.Glob(filepath.Join(w.Dir, ".new-*"))
	if err != nil || len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// TestFormatAsItIsWrittenDown reads a wallet as docs/wallet.md says, with age and Ed25519 alone.
func TestFormatAsItIsWrittenDown(t *testing.T) {
	w := fresh(t)
	_, err := w.SetUnattended(ctx, passphrase, true)
	must(t, err)
	files := map[string][]byte{}
	ids := map[string]bool{}
	version := ""
	for _, name := range []string{"sealed", "owner", "unattended", "sealed.previous"} {
		data, err := os.ReadFile(filepath.Join(w.Dir, name))
		must(t, err)
		head, body, _ := bytes.Cut(data, []byte("\n"))
		words := strings.Fields(string(head))
		kind, _, _ := strings.Cut(name, ".")
		if len(words) != 8 || strings.Join(words[:4], " ") != "gentle-harbor wallet "+kind+" 1" ||
			words[6] != fmt.Sprint(len(body)) || words[7] != fmt.Sprintf("%x", sha256.Sum256(body)) {
			t.Fatalf("%s begins %s", name, head)
		}
		files[name] = body
		ids[words[4]] = true
		if name == "sealed" {
			version = words[5]
		}
	}
	if len(ids) != 1 || version != "2" {
		t.Errorf("%v, version %s", ids, version)
	}
	identity, err := age.NewScryptIdentity(passphrase.Reveal())
	must(t, err)
	opened, err := age.Decrypt(bytes.NewReader(files["owner"]), identity)
	must(t, err)
	text, err := io.ReadAll(opened)
	must(t, err)
	lines := strings.Split(string(text), "\n")
	reading, err := age.ParseX25519Identity(strings.TrimPrefix(lines[0], "reading "))
	must(t, err)
	seed, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(lines[1], "signing "))
	must(t, err)
	public := ed25519.NewKeyFromSeed(seed).Public().(ed25519.PublicKey)
	if want := lines[0] + "\nverify " + base64.StdEncoding.EncodeToString(public) +
		"\n"; string(files["unattended"]) != want {
		t.Error("the file unattended is not as it is written down")
	}
	sealed, signature := files["sealed"][:len(files["sealed"])-64], files["sealed"][len(files["sealed"])-64:]
	for id := range ids {
		if !ed25519.Verify(public, append([]byte("gentle-harbor wallet sealed 1 "+id+" "+version+"\n"),
			sealed...), signature) {
			t.Error("the signature does not hold")
		}
	}
	opened, err = age.Decrypt(bytes.NewReader(sealed), reading)
	must(t, err)
	text, err = io.ReadAll(opened)
	must(t, err)
	if want := `{"user":"warden_app","host":"db.fellside.example","port":5432,"tls":"verify","secret":"` +
		canary + `","changed":"2027-01-15T08:00:00Z"}` + "\n"; string(text) != want {
		t.Errorf("the content is not as it is written down, but %d bytes long", len(text))
	}
}

// TestUnfinishedWallet has what a Create that was killed leaves, and a folder of which all but
// the keys is gone.
func TestUnfinishedWallet(t *testing.T) {
	w := fresh(t)
	must(t, os.Remove(filepath.Join(w.Dir, sealedName)))
	if _, err := w.Open(passphrase); code(err) != "secret.wallet-incomplete" {
		t.Error(err)
	}
	if err := w.Create(ctx, passphrase); err == nil {
		t.Error("a wallet that can be recovered was made anew")
	}
	c, err := w.Recover(ctx, passphrase, Previous)
	if err != nil || len(c.Entries) != 0 || c.Version != 3 {
		t.Errorf("%+v %v", c, err)
	}
	must(t, os.Remove(filepath.Join(w.Dir, sealedName)))
	must(t, os.Remove(filepath.Join(w.Dir, previousName)))
	if _, err := w.Open(passphrase); code(err) != "secret.wallet-missing" {
		t.Error(err)
	}
	must(t, w.Create(ctx, passphrase))
	if c, err := w.Open(passphrase); err != nil || c.Version != 1 {
		t.Errorf("%+v %v", c, err)
	}
}

func TestEveryKindOfPassword(t *testing.T) {
	w := fresh(t)
	kinds := []string{"", " ", "ends in a space ", `quotes " and '`, "a#b=c:d@e/f\\g", "Hüttenwart – 小屋",
		"\xff\xfe not UTF-8", "tab\tnew\nline", strings.Repeat("long", 4000)}
	for i, text := range kinds {
		put(t, w, entry(fmt.Sprint("u", i), "h", i+1, text))
	}
	put(t, w, Entry{Target: target.Target{User: "none", Endpoint: target.Endpoint{Socket: "/s"}, TLS: "off"}})
	c, err := w.Open(passphrase)
	must(t, err)
	for i, text := range kinds {
		e, err := c.Match(target.Target{User: fmt.Sprint("u", i),
			Endpoint: target.Endpoint{Host: "h", Port: i + 1}, TLS: "verify"}, "w")
		if err != nil || !e.Secret.Given() || e.Secret.Reveal() != text || e.Changed.IsZero() {
			t.Errorf("kind %d did not come back: %v", i, err)
		}
	}
	if e, err := c.Match(target.Target{User: "none", Endpoint: target.Endpoint{Socket: "/s"}, TLS: "off"},
		"w"); err != nil || e.Secret.Given() {
		t.Errorf("no password came back as one: %v", err)
	}
}

func TestUserOfAnEndpoint(t *testing.T) {
	at := func(user string, first bool) Entry {
		e := entry(user, "h", 1, "x")
		e.First = first
		return e
	}
	dest := target.Target{Endpoint: target.Endpoint{Host: "h", Port: 1}, TLS: "verify"}
	for _, c := range []struct {
		entries []Entry
		user    string
		several int
	}{
		{nil, "", 0},
		{[]Entry{at("a", false)}, "a", 1},
		{[]Entry{at("a", false), at("b", false)}, "", 2},
		{[]Entry{at("a", false), at("b", true)}, "b", 2},
		{[]Entry{at("a", true), at("b", true)}, "b", 2}, // the mark moves
		{[]Entry{at("a", true), at("a", false)}, "a", 1},
		{[]Entry{entry("a", "other", 1, "x")}, "", 0},
	} {
		var contents Contents
		for _, e := range c.entries {
			contents.Put(e)
		}
		if user, several := contents.User(dest); user != c.user || len(several) != c.several {
			t.Errorf("%d entries: %q, %v", len(c.entries), user, several)
		}
	}
}

// refused requires opening to be refused with a finding of the wallet's; often, with the
// passphrase too, which costs more time.
func refused(w Wallet, name string, often bool) error {
	opens := []func() (*Contents, error){w.OpenUnattended}
	if often {
		opens = append(opens, func() (*Contents, error) { return w.Open(passphrase) })
	}
	for _, open := range opens {
		if name == ownerName {
			open = func() (*Contents, error) { return w.Open(passphrase) }
		}
		if name == unattendedName {
			open = w.OpenUnattended
		}
		c, err := open()
		if err == nil || c != nil && name != sealedName || !strings.HasPrefix(code(err), "secret.") {
			return fmt.Errorf("it opens, or %v", err)
		}
	}
	return nil
}

// TestEveryBitAndEveryCut changes each bit of each file and cuts it at each place; nothing of it
// opens. Each bit of the content ends at the checksum, which is asked directly; the wallet itself
// is opened with each bit of the first line, and one bit of each byte after it, which is also
// changed with the checksum made right again, as someone would who means harm.
func TestEveryBitAndEveryCut(t *testing.T) {
	w := fresh(t)
	_, err := w.SetUnattended(ctx, passphrase, true)
	must(t, err)
	opens(t, w, passphrase)
	for _, name := range []string{sealedName, ownerName, unattendedName} {
		whole, err := os.ReadFile(filepath.Join(w.Dir, name))
		must(t, err)
		head := bytes.IndexByte(whole, '\n') + 1
		var spoiled [][]byte
		for n := range len(whole) {
			spoiled = append(spoiled, whole[:n])
			for bit := range 8 {
				changed := bytes.Clone(whole)
				changed[n] ^= 1 << bit
				if n >= head && bit != n%8 {
					if _, err := parseFrame(changed, "", name); err == nil {
						t.Errorf("%s: bit %d of byte %d does not count", name, bit, n)
					}
					continue
				}
				spoiled = append(spoiled, changed)
				// The file "unattended" has a checksum and no more: whoever can write it has it all.
				if n >= head && name != unattendedName {
					f, err := parseFrame(whole, "", name)
					must(t, err)
					f.body = changed[head:]
					spoiled = append(spoiled, f.bytes())
				}
			}
		}
		spoiled = append(spoiled, append(bytes.Clone(whole), 0), append(bytes.Clone(whole), '\n'))
		// Copies of the wallet, side by side.
		var group errgroup.Group
		workers := runtime.NumCPU()
		for part := range workers {
			copied := w
			copied.Dir = filepath.Join(t.TempDir(), "wallet")
			must(t, os.CopyFS(copied.Dir, os.DirFS(w.Dir)))
			must(t, os.Chmod(copied.Dir, 0o700))
			for _, each := range []string{sealedName, ownerName, unattendedName} {
				must(t, os.Chmod(filepath.Join(copied.Dir, each), 0o600))
			}
			group.Go(func() error {
				path := filepath.Join(copied.Dir, name)
				for i := part; i < len(spoiled); i += workers {
					if err := os.WriteFile(path, spoiled[i], 0o600); err != nil {
						return err
					}
					if err := refused(copied, name, i%16 < workers); err != nil {
						return fmt.Errorf("%s, spoiled %d of %d: %w", name, i, len(spoiled), err)
					}
				}
				return nil
			})
		}
		if err := group.Wait(); err != nil {
			t.Error(err)
		}
		t.Logf("%s: %d changes and cuts of %d bytes refused", name, len(spoiled), len(whole))
	}
	opens(t, w, passphrase)
}

func TestEachTroubleHasItsFinding(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("modes are not checked on Windows")
	}
	set := func(name string, change func([]byte) []byte) func(*testing.T, Wallet) {
		return func(t *testing.T, w Wallet) {
			path := filepath.Join(w.Dir, name)
			data, err := os.ReadFile(path)
			must(t, err)
			must(t, os.WriteFile(path, change(data), 0o600))
		}
	}
	mode := func(name string, mode os.FileMode) func(*testing.T, Wallet) {
		return func(t *testing.T, w Wallet) { must(t, os.Chmod(filepath.Join(w.Dir, name), mode)) }
	}
	take := func(name string) func(*testing.T, Wallet) {
		return func(t *testing.T, w Wallet) {
			other := fresh(t)
			_, err := other.SetUnattended(ctx, passphrase, true)
			must(t, err)
			data, err := os.ReadFile(filepath.Join(other.Dir, name))
			must(t, err)
			must(t, os.WriteFile(filepath.Join(w.Dir, name), data, 0o600))
		}
	}
	for _, c := range []struct {
		name, open, jobs string
		spoil            func(*testing.T, Wallet)
	}{
		{"empty", "secret.wallet-empty", "secret.wallet-empty", set(sealedName, func([]byte) []byte { return nil })},
		{"empty owner", "secret.wallet-empty", "", set(ownerName, func([]byte) []byte { return nil })},
		{"cut", "secret.wallet-cut", "secret.wallet-cut", set(sealedName, func(b []byte) []byte { return b[:len(b)-1] })},
		{"cut in its first line", "secret.wallet-cut", "secret.wallet-cut",
			set(sealedName, func(b []byte) []byte { return b[:30] })},
		{"cut owner", "secret.wallet-cut", "", set(ownerName, func(b []byte) []byte { return b[:len(b)-9] })},
		{"damaged", "secret.wallet-damaged", "secret.wallet-damaged",
			set(sealedName, func(b []byte) []byte { b[len(b)-100] ^= 1; return b })},
		{"junk", "secret.wallet-damaged", "secret.wallet-damaged",
			set(sealedName, func([]byte) []byte { return bytes.Repeat([]byte("junk"), 1000) })},
		{"another format", "secret.wallet-format", "secret.wallet-format",
			set(sealedName, func(b []byte) []byte {
				return bytes.Replace(b, []byte("sealed 1 "), []byte("sealed 2 "), 1)
			})},
		{"another wallet's", "secret.wallet-swapped", "secret.wallet-swapped", take(sealedName)},
		{"another wallet's owner", "secret.wallet-swapped", "", take(ownerName)},
		{"another wallet's key for jobs", "", "secret.wallet-swapped", take(unattendedName)},
		{"the wrong kind of file", "secret.wallet-swapped", "secret.wallet-swapped", func(t *testing.T, w Wallet) {
			data, err := os.ReadFile(filepath.Join(w.Dir, ownerName))
			must(t, err)
			must(t, os.WriteFile(filepath.Join(w.Dir, sealedName), data, 0o600))
		}},
		{"missing", "secret.wallet-incomplete", "secret.wallet-incomplete", func(t *testing.T, w Wallet) {
			must(t, os.Remove(filepath.Join(w.Dir, sealedName)))
		}},
		{"older", "secret.wallet-older", "secret.wallet-older", func(t *testing.T, w Wallet) {
			must(t, os.Rename(filepath.Join(w.Dir, previousName), filepath.Join(w.Dir, sealedName)))
		}},
		{"replaced", "secret.wallet-replaced", "secret.wallet-replaced", func(t *testing.T, w Wallet) {
			for _, name := range []string{sealedName, ownerName, unattendedName} {
				take := take(name)
				take(t, w)
			}
			other := fresh(t)
			_, err := other.SetUnattended(ctx, passphrase, true)
			must(t, err)
			must(t, os.RemoveAll(w.Dir))
			must(t, os.CopyFS(w.Dir, os.DirFS(other.Dir)))
			must(t, os.Chmod(w.Dir, 0o700))
			for _, name := range []string{sealedName, ownerName, unattendedName} {
				must(t, os.Chmod(filepath.Join(w.Dir, name), 0o600))
			}
		}},
		{"the group may read", "secret.file-unsafe", "secret.file-unsafe", mode(sealedName, 0o640)},
		{"others may read the owner's", "secret.file-unsafe", "", mode(ownerName, 0o604)},
		{"others may read the key for jobs", "", "secret.file-unsafe", mode(unattendedName, 0o604)},
		{"others may write the folder", "secret.folder-unsafe", "secret.folder-unsafe", mode(".", 0o777)},
		{"foreign", "secret.file-foreign", "secret.file-foreign", func(t *testing.T, w Wallet) {
			// A file of root's is trusted, so the test has to be another user than root's victim.
			if os.Geteuid() != 0 {
				t.Skip("only root can give a file away")
			}
			must(t, os.Chown(filepath.Join(w.Dir, sealedName), 12345, -1))
		}},
		{"a forged content", "secret.wallet-forged", "secret.wallet-forged", func(t *testing.T, w Wallet) {
			// Whoever reads the key for jobs can encrypt; the signature is what stops it.
			f, err := w.read(sealedName, "sealed", maxSealed)
			must(t, err)
			u, err := w.read(unattendedName, "unattended", maxKeys)
			must(t, err)
			list, err := readKeys(u.body, false)
			must(t, err)
			k, err := newKeys()
			must(t, err)
			k.reading = list[0].reading
			data, err := seal(&Contents{ID: f.id, Version: 9, Entries: []Entry{entry("warden_app", "evil.example", 1, "x")}}, k)
			must(t, err)
			must(t, os.WriteFile(filepath.Join(w.Dir, sealedName), data, 0o600))
		}},
		{"the version raised", "secret.wallet-forged", "secret.wallet-forged", func(t *testing.T, w Wallet) {
			f, err := w.read(sealedName, "sealed", maxSealed)
			must(t, err)
			f.version = 99
			must(t, os.WriteFile(filepath.Join(w.Dir, sealedName), f.bytes(), 0o600))
		}},
		{"another work factor", "secret.wallet-work-factor", "", func(t *testing.T, w Wallet) {
			k, err := newKeys()
			must(t, err)
			f, err := w.read(ownerName, "owner", maxKeys)
			must(t, err)
			w.WorkFactor = 9
			data, err := w.sealOwner(f.id, []keys{k}, passphrase)
			must(t, err)
			must(t, os.WriteFile(filepath.Join(w.Dir, ownerName), data, 0o600))
		}},
		{"signed junk", "secret.wallet-damaged", "secret.wallet-damaged", func(t *testing.T, w Wallet) {
			id, list, err := w.openOwner(passphrase)
			must(t, err)
			body, err := encrypt([]byte("junk\n"), list[0].reading.Recipient())
			must(t, err)
			body = append(body, ed25519.Sign(list[0].signing, signed(id, 7, body))...)
			must(t, os.WriteFile(filepath.Join(w.Dir, sealedName), frame{"sealed", id, 7, body}.bytes(), 0o600))
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := fresh(t)
			_, err := w.SetUnattended(ctx, passphrase, true)
			must(t, err)
			opens(t, w, passphrase)
			c.spoil(t, w)
			before := everything(t, w.Dir)
			_, err = w.Open(passphrase)
			if got := code(err); c.open != "" && got != c.open || c.open == "" && err != nil {
				t.Errorf("with the passphrase: %v", err)
			}
			if strings.Contains(fmt.Sprint(err), canary) {
				t.Error("the finding shows the secret")
			}
			_, err = w.OpenUnattended()
			if got := code(err); c.jobs != "" && got != c.jobs || c.jobs == "" && err != nil {
				t.Errorf("without: %v", err)
			}
			if c.open != "" {
				err := w.Change(ctx, passphrase, func(*Contents) error { return nil })
				if err == nil || everything(t, w.Dir) != before {
					t.Errorf("a write went on: %v", err)
				}
			}
		})
	}
}

// everything gives a folder's files with their content, but for the lock.
func everything(t testing.TB, dir string) string {
	t.Helper()
	names, err := os.ReadDir(dir)
	must(t, err)
	var b strings.Builder
	for _, each := range names {
		if each.Name() != ".lock" {
			data, err := os.ReadFile(filepath.Join(dir, each.Name()))
			must(t, err)
			fmt.Fprintf(&b, "%s %x\n", each.Name(), data)
		}
	}
	return b.String()
}

func TestOlderAndReplacedComeBackByRecover(t *testing.T) {
	w := fresh(t)
	put(t, w, entry("reader", "h", 1, "x"))
	must(t, os.Rename(filepath.Join(w.Dir, previousName), filepath.Join(w.Dir, sealedName)))
	if _, err := w.Open(passphrase); code(err) != "secret.wallet-older" {
		t.Fatal(err)
	}
	c, err := w.Recover(ctx, passphrase, Current)
	must(t, err)
	if c.Version != 4 {
		t.Errorf("version %d", c.Version)
	}
	opens(t, w, passphrase)
	path := filepath.Join(w.Dir, sealedName)
	must(t, os.WriteFile(path, []byte("junk"), 0o600))
	put := func() error { _, err := w.Recover(ctx, passphrase, Previous); return err }
	must(t, put())
	opens(t, w, passphrase)
	if kept, err := os.ReadFile(filepath.Join(w.Dir, damagedName)); err != nil || string(kept) != "junk" {
		t.Error("the damaged file is gone")
	}
	if _, err := w.Recover(ctx, secret.New("wrong"), Previous); code(err) != "secret.wallet-passphrase" {
		t.Error(err)
	}
}

// TestMain runs the test program as a writer where a test says so in its environment.
func TestMain(m *testing.M) {
	dir := os.Getenv("HARBOR_TEST_WALLET")
	if dir == "" {
		os.Exit(m.Run())
	}
	w := Wallet{Dir: dir, Memory: Memory{filepath.Join(filepath.Dir(dir), "state", "wallets.json")}, WorkFactor: 10}
	name := os.Getenv("HARBOR_TEST_WRITER")
	put := func(i int) error {
		return w.Change(ctx, passphrase, func(c *Contents) error {
			c.Put(entry(name, "h", 1+i%50, canary))
			return nil
		})
	}
	if name != "killed" {
		if err := put(0); err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	from, _ := strconv.Atoi(os.Getenv("HARBOR_TEST_FROM"))
	fmt.Println("begun")
	for i := from; ; i++ {
		var err error
		switch i % 4 {
		case 1:
			err = w.SetPassphrase(ctx, passphrase, passphrase)
		case 2:
			_, err = w.SetUnattended(ctx, passphrase, i%8 < 4)
		default:
			err = put(i)
		}
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
	}
}

// TestJobsReadWhileOthersWrite opens the wallet as a job does, again and again, while entries are
// put in and new keys are made.
func TestJobsReadWhileOthersWrite(t *testing.T) {
	w := fresh(t)
	_, err := w.SetUnattended(ctx, passphrase, true)
	must(t, err)
	done := make(chan error, 1)
	go func() {
		for i := range 40 {
			var err error
			if i%2 == 0 {
				err = w.SetPassphrase(ctx, passphrase, passphrase)
			} else {
				err = w.Change(ctx, passphrase, func(c *Contents) error { c.Put(entry("reader", "h", i, "x")); return nil })
			}
			if err != nil {
				done <- err
				return
			}
		}
		done <- nil
	}()
	reads, last := 0, uint64(0)
	for {
		select {
		case err := <-done:
			if err != nil || reads < 40 || last < 20 {
				t.Errorf("%v; %d reads, the last of version %d", err, reads, last)
			}
			return
		default:
		}
		c, err := w.OpenUnattended()
		if err != nil || c.Version < last {
			t.Fatalf("read %d: %v", reads, err)
		}
		reads, last = reads+1, c.Version
	}
}

func writer(w Wallet, name string) *exec.Cmd {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "HARBOR_TEST_WALLET="+w.Dir, "HARBOR_TEST_WRITER="+name)
	return cmd
}

func TestFiftyWritersAllLand(t *testing.T) {
	w := fresh(t)
	var group sync.WaitGroup
	for i := range 50 {
		group.Go(func() {
			if out, err := writer(w, fmt.Sprint("writer", i)).CombinedOutput(); err != nil {
				t.Errorf("%v %s", err, out)
			}
		})
	}
	group.Wait()
	c := opens(t, w, passphrase)
	if len(c.Entries) != 51 || c.Version != 52 {
		t.Errorf("%d entries, version %d", len(c.Entries), c.Version)
	}
}

// TestKilledWritersLeaveAWallet kills a writer 250 times, at moments that no two share, while it
// puts entries, makes new keys and switches the key for jobs on and off.
func TestKilledWritersLeaveAWallet(t *testing.T) {
	w := fresh(t)
	_, err := w.SetUnattended(ctx, passphrase, true)
	must(t, err)
	// As long as the longest of its works takes here and now, and half as long again.
	began := time.Now()
	must(t, w.SetPassphrase(ctx, passphrase, passphrase))
	span := time.Since(began) * 3 / 2
	var last uint64
	halves, jobs := 0, 0
	for i := range 250 {
		cmd := writer(w, "killed")
		cmd.Env = append(cmd.Env, fmt.Sprint("HARBOR_TEST_FROM=", i)) // each kind of work comes first in turn
		out, err := cmd.StdoutPipe()
		must(t, err)
		must(t, cmd.Start())
		begun := make([]byte, 6)
		_, err = out.Read(begun)
		must(t, err)
		time.Sleep(span * time.Duration(i*7919%1000) / 1000)
		must(t, cmd.Process.Kill())
		_ = cmd.Wait()
		if string(begun) != "begun\n" {
			t.Fatalf("the writer failed: %s", begun)
		}
		if left, _ := filepath.Glob(filepath.Join(w.Dir, ".new-*")); len(left) > 0 {
			halves++
		}
		c, err := w.Open(passphrase)
		if err != nil || c.Version < last ||
			!slices.ContainsFunc(c.Entries, func(e Entry) bool { return e.Target.User == "warden_app" }) {
			t.Fatalf("after kill %d: %v", i, err)
		}
		last = c.Version
		if w.HasUnattended() {
			jobs++
			if _, err := w.OpenUnattended(); err != nil {
				t.Fatalf("after kill %d, as a job: %v", i, err)
			}
		}
		if i%50 == 0 {
			opens(t, w, passphrase)
		}
	}
	put(t, w, entry("after", "h", 1, "x"))
	t.Logf("version %d after 250 kills within %s each, %d of them in the middle of writing a file, %d with a key for jobs",
		last, span, halves, jobs)
	if left, _ := filepath.Glob(filepath.Join(w.Dir, ".new-*")); len(left) > 0 || last < 20 || halves == 0 ||
		jobs == 0 || jobs == 250 {
		t.Errorf("left behind: %v; version %d, %d in the middle", left, last, halves)
	}
}

func FuzzContents(f *testing.F) {
	text, err := encode([]Entry{entry("warden_app", "db.fellside.example", 5432, canary),
		{Target: target.Target{User: "n", Endpoint: target.Endpoint{Socket: "/s"}, TLS: "off"}},
		entry("b", "h", 0, "\xff")})
	must(f, err)
	f.Add(text)
	f.Add([]byte("{}\n"))
	f.Add([]byte(`{"user":"a","host":"b","tls":"off","secret":"","changed":"2026-01-01T00:00:00Z"}` + "\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		entries, err := decode(text)
		if err != nil {
			return
		}
		again, err := encode(entries)
		if err != nil {
			return // names that are not UTF-8 are read from escapes alone, and refused when written
		}
		back, err := decode(again)
		if err != nil || len(back) != len(entries) {
			t.Fatalf("%d entries come back as %d: %v", len(entries), len(back), err)
		}
		for i := range back {
			if back[i].Target.Key() != entries[i].Target.Key() ||
				back[i].Secret.Reveal() != entries[i].Secret.Reveal() ||
				back[i].Secret.Given() != entries[i].Secret.Given() {
				t.Errorf("entry %d does not come back", i)
			}
		}
	})
}

func FuzzFrame(f *testing.F) {
	f.Add(frame{"sealed", strings.Repeat("ab", 16), 7, []byte("body")}.bytes())
	f.Add(frame{"owner", strings.Repeat("00", 16), 0, nil}.bytes())
	f.Add([]byte("gentle-harbor wallet sealed 1 x 1 1 y\nz"))
	f.Fuzz(func(t *testing.T, data []byte) {
		got, err := parseFrame(data, "f", "sealed")
		if err == nil && !bytes.Equal(got.bytes(), data) {
			t.Error("a file is read that would be written otherwise")
		}
	})
}

// BenchmarkOpen opens a wallet of 10,000 entries with the key for jobs.
func BenchmarkOpen(b *testing.B) {
	w := fresh(b)
	must(b, w.Change(ctx, passphrase, func(c *Contents) error {
		for i := range 10_000 {
			c.Entries = append(c.Entries, entry(fmt.Sprint("warden", i), fmt.Sprintf("db%d.fellside.example", i), 5432, canary))
		}
		return nil
	}))
	_, err := w.SetUnattended(ctx, passphrase, true)
	must(b, err)
	dest := entry("warden77", "db77.fellside.example", 5432, "").Target
	for b.Loop() {
		s, _, err := (&Keeper{Wallet: w}).Look(ctx, dest, secret.Named)
		must(b, err)
		if s.Reveal() != canary {
			b.Fatal("it is not the one")
		}
	}
}

func FuzzKeys(f *testing.F) {
	k, err := newKeys()
	must(f, err)
	f.Add(writeKeys([]keys{k}, true), true)
	f.Add(writeKeys([]keys{k, k}, false), false)
	f.Add([]byte("reading \nverify \n"), false)
	f.Fuzz(func(t *testing.T, text []byte, private bool) {
		if list, err := readKeys(text, private); err == nil && !bytes.Equal(writeKeys(list, private), text) {
			t.Error("keys are read that would be written otherwise")
		}
	})
}
