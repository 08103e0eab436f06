package harbor

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
)

func nothing() {}

func (r *Run) text(t *testing.T, name string) string {
	t.Helper()
	p, err := r.Existing(name)
	if err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(p.File())
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

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
		if err := Take(layer, s, pairs[i+1], profile.Origin{Layer: "flag"}); err != nil {
			t.Fatal(err)
		}
	}
	return layer
}

func TestChange(t *testing.T) {
	const before = "# by hand\nengine: postgres\nhost: a\nport: 6021 # kept\nuser: u\nlabels: {x: y, z: w}\n"
	for _, c := range []struct {
		name  string
		set   []string
		unset []string
		want  []string // what the file has afterwards
		gone  []string
		says  string
	}{
		{name: "one value", set: []string{"user", "v"}, want: []string{"# by hand", "port: 6021 # kept", "user: v"}},
		{name: "another host takes the port out", set: []string{"host", "b"}, want: []string{"host: b"}, gone: []string{"port:"}},
		{name: "the same host keeps it", set: []string{"host", "a"}, want: []string{"port: 6021"}},
		{name: "a socket in the place of a host", set: []string{"socket", "/run/x"}, want: []string{"socket: /run/x"}, gone: []string{"host:", "port:"}},
		{name: "an empty value", set: []string{"user", ""}, gone: []string{"user:"}},
		{name: "a whole map", unset: []string{"labels."}, gone: []string{"x: y", "z: w"}},
		{name: "nothing", says: "what to change"},
		{name: "a base that is not there", set: []string{"base", "none"}, says: "none"},
	} {
		r, _, _ := newRun(t)
		r.save(t, "p", before)
		p, err := r.Existing("p")
		if err != nil {
			t.Fatal(err)
		}
		err = r.Change(t.Context(), p, set(t, c.set...), c.unset, nothing)
		if (err != nil) != (c.says != "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.name, err)
		}
		after := r.text(t, "p")
		if err != nil && after != before {
			t.Errorf("%s: it failed and wrote:\n%s", c.name, after)
		}
		for _, want := range c.want {
			if !strings.Contains(after, want) {
				t.Errorf("%s: %q is missing in\n%s", c.name, want, after)
			}
		}
		for _, gone := range c.gone {
			if strings.Contains(after, gone) {
				t.Errorf("%s: %q is left in\n%s", c.name, gone, after)
			}
		}
	}
}

// TestCopyRenameRemove moves profiles about: paths lead to the same files, bases follow, and nothing is lost.
func TestCopyRenameRemove(t *testing.T) {
	r, _, notes := newRun(t)
	r.save(t, "p", "engine: postgres\nuser: u\nhost: h\ntls: {mode: verify, ca: ca.pem}\n")
	r.save(t, "child", "base: p\n")
	if _, _, err := r.Copy(t.Context(), "p", "deep/q", false); err != nil {
		t.Fatal(err)
	}
	if text := r.text(t, "deep/q"); !strings.Contains(text, "ca: ../ca.pem") {
		t.Errorf("the path leads elsewhere:\n%s", text)
	}
	for _, c := range [][3]string{{"p", "deep/q", "already"}, {"p", "p", "the same profile"}, {"nope", "x", "there is no profile"}, {"p", "a name", "name"}} {
		if _, _, err := r.Copy(t.Context(), c[0], c[1], false); err == nil || !strings.Contains(err.Error(), c[2]) {
			t.Errorf("%v: %v", c, err)
		}
	}
	renamed := 0
	if err := r.Rename(t.Context(), "p", "new", false, false, func() { renamed++ }, nil); err != nil || renamed != 1 {
		t.Errorf("%v, %d", err, renamed)
	}
	if !strings.Contains((*notes)[len(*notes)-1], "says base: p, which is gone; write base: new") {
		t.Errorf("%q", *notes)
	}
	r.save(t, "child", "base: new\n")
	var followed []string
	if err := r.Rename(t.Context(), "new", "newer", false, true, nothing, func(name, base string) { followed = append(followed, name+" "+base) }); err != nil || !slices.Equal(followed, []string{"child newer"}) {
		t.Errorf("%v, %v", err, followed)
	}
	if text := r.text(t, "child"); text != "base: newer\n" {
		t.Errorf("%q", text)
	}
	if err := r.Remove(t.Context(), []string{"newer", "nope"}, func(string) {}); err == nil {
		t.Error("a name that is not there is passed over")
	}
	var removed []string
	if err := r.Remove(t.Context(), []string{"newer", "deep/q"}, func(name string) { removed = append(removed, name) }); err != nil || len(removed) != 2 {
		t.Errorf("%v, %v", err, removed)
	}
	if !strings.Contains((*notes)[len(*notes)-1], "says base: newer, which is gone now") {
		t.Errorf("%q", *notes)
	}
}

