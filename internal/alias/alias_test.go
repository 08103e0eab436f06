package alias

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
)

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// shelf makes a book of files: "named", "mine" and "project", each where it has a text.
func shelf(t testing.TB, texts map[string]string) *Book {
	t.Helper()
	root := t.TempDir()
	b := &Book{}
	for _, layer := range []string{"named", "mine", "project"} {
		text, there := texts[layer]
		s := Source{Path: filepath.Join(root, layer, FileName)}
		switch layer {
		case "mine":
			s.Store = profile.Store{Dir: filepath.Dir(s.Path)}
		case "project":
			s.Path = filepath.Join(root, layer, ".gentle-harbor", FileName)
			s.Store = profile.Store{Dir: filepath.Dir(s.Path), Project: true}
		}
		if layer == "named" && !there {
			continue
		}
		must(t, os.MkdirAll(filepath.Dir(s.Path), 0o755))
		if there {
			must(t, os.WriteFile(s.Path, []byte(text), 0o644))
		}
		b.Sources = append(b.Sources, s)
	}
	return b
}

// TestFind finds names in files: which file counts, what an alias says, and what is said of one
// that cannot be used.
func TestFind(t *testing.T) {
	good := func(at string) string { return "a:\n  engine: postgres\n  addresses: [" + at + "]\n" }
	for _, c := range []struct {
		name  string
		files map[string]string
		said  string
		from  string // the project whose file says it, "" for the user's own
		want  string // the addresses, or CODE: and a part of the sentence
	}{
		{"mine", map[string]string{"mine": good("db:1")}, "a", "", "db:1"},
		{"the named file comes first", map[string]string{"named": good("x:1"), "mine": good("db:1")}, "a", "", "x:1"},
		{"mine: passes over a named file", map[string]string{"named": good("x:1"), "mine": good("db:1")},
			"mine:a", "", "db:1"},
		{"both", map[string]string{"mine": good("db:1"), "project": good("p:1")}, "a", "",
			"alias.broken: Both you and the project have an alias a"},
		{"both, and whose", map[string]string{"mine": good("db:1"), "project": good("p:1")}, "project:a", "", "p:1"},
		{"a project means its own", map[string]string{"mine": good("db:1"), "project": good("p:1")}, "a", "/p", "p:1"},
		{"a project cannot name mine", map[string]string{"mine": good("db:1")}, "mine:a", "/p",
			"alias.broken: A project cannot name"},
		{"a project does not see mine", map[string]string{"mine": good("db:1")}, "a", "/p",
			"alias.unknown: No file of aliases has the name a"},
		{"none at all", nil, "a", "", "alias.unknown: No file of aliases has the name a; there is none yet"},
		{"a near name", map[string]string{"mine": "bookings: {addresses: [db]}\n"}, "bokings", "", "did you mean bookings?"},
		{"the files that were read", map[string]string{"named": good("x"), "mine": "b: {srv: x}\n"}, "zzzzz",
			"", "looked in "},
		{"a mistake in another", map[string]string{"mine": "b: {adresses: [x]}\nc: [\n" + good("db:1") +
			"d: }{\n"}, "a", "", "db:1"},
		{"a mistake beside an unknown name", map[string]string{"mine": good("x") + "b: {adresses: [x]}\n"},
			"zzzzz", "", "alias.unknown: No file of aliases has the name zzzzz; looked in "},
		{"which mistake", map[string]string{"mine": "b: {adresses: [x]}\n"}, "zzzzz", "", "the alias b there has mistakes ("},
		{"a far unknown key", map[string]string{"mine": "b: {zzzzzz: 1, addresses: [x]}\n"}, "b", "",
			"To see them all: gharbor help alias add"},
		{"a mistake", map[string]string{"mine": good("x") + "b:\n  adresses: [db]\n"}, "b", "",
			":5: there is no setting \"adresses\"; did you mean addresses?"},
		{"YAML that cannot be read", map[string]string{"mine": good("x") + "b: {addresses: [db\n"}, "b", "", "aliases.yaml:"},
		{"a setting of profiles", map[string]string{"mine": "b: {addresses: [db], user: me}\n"}, "b", "",
			`"user" is for a profile, not for an alias`},
		{"a client certificate", map[string]string{"mine": "b: {addresses: [db], tls: {cert: x}}\n"}, "b", "",
			`tls cert is for a profile, not for an alias`},
		{"no address", map[string]string{"mine": "b: {engine: postgres}\n"}, "b", "", "does not say where the server is"},
		{"two ways", map[string]string{"mine": "b: {addresses: [x], srv: y}\n"}, "b", "", "in two ways"},
		{"nothing", map[string]string{"mine": "b:\n"}, "b", "", "says nothing"},
		{"a list", map[string]string{"mine": "b: [x]\n"}, "b", "", "says nothing"},
		{"twice", map[string]string{"mine": good("x") + good("y")}, "a", "", ":4: a is said twice, first on line 1"},
		{"a bad address", map[string]string{"mine": "b: {addresses: ['db:99999']}\n"}, "b", "", "is not a port"},
		{"an address with a user", map[string]string{"mine": "b: {addresses: ['me@db']}\n"}, "b", "",
			"has no user before it"},
		{"a relative socket", map[string]string{"mine": "b: {addresses: [{socket: run/x}]}\n"}, "b", "",
			"the path of a socket is absolute here"},
		{"a socket", map[string]string{"mine": "b: {addresses: [{socket: /run/x}, {host: db, port: 5}, /run/y]}\n"},
			"b", "", "/run/x; db:5; /run/y"},
		{"a wrong role", map[string]string{"mine": "b: {addresses: [x], wants: master}\n"}, "b", "", "wants"},
		{"an anchor", map[string]string{"mine": "b: &x {addresses: [x]}\n"}, "b", "", "anchors"},
		{"a tag", map[string]string{"mine": "b: {addresses: !!seq [x]}\n"}, "b", "", "tags"},
		{"a name in quotes", map[string]string{"mine": "\"b\": {addresses: [x]}\n'c': {addresses: [y]}\n"}, "c", "", "y"},
		{"a name that cannot be one", map[string]string{"mine": "b/c: {addresses: [x]}\n"}, "b", "", "alias.unknown"},
		{"the same as another", map[string]string{"mine": good("x") + "b: {same-as: a, database: d}\n"}, "b", "", "x"},
		{"the same as nothing", map[string]string{"mine": "b: {same-as: a}\n"}, "b", "", "alias.unknown"},
		{"a circle", map[string]string{"mine": "a: {same-as: b}\nb: {same-as: c}\nc: {same-as: a}\n"}, "b", "",
			"alias.cycle: "},
		{"mine, the same as the project's",
			map[string]string{"mine": "b: {same-as: 'project:a'}\n", "project": good("p:1")}, "b", "",
			"alias.broken: Your alias b is the same as one of the project"},
		{"a project's file that leads out",
			map[string]string{"project": "b: {addresses: [x], tls: {ca: ../../ca.pem}}\n"}, "b", "",
			"leads out of it"},
		{"a project's secret", map[string]string{"project": "# x\nb: {addresses: [x]}\n# password: hunter22\n"},
			"b", "", ":3: this looks like a secret"},
		{"a project's hop with a key",
			map[string]string{"project": "b: {addresses: [x], via: [{host: g, key: /k}]}\n"}, "b", "",
			"host, user and port alone"},
		{"a tab", map[string]string{"mine": "b:\n\taddresses: [x]\n"}, "b", "", ":2: the line is indented with a tab"},
		{"a long chain of empty lines", map[string]string{"mine": "\n\n# c\n\n" + good("db:1") + "\n\n"}, "a", "", "db:1"},
		{"line ends of Windows", map[string]string{"mine": strings.ReplaceAll(good("db:1"), "\n", "\r\n")}, "a", "", "db:1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := shelf(t, c.files)
			said := profile.Value{Text: c.said, Origin: profile.Origin{Project: c.from}}
			got, err := b.Find(said)
			text := got.Layer["addresses"].Text + got.Layer["srv"].Text
			var wrong *profile.AliasError
			if errors.As(err, &wrong) {
				text = string(wrong.Code) + ": " + wrong.Text
			}
			if err == nil && text != c.want || err != nil && !strings.Contains(text, c.want) {
				t.Errorf("%q instead of %q", text, c.want)
			}
			for setting, v := range got.Layer {
				if v.Origin.Layer != profile.LayerAlias || v.Origin.Name != c.said || v.Origin.File == "" {
					t.Errorf("%s comes from %+v", setting, v.Origin)
				}
			}
		})
	}
	open := shelf(t, map[string]string{"mine": good("x")})
	must(t, os.Chmod(open.Sources[0].Path, 0o666))
	var wrong *profile.AliasError
	if _, err := open.Find(profile.Value{Text: "a"}); !errors.As(err, &wrong) ||
		wrong.Code != finding.AliasBroken || !strings.Contains(wrong.Text, "chmod") {
		t.Errorf("a file that is open to others: %v", err)
	}
	missing := &Book{Sources: []Source{{Path: "/no/such/aliases.yaml"}}}
	if _, err := missing.Find(profile.Value{Text: "a"}); err == nil ||
		!strings.Contains(err.Error(), "there is no such file") {
		t.Errorf("a named file that is not there: %v", err)
	}
}

