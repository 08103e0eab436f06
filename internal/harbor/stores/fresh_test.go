package stores

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/harbor/worldtest"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/target"
)

// TestWhereANewPasswordComesFrom takes the password of a new entry from a file, another source or a
// person, and refuses what is none. No message shows it.
func TestWhereANewPasswordComesFrom(t *testing.T) {
	typed := func(texts ...string) (list [][2]string) {
		for i, text := range texts {
			list = append(list, [2]string{[]string{"Password of u at", "Once more"}[i%2], text})
		}
		return list
	}
	for name, c := range map[string]struct {
		file, from string
		answers    [][2]string
		away       bool
		want, says string
	}{
		"a file":               {file: "pw", want: "from a file"},
		"standard input":       {file: "-", want: "from a pipe"},
		"no such file":         {file: "none", says: "none"},
		"a variable":           {from: "env:PW", want: worldtest.Canary},
		"an empty one":         {from: "empty", want: ""},
		"a wallet":             {from: "wallet", says: "wallet is none"},
		"a person's":           {from: "ask", says: "ask is none"},
		"no reference":         {from: "the password", says: "--secret"},
		"typed":                {answers: typed("one", "one"), want: "one"},
		"typed twice unlike":   {answers: typed("one", "two", "one", "one"), want: "one"},
		"nobody can be asked":  {away: true, says: "--secret-file -"},
		"a person who is gone": {says: "left"},
	} {
		w, who, notes := worldtest.New(t, c.answers...)
		who.Away = c.away
		w.Stdin = strings.NewReader("from a pipe\n")
		must(t, os.WriteFile(filepath.Join(w.Dir, "pw"), []byte("from a file\n"), 0o600))
		r := Of(w)
		r.SecretFile = c.file
		got, err := r.NewSecret(t.Context(), target.Target{User: "u", Endpoint: target.Endpoint{Host: "h", Port: 1}}, c.from)
		if (err != nil) != (c.says != "") || err == nil && got.Reveal() != c.want {
			t.Errorf("%s: %v", name, err)
		}
		if err != nil && c.says != "left" && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
		if text := strings.Join(*notes, "\n"); strings.Contains(text, worldtest.Canary) || strings.Contains(text, "from a") {
			t.Errorf("%s: a note shows the password", name)
		}
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	w, _, _ := worldtest.New(t, typed("one", "one")...)
	if _, err := Of(w).NewSecret(over, target.Target{}, ""); !errors.Is(err, context.Canceled) {
		t.Errorf("a run that has ended: %v", err)
	}
}

// TestWhereItIsKept asks for a store, makes the wallet that a reference names, and says which
// profiles its entries serve.
func TestWhereItIsKept(t *testing.T) {
	const question = "Store this password"
	for answer, want := range map[string]string{"": "", "no": "", "wal": "wallet", "credentials": "credentials"} {
		w, who, _ := worldtest.New(t, [2]string{question, "where?"}, [2]string{question, answer})
		if got, err := Of(w).AskStore(t.Context(), secret.Secret{}); got != want || err != nil || who.Wrong != "" {
			t.Errorf("%q: %q %v %s", answer, got, err, who.Wrong)
		}
	}
	w, _, _ := worldtest.New(t, [2]string{question, "credentials"}, [2]string{question, "wallet"},
		[2]string{"Passphrase for the new", phrase}, [2]string{"Once more", phrase})
	r := Of(w)
	if got, err := r.AskStore(t.Context(), secret.New("of a string")); got != "wallet" || err != nil {
		t.Errorf("a connection string's goes to a wallet alone: %q %v", got, err)
	}
	team, err := r.WalletFor(t.Context(), secret.Reference{Kind: secret.Wallet, Of: "team"})
	if err != nil || !strings.HasSuffix(team.Dir, "wallets/team") || !team.Exists() {
		t.Fatalf("%s %v", team.Dir, err)
	}
	usual, err := r.WalletDir("")
	if dirs := r.WalletDirs(); err != nil || !slices.Equal(dirs, []string{usual, team.Dir}) {
		t.Errorf("%q %v", dirs, err)
	}
	w.Environ = append(w.Environ, "GHARBOR_WALLET=/of/a/variable")
	if dir, err := r.WalletDir(""); dir != "/of/a/variable" || err != nil {
		t.Errorf("%s %v", dir, err)
	}
	r.WalletPath = "elsewhere"
	if dir, err := r.WalletDir(""); dir != filepath.Join(w.Dir, "elsewhere") || err != nil {
		t.Errorf("%s %v", dir, err)
	}
	worldtest.Save(t, w, "live", "engine: postgres\nhost: h\nport: 1\nuser: u\n")
	worldtest.Save(t, w, "ours", "engine: postgres\nhost: h\nport: 1\nuser: u\nsecret: wallet:team\n")
	worldtest.Save(t, w, "other", "engine: postgres\nhost: h\nport: 1\nuser: u\nsecret: env:PW\n")
	at := target.Target{User: "u", TLS: "off", Endpoint: target.Endpoint{Host: "h", Port: 1}}
	contents := &wallet.Contents{Entries: []wallet.Entry{{Target: at, Secret: secret.New("x")}}}
	for named, want := range map[string][]string{"team": {"live", "ours"}, "": {"live"}} {
		if got := r.UsedBy(contents, named)[at.Key()]; !slices.Equal(got, want) {
			t.Errorf("%q serves %q", named, got)
		}
	}
	r.SecretFile, r.PassphraseFile = "-", "-"
	if err := r.Inputs(); err == nil || r.Unread() != nil {
		t.Errorf("two things are read from standard input: %v", err)
	}
	r.SecretFile = "f"
	if err := r.Inputs("-"); err == nil {
		t.Error("a word of the command and the passphrase are both read from standard input")
	}
}