// TestAProjectIsAgreedToByItsWriter writes into a project, and copies out of one that nobody agreed to.
func TestAProjectIsAgreedToByItsWriter(t *testing.T) {
	r, _, notes := newRun(t)
	r.Dir = t.TempDir()
	r.save(t, "p", "engine: postgres\nuser: u\nhost: h\n")
	if _, to, err := r.Copy(t.Context(), "p", "project:p", false); err != nil || !to.Store.Project || !r.agreedNow(to) {
		t.Fatalf("%v", err)
	}
	if !strings.Contains((*notes)[0], "commit it with the rest") {
		t.Errorf("%q", *notes)
	}
	p, err := r.Existing("project:p")
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Change(t.Context(), p, set(t, "note", "x"), nil, nothing); err != nil || !r.agreedNow(p) {
		t.Errorf("the writer's own change is not agreed to: %v", err)
	}
	if err := os.WriteFile(p.File(), []byte("engine: postgres\nuser: u\nhost: elsewhere\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, _, err := r.Copy(t.Context(), "project:p", "mine:stolen", false); err == nil || !strings.Contains(err.Error(), "gharbor agree") {
		t.Errorf("%v", err)
	}
	if err := r.Change(t.Context(), p, set(t, "note", "y"), nil, nothing); err != nil || r.agreedNow(p) {
		t.Errorf("a change agreed to what someone else had changed before: %v", err)
	}
}

func TestEdit(t *testing.T) {
	const before, good, bad = "engine: postgres\nuser: u\nhost: h\n", "engine: postgres\nuser: v\nhost: h\n", "engine: nonsense\n"
	writing := func(texts ...string) func(string) error {
		return func(path string) error {
			text := texts[0]
			if len(texts) > 1 {
				texts = texts[1:]
			}
			return os.WriteFile(path, []byte(text), 0o600)
		}
	}
	for _, c := range []struct {
		name    string
		editor  func(string) error
		answers [][2]string
		how     Edited
		fails   string
		after   string
		kept    bool // whether the draft is
	}{
		{"a good change", writing(good), nil, Changed, "", good, false},
		{"no change", writing(before), nil, Unchanged, "", before, false},
		{"a mistake that is corrected", writing(bad, good), [][2]string{{"Go back", ""}}, Changed, "", good, false},
		{"a mistake that is left", writing(bad), [][2]string{{"Go back", "leave"}}, Left, "", before, true},
		{"an editor that fails", func(string) error { return errors.New("it failed") }, nil, Unchanged, "it failed", before, true},
	} {
		r, who, _ := newRun(t, c.answers...)
		r.save(t, "p", before)
		p, err := r.Existing("p")
		if err != nil {
			t.Fatal(err)
		}
		how, draft, err := r.Edit(t.Context(), p, c.editor, nothing)
		if how != c.how || (err != nil) != (c.fails != "") || err != nil && !strings.Contains(err.Error(), c.fails) || who.Wrong != "" {
			t.Errorf("%s: %v, %v, %s", c.name, how, err, who.Wrong)
		}
		if text := r.text(t, "p"); text != c.after {
			t.Errorf("%s: the file is %q", c.name, text)
		}
		if _, err := os.Stat(draft); (err == nil) != c.kept {
			t.Errorf("%s: the draft is kept: %v", c.name, err == nil)
		}
		_ = os.RemoveAll(filepath.Dir(draft))
	}
}

// TestAddAsks makes a profile with a person: a failed test, a change, and the save.
func TestAddAsks(t *testing.T) {
	s := start(t, standin.Faults{})
	usual, err := standin.Start(standin.Config{Engine: "postgres", Address: "127.0.8.1:5432"}) // so that there is a server to offer
	if err != nil {
		t.Fatal(err)
	}
	defer usual.Close()
	r, who, _ := newRun(t,
		[2]string{"or Enter for another", "many"}, [2]string{"or Enter for another", ""},
		[2]string{"engine", "PostgreSQL"}, [2]string{"host", "127.0.0.1"}, [2]string{"port", "1"}, [2]string{"database", "bunkhouse"}, [2]string{"user", "warden_app"}, [2]string{"lists the places", "?"}, [2]string{"lists the places", "env:PW"},
		[2]string{"It did not get through", "what"}, [2]string{"It did not get through", "change"}, [2]string{"Which setting [port]", ""}, [2]string{"port [1]", "0"}, [2]string{"port [1]", itoa(s.Port())})
	var shown []string
	n := New{Name: "huts/new", Began: func(string) {}, Shown: func(_ profile.Effective, r *checkup.Report) { shown = append(shown, string(r.Code())) }, Saved: func(Place) {}}
	if err := r.Add(t.Context(), n); err != nil || who.Wrong != "" || len(who.Lines) > 0 {
		t.Fatalf("%v, %s, %v", err, who.Wrong, who.Lines)
	}
	if !slices.Equal(shown, []string{"port.refused", ""}) || !strings.Contains(r.text(t, "huts/new"), "port: "+itoa(s.Port())) {
		t.Errorf("%v\n%s", shown, r.text(t, "huts/new"))
	}
	r, who, _ = newRun(t, [2]string{"It did not get through", "leave"})
	r.Set = set(t, "engine", "postgres", "host", "127.0.0.1", "port", "1", "user", "u", "database", "d", "secret", "empty")
	var e Error
	if err := r.Add(t.Context(), n); !errors.As(err, &e) || e.Code != 5 || who.Wrong != "" {
		t.Errorf("%v, %s", err, who.Wrong)
	}
	if _, err := r.Existing("huts/new"); err == nil {
		t.Error("it was saved all the same")
	}
}

// TestAddAlone makes profiles where nobody can be asked.
func TestAddAlone(t *testing.T) {
	s := start(t, standin.Faults{})
	good := "postgres://warden_app@127.0.0.1:" + itoa(s.Port()) + "/bunkhouse"
	for _, c := range []struct {
		name   string
		n      New
		set    []string
		fails  string
		exit   int
		stdin  string
		stored string
	}{
		{name: "flags", n: New{Name: "a"}, set: []string{"engine", "postgres", "user", "u"}, stored: "user: u"},
		{name: "something missing", n: New{Name: "a"}, set: []string{"engine", "postgres"}, fails: "missing: --user", exit: 2},
		{name: "a string", n: New{Name: "a", Source: good}, stored: "host: 127.0.0.1"},
		{name: "a string on standard input", n: New{Name: "a", Source: "-"}, stdin: good + "\n", stored: "host: 127.0.0.1"},
		{name: "no string", n: New{Name: "a", Source: "word"}, fails: "not a connection string", exit: 2},
		{name: "the string first", n: New{Name: good}, fails: "the name comes before", exit: 2},
		{name: "a test that passes", n: New{Name: "a", Source: good, Test: true}, set: []string{"secret", "env:PW"}, stored: "secret: env:PW"},
		{name: "a test that fails", n: New{Name: "a", Source: good, Test: true}, set: []string{"secret", "empty"}, fails: "its test failed", exit: 6},
		{name: "a name that is taken", n: New{Name: "taken", Source: good}, fails: "already", exit: 3},
	} {
		r, who, _ := newRun(t)
		who.Away = true
		r.save(t, "taken", "engine: postgres\nuser: u\n")
		r.Stdin, r.Set = strings.NewReader(c.stdin), set(t, c.set...)
		c.n.Shown, c.n.Saved = func(profile.Effective, *checkup.Report) {}, func(Place) {}
		err := r.Add(t.Context(), c.n)
		var e Error
		if errors.As(err, &e); (err != nil) != (c.fails != "") || e.Code != c.exit || err != nil && !strings.Contains(err.Error(), c.fails) {
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
	if err := os.WriteFile(file, []byte("Engine: postgres\nHost: db.fellside.example\nPort: 6021\nUser: warden_app\nPassword: "+canary+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	n := New{Name: "a", Source: "details.txt", Saved: func(Place) {}}
	if err := r.Import(t.Context(), n); err != nil {
		t.Fatal(err)
	}
	if text := r.text(t, "a"); !strings.Contains(text, "port: 6021") || strings.Contains(text, canary) {
		t.Error("it is not what the file says, or it has the password")
	}
	r.Keep, r.PassphraseRead = "wallet", secret.New("a sentence of some words")
	w := r.WalletAt(filepath.Join(r.Dir, "wallet"))
	if err := w.Create(t.Context(), r.PassphraseRead); err != nil {
		t.Fatal(err)
	}
	n.Name = "kept"
	if err := r.Import(t.Context(), n); err != nil {
		t.Fatal(err)
	}
	if contents, err := w.Open(r.PassphraseRead); err != nil || len(contents.Entries) != 1 || contents.Entries[0].Secret.Reveal() != canary || strings.Contains(r.text(t, "kept"), canary) {
		t.Errorf("the password is not in the wallet alone: %v", err)
	}
	r.Keep = ""
	for source, says := range map[string]string{"nope": "neither a connection string", r.Dir: "binding"} {
		n.Name, n.Source = "b", source
		if err := r.Import(t.Context(), n); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", source, err)
		}
	}
}

// TestImportAsksForReferences imports files that would have a secret read, a program run or a statement sent.
func TestImportAsksForReferences(t *testing.T) {
	for _, risky := range []string{`"secret": "file:~/.ssh/id_ed25519"`, `"secret": "env:AWS_SECRET"`, `"secret": {"command": ["sh", "-c", "x"]}`, `"secret": "command: [sh, -c, x]"`, `"on-open": ["drop table hut"]`, `"tls": {"mode": "verify", "ca": "/tmp/ca.pem"}`, `"socket": "/tmp/s"`} {
		text := `{"format": 1, "settings": {"engine": "postgres", "user": "u", ` + risky + `}}`
		for _, c := range []struct {
			name    string
			away    bool
			n       New
			answers [][2]string
			made    bool
		}{
			{name: "alone", away: true}, {name: "alone, and wanted", away: true, n: New{References: true}, made: true},
			{name: "asked, no", answers: [][2]string{{"Take these over?", ""}}}, {name: "asked, yes", answers: [][2]string{{"Take these over?", "yes"}}, made: true},
		} {
			r, who, _ := newRun(t, c.answers...)
			who.Away = c.away
			r.Stdin = strings.NewReader(text)
			c.n.Name, c.n.Source, c.n.Saved = "p", "-", func(Place) {}
			err := r.Import(t.Context(), c.n)
			if _, there := r.Existing("p"); (there == nil) != c.made || (err == nil) != c.made || who.Wrong != "" {
				t.Errorf("%s, %s: %v, %s", risky, c.name, err, who.Wrong)
			}
			if shown := strings.Join(who.Log, "\n") + fmt.Sprint(err); !c.n.References && !strings.Contains(shown, ": ") {
				t.Errorf("%s, %s: it is not shown: %s", risky, c.name, shown)
			}
		}
	}
}