// TestEdits makes many random edits of a file with comments: every other alias says what it said,
// and comments stay.
func TestEdits(t *testing.T) {
	b := shelf(t, map[string]string{"mine": "# the servers of the huts\nfirst: # keep me\n  engine: postgres\n  " +
		"addresses:\n    - db1:1 # the old one\n    - db2:2\n\n# another\nsecond: {same-as: first} # flow\n"})
	s := b.Sources[0]
	random := rand.New(rand.NewPCG(1, 2))
	model := map[string]string{"first": "db1:1; db2:2", "second": ""}
	names := []string{"first", "second", "a", "b", "c.d", "e_f"}
	for range 400 {
		name, other := names[random.IntN(len(names))], names[random.IntN(len(names))]
		layer := profile.Layer{"addresses": profile.ListValue([]string{fmt.Sprintf("h%d:%d", random.IntN(9),
			1+random.IntN(9)), "/run/s"}[:1+random.IntN(2)], profile.Origin{})}
		_, has := model[name]
		_, hasOther := model[other]
		var err error
		want := false
		switch random.IntN(4) {
		case 0:
			err, want = s.Put(t.Context(), name, layer, false), !has
			if want {
				model[name] = layer["addresses"].Text
			}
		case 1:
			err, want = s.Change(t.Context(), name, layer, []string{"same-as"}), has
			if want {
				model[name] = layer["addresses"].Text
			}
		case 2:
			if err, want = s.Rename(t.Context(), name, other), has && !hasOther; want {
				model[other] = model[name]
				delete(model, name)
			}
		case 3:
			if len(model) < 3 {
				continue
			}
			if err, want = s.Remove(t.Context(), name), has; want {
				delete(model, name)
			}
		}
		if (err == nil) != want {
			t.Fatalf("%s %s: %v, and %v was expected", name, other, err, want)
		}
		b.Forget()
		entries, broken := b.List()
		if len(entries) != len(model) || len(broken) > 0 {
			text, _ := os.ReadFile(s.Path)
			t.Fatalf("%d aliases instead of %d: %v\n%s", len(entries), len(model), broken, text)
		}
		for _, e := range entries {
			if e.Err != nil || e.Layer["addresses"].Text != model[e.Name] {
				t.Fatalf("%s says %q instead of %q: %v", e.Name, e.Layer["addresses"].Text, model[e.Name], e.Err)
			}
		}
	}
	if text, _ := os.ReadFile(s.Path); !strings.HasPrefix(string(text), "# the servers of the huts\n") {
		t.Errorf("a comment is lost:\n%s", text)
	}
}

