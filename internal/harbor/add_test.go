package harbor

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/harbor/edits"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/harbor/worldtest"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
)

func (r Run) text(t *testing.T, name string) string { return worldtest.Text(t, r.World, name) }

// set makes a layer as flags do.
func set(t *testing.T, pairs ...string) profile.Layer {
	t.Helper()
	layer := profile.Layer{}
	for i := 0; i < len(pairs); i += 2 {
		s, _ := profile.Find(pairs[i])
		if pairs[i+1] == "" {
			layer[pairs[i]] = profile.Value{}
			continue
		}
		must(t, Take(layer, s, pairs[i+1], profile.Origin{Layer: "flag"}))
	}
	return layer
}

// by has a use case make a profile.
func by(r Run, n Making) Making {
	n.Run = r
	return n
}

// TestAddAsks makes a profile with a person: a failed test, a change, and the save.
func TestAddAsks(t *testing.T) {
	s := start(t, standin.Faults{})
	// so that there is a server to offer
	usual, err := standin.Start(standin.Config{Engine: "postgres", Address: "127.0.8.1:5432"})
	must(t, err)
	defer usual.Close()
	r, who, _ := newRun(t,
		[2]string{"or Enter for another", "many"}, [2]string{"or Enter for another", ""},
		[2]string{"engine", "PostgreSQL"}, [2]string{"host", "127.0.0.1"}, [2]string{"port", "1"},
		[2]string{"database", "bunkhouse"}, [2]string{"user", "warden_app"}, [2]string{"lists them", "?"},
		[2]string{"lists them", "env:PW"},
		[2]string{"The test failed", "what"}, [2]string{"The test failed", "change"},
		[2]string{"Which setting [port]", ""}, [2]string{"port [1]", "0"}, [2]string{"port [1]", itoa(s.Port())})
	var shown []string
	n := Making{Name: "huts/new", Look: 20 * time.Second, Began: func(string) {}}
	n.Saved = func(edits.Place) {}
	n.Shown = func(_ profile.Effective, r *checkup.Report) {
		shown = append(shown, string(r.Code()))
	}
	if err := by(*r, n).Add(t.Context()); err != nil || who.Wrong != "" || len(who.Lines) > 0 {
		t.Fatalf("%v, %s, %v", err, who.Wrong, who.Lines)
	}
	if !slices.Equal(shown, []string{"port.refused", ""}) ||
		!strings.Contains(r.text(t, "huts/new"), "port: "+itoa(s.Port())) {
		t.Errorf("%v\n%s", shown, r.text(t, "huts/new"))
	}
	r, who, _ = newRun(t, [2]string{"The test failed", "leave"})
	r.Set = set(t, "engine", "postgres", "host", "127.0.0.1", "port", "1", "user", "u", "database", "d", "secret", "empty")
	n.Test = true
	var e world.Error
	if err := by(*r, n).Add(t.Context()); !errors.As(err, &e) || e.Code != 5 || who.Wrong != "" {
		t.Errorf("%v, %s", err, who.Wrong)
	}
	if _, err := r.edits().Existing("huts/new"); err == nil {
		t.Error("it was saved all the same")
	}
	// What fails is saved where the person says so.
	r, who, _ = newRun(t, [2]string{"The test failed", "save"})
	r.Set = set(t, "engine", "postgres", "host", "127.0.0.1", "port", "1", "user", "u", "database", "d", "secret", "empty")
	if err := by(*r, n).Add(t.Context()); err != nil || who.Wrong != "" ||
		!strings.Contains(r.text(t, "huts/new"), "port: 1\n") {
		t.Errorf("%v, %s", err, who.Wrong)
	}
	// Settings that say it all are saved unasked.
	r, who, _ = newRun(t)
	r.Set = set(t, "engine", "postgres", "host", "127.0.0.1", "user", "u", "database", "d", "secret", "empty")
	n.Test, shown = false, nil
	if err := by(*r, n).Add(t.Context()); err != nil || who.Wrong != "" || len(shown) > 0 ||
		!strings.Contains(r.text(t, "huts/new"), "secret: empty") {
		t.Errorf("%v, %s, %v", err, who.Wrong, shown)
	}
}

// TestAddAlone makes profiles where nobody can be asked.
func TestAddAlone(t *testing.T) {
	s := start(t, standin.Faults{})
	good := "postgres://warden_app@127.0.0.1:" + itoa(s.Port()) + "/bunkhouse"
	for _, c := range []struct {
		name   string
		n      Making
		set    []string
		fails  string
		exit   int
		stdin  string
		stored string
	}{
		{name: "flags", n: Making{Name: "a"}, set: []string{"engine", "postgres", "user", "u"}, stored: "user: u"},
		{name: "something missing", n: Making{Name: "a"}, set: []string{"engine", "postgres"},
			fails: "missing: --user", exit: 2},
		{name: "a string", n: Making{Name: "a", Source: good}, stored: "host: 127.0.0.1"},
		{name: "a string on standard input", n: Making{Name: "a", Source: "-"}, stdin: good + "\n",
			stored: "host: 127.0.0.1"},
		{name: "no string", n: Making{Name: "a", Source: "word"}, fails: "not a connection string", exit: 2},
		{name: "the string first", n: Making{Name: good}, fails: "the name comes before", exit: 2},
		{name: "a test that passes", n: Making{Name: "a", Source: good, Test: true},
			set: []string{"secret", "env:PW"}, stored: "secret: env:PW"},
		{name: "a test that fails", n: Making{Name: "a", Source: good, Test: true},
			set: []string{"secret", "empty"}, fails: "its test failed", exit: 6},
		{name: "a name that is taken", n: Making{Name: "taken", Source: good}, fails: "already", exit: 3},
	} {
		r, who, _ := newRun(t)
		who.Away = true
		r.save(t, "taken", "engine: postgres\nuser: u\n")
		r.Stdin, r.Set = strings.NewReader(c.stdin), set(t, c.set...)
		c.n.Shown, c.n.Saved = func(profile.Effective, *checkup.Report) {}, func(edits.Place) {}
		err := by(*r, c.n).Add(t.Context())
		var e world.Error
		if errors.As(err, &e); (err != nil) != (c.fails != "") || e.Code != c.exit ||
			err != nil && !strings.Contains(err.Error(), c.fails) {
			t.Errorf("%s: %v", c.name, err)
		}
		if c.stored != "" && !strings.Contains(r.text(t, "a"), c.stored) {
			t.Errorf("%s: %s", c.name, r.text(t, "a"))
		}
	}
}

func TestImport(t *testing.T) {
	r, who, _ := newRun(t)
	who.Away = true
	file := filepath.Join(r.Dir, "details.txt")
	if err := os.WriteFile(file, []byte("Engine: postgres\nHost: db.fellside.example\nPort: 6021\nUser: "+
		"warden_app\nPassword: "+canary+"\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	n := Making{Name: "a", Source: "details.txt", Saved: func(edits.Place) {}}
	must(t, by(*r, n).Import(t.Context()))
	if text := r.text(t, "a"); !strings.Contains(text, "port: 6021") || strings.Contains(text, canary) {
		t.Error("it is not what the file says, or it has the password")
	}
	r.Keep, r.PassphraseFile = "wallet", filepath.Join(r.Dir, "phrase")
	passphrase := secret.New("a sentence of some words")
	must(t, os.WriteFile(r.PassphraseFile, []byte(passphrase.Reveal()), 0o600))
	w := r.WalletAt(filepath.Join(r.Dir, "wallet"))
	must(t, w.Create(t.Context(), passphrase))
	n.Name = "kept"
	must(t, by(*r, n).Import(t.Context()))
	if contents, err := w.Open(passphrase); err != nil || len(contents.Entries) != 1 ||
		contents.Entries[0].Secret.Reveal() != canary || strings.Contains(r.text(t, "kept"), canary) {
		t.Errorf("the password is not in the wallet alone: %v", err)
	}
	r.Keep = ""
	for source, says := range map[string]string{"nope": "neither a connection string", r.Dir: "binding"} {
		n.Name, n.Source = "b", source
		if err := by(*r, n).Import(t.Context()); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", source, err)
		}
	}
}

// TestImportAsksForReferences imports files that would have a secret read, a program run or a
// statement sent.
func TestImportAsksForReferences(t *testing.T) {
	for _, risky := range []string{`"secret": "file:~/.ssh/id_ed25519"`, `"secret": "env:AWS_SECRET"`,
		`"secret": {"command": ["sh", "-c", "x"]}`, `"secret": "command: [sh, -c, x]"`,
		`"on-open": ["drop table hut"]`, `"tls": {"mode": "verify", "ca": "/tmp/ca.pem"}`, `"socket": "/tmp/s"`} {
		text := `{"format": 1, "settings": {"engine": "postgres", "user": "u", ` + risky + `}}`
		for _, c := range []struct {
			name    string
			away    bool
			n       Making
			answers [][2]string
			made    bool
		}{
			{name: "alone", away: true}, {name: "alone, and wanted", away: true, n: Making{References: true}, made: true},
			{name: "asked, no", answers: [][2]string{{"Take these over?", ""}}},
			{name: "asked, yes", answers: [][2]string{{"Take these over?", "yes"}}, made: true},
		} {
			r, who, _ := newRun(t, c.answers...)
			who.Away = c.away
			r.Stdin = strings.NewReader(text)
			c.n.Name, c.n.Source, c.n.Saved = "p", "-", func(edits.Place) {}
			err := by(*r, c.n).Import(t.Context())
			if _, there := r.edits().Existing("p"); (there == nil) != c.made || (err == nil) != c.made || who.Wrong != "" {
				t.Errorf("%s, %s: %v, %s", risky, c.name, err, who.Wrong)
			}
			if shown := strings.Join(who.Log, "\n") + fmt.Sprint(err); !c.n.References && !strings.Contains(shown, ": ") {
				t.Errorf("%s, %s: it is not shown: %s", risky, c.name, shown)
			}
		}
	}
}