// TestManyAtOnce has 200 changes at the same time: none is lost.
func TestManyAtOnce(t *testing.T) {
	b := shelf(t, map[string]string{"mine": "first: {addresses: [x]}\n"})
	var all sync.WaitGroup
	for i := range 200 {
		all.Go(func() {
			if err := b.Sources[0].Put(context.Background(), fmt.Sprintf("a%d", i),
				profile.Layer{"addresses": profile.ListValue([]string{"db"}, profile.Origin{})}, false); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	b.Forget()
	if entries, broken := b.List(); len(entries) != 201 || len(broken) > 0 {
		t.Errorf("%d aliases, %v", len(entries), broken)
	}
}

// TestJSON writes aliases as JSON and reads them again, and refuses what is none.
func TestJSON(t *testing.T) {
	b := shelf(t, map[string]string{"mine": "a:\n  engine: postgres\n  addresses: [db1:1, {socket: /run/x}]\n  " +
		"tls: {mode: verify, server-name: db}\n  via: [ops@gate]\n  wants: primary\nb: {same-as: a, note: 'x: y'}\n"})
	entries, _ := b.List()
	text := jsonOf(t, JSON(entries))
	all, err := Read([]byte(text))
	must(t, err)
	for _, e := range entries {
		if !same(e.Layer, all[e.Name]) {
			t.Errorf("%s comes back as %v", e.Name, all[e.Name])
		}
	}
	for _, bad := range []string{"", "[]", "{}", `{"aliases_version":2,"aliases":{}}`,
		`{"aliases_version":1,"aliases":{"a":{}}}`,
		`{"aliases_version":1,"aliases":{"a":{"addresses":["x"],"user":"u"}}}`,
		`{"aliases_version":1,"aliases":{"a/b":{"srv":"x"}}}`, `{"aliases_version":1,"other":1,"aliases":{}}`,
		`{"aliases_version":1,"aliases":{"a":{"addresses":["me:pw@x"]}}}`} {
		if _, err := Read([]byte(bad)); err == nil {
			t.Errorf("%s is taken", bad)
		}
	}
}

// FuzzBook reads any text: nothing breaks, what is found says where it is, and a file that can be
// edited keeps the rest.
func FuzzBook(f *testing.F) {
	for _, seed := range []string{"a: {addresses: [x]}\n", "a:\n  srv: x\nb: {same-as: a}\n", "\"a\": x\n",
		"a: [\nb: {addresses: [y]}\n", "# c\n\n'a b': 1\n", "a: |\n text\nb: {}\n", "a: \"x\nb: y\"\n",
		"---\na: {srv: x}\n"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p := &page{source: Source{Path: "f"}}
		p.begin([]byte(text))
		for _, e := range p.all() {
			// The quick way finds what the whole file shows.
			if b, sure := p.quick(e.Name); sure {
				if i := slices.IndexFunc(p.list(), func(other block) bool { return other == b }); i < 0 {
					t.Errorf("%q: %s is found at %+v, and the file has %+v", text, e.Name, b, p.list())
				}
			}
			if e.Err == nil && (e.Line < 1 || len(e.Layer) == 0) {
				t.Errorf("%q: %+v", text, e)
			}
		}
		if whole([]byte(text)) != nil {
			return
		}
		changed, err := set([]byte(text), "zz-new", profile.Layer{"srv": {Text: "x.fellside.example"}})
		if err != nil {
			return
		}
		after := &page{source: p.source}
		after.begin(changed)
		if p.source.kept(p, after, []string{"zz-new"}) != nil {
			return // it would be refused
		}
		for _, e := range p.all() {
			if now := after.find(e.Name); e.Err == nil && e.Name != "zz-new" && (len(now) != 1 || !same(e.Layer, now[0].Layer)) {
				t.Errorf("%q: %s is otherwise after %q", text, e.Name, changed)
			}
		}
	})
}
