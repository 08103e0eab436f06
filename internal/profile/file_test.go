package profile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

func TestParseReadsEverySetting(t *testing.T) {
	layer, err := Parse([]byte(`# a comment
engine: postgres   # another
host: db.fellside.example
port: 6021
database: 2024
user: "warden_app"
role: steward
secret: env:HUT_PW
tls:
  mode: verify
  ca: certs/ca.pem
  server-name: other.fellside.example
timeout:
  leg: 2s
  total: 1m
options:
  search_path: public, huts
labels: {season: winter, "high season": yes}
note: |
  A copy of the live data,
  refreshed each Monday.
`), "p.yaml", "profile")
	must(t, err)
	for name, want := range map[string]struct {
		text string
		line int
	}{
		"engine": {"postgres", 2}, "host": {"db.fellside.example", 3}, "port": {"6021", 4}, "database": {"2024", 5},
		"user": {"warden_app", 6}, "role": {"steward", 7}, "secret": {"env:HUT_PW", 8}, "tls.mode": {"verify", 10},
		"tls.ca": {"certs/ca.pem", 11}, "tls.server-name": {"other.fellside.example", 12},
		"timeout.leg": {"2s", 14}, "timeout.total": {"1m", 15}, "options.search_path": {"public, huts", 17},
		"labels.season": {"winter", 18}, "labels.high season": {"yes", 18},
		"note": {"A copy of the live data,\nrefreshed each Monday.\n", 19},
	} {
		v, ok := layer[name]
		if !ok || v.Text != want.text || v.Origin.Line != want.line || v.Origin.File != "p.yaml" {
			t.Errorf("%s is %q at line %d", name, v.Text, v.Origin.Line)
		}
	}
	if len(layer) != 16 {
		t.Errorf("%d settings were read", len(layer))
	}
}

func TestParseForms(t *testing.T) {
	for name, text := range map[string]string{
		"empty": "", "only a comment": "# x\n", "CRLF": "engine: postgres\r\nuser: a\r\n",
		"no last newline": "engine: postgres",
		"document marks":  "---\nengine: postgres\n", "short timeout": "timeout: 3s\n", "empty text unsets": "note: \"\"\n",
	} {
		if _, err := Parse([]byte(text), "p.yaml", "profile"); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// bomb is a chain of aliases that would unfold to 10^9 texts.
func bomb() string {
	var b strings.Builder
	b.WriteString("a0: &a0 [x,x,x,x,x,x,x,x,x,x]\n")
	for i := 1; i < 9; i++ {
		fmt.Fprintf(&b, "a%d: &a%d [%s]\n", i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d,", i-1), 10), ","))
	}
	return b.String()
}

func TestParseRefuses(t *testing.T) {
	for _, c := range []struct {
		name, text string
		line       int
		says       string
	}{
		{"unknown key", "engine: postgres\nprot: 1\n", 2, "did you mean port?"},
		{"far unknown key", "zzzzzz: 1\n", 1, "To see them all: gharbor help settings"},
		{"unknown inner key", "tls:\n  mod: off\n", 2, "did you mean mode?"},
		{"password", "user: a\npassword: canary-5b2f\n", 2, "never has a password"},
		{"secret that is none", "secret: canary-5b2f\n", 1, "not a reference"},
		{"list for a text", "user: [a]\n", 1, "one value"},
		{"map for a text", "user:\n  a: b\n", 2, "one value"},
		{"text for a map", "tls: off\n", 1, "is a map"},
		{"no value", "user:\n", 1, "has no value"},
		{"port 70000", "engine: mysql\nport: 70000\n", 2, "1 to 65535"},
		{"port 0", "port: 0\n", 1, "1 to 65535"},
		{"port 05432", "port: 05432\n", 1, "1 to 65535"},
		{"port text", "port: five\n", 1, "1 to 65535"},
		{"engine", "engine: postgress\n", 1, "not an engine"},
		{"tls mode", "tls:\n  mode: maybe\n", 2, "off, encrypt, verify"},
		{"host with scheme", "host: https://db.fellside.example/x\n", 1, `write just "db.fellside.example"`},
		{"host with port", "host: db.fellside.example:5432\n", 1, "port: 5432"},
		{"host with a path", "host: db/x\n", 1, "no path behind it"},
		{"socket as host", "host: /run/postgresql\n", 1, "named with socket"},
		{"timeout", "timeout: 5\n", 1, "such as 5s"},
		{"tab", "tls:\n\tmode: off\n", 2, "tab"},
		{"byte order mark", "\xef\xbb\xbfengine: postgres\n", 1, "byte order mark"},
		{"not UTF-8", "engine: postgres\nuser: \xff\n", 2, "not UTF-8"},
		{"escape sequence", "user: \x1b[31m\n", 1, "U+001B"},
		{"direction mark", "user: a\u202eb\n", 1, "U+202E"},
		{"said twice", "user: a\nport: 1\nuser: b\n", 3, "first on line 1"},
		{"second document", "user: a\n---\nuser: b\n", 2, "second document"},
		{"anchor", "user: &x a\n", 1, "anchors"},
		{"alias", "user: *x\n", 1, ""},
		{"alias bomb", bomb(), 1, "anchors"},
		{"merge key", "tls:\n  <<: {mode: off}\n", 2, "merge keys"},
		{"tag", "user: !!binary aGk=\n", 1, "tags"},
		{"list of settings", "- engine: postgres\n", 1, "something else"},
		{"host and socket", "host: a\nsocket: /x\n", 2, "contradict each other"},
		{"not YAML", "engine: postgres\n  user: : x\n", 2, "not YAML"},
		{"junk", strings.Repeat("junk ", 2<<20), 1, "256 KB"},
		{"deep", strings.Repeat("[", 20_000), 1, ""},
	} {
		began := time.Now()
		_, err := Parse([]byte(c.text), "p.yaml", "profile")
		if took := time.Since(began); took > 5*time.Second {
			t.Errorf("%s took %s", c.name, took)
		}
		var at *FileError
		if !errors.As(err, &at) {
			t.Errorf("%s: %v is no error of a file", c.name, err)
			continue
		}
		if at.File != "p.yaml" || at.Line != c.line || !strings.Contains(at.Problem, c.says) {
			t.Errorf("%s: %v", c.name, err)
		}
		if strings.Contains(err.Error(), "canary") {
			t.Errorf("%s: the error repeats a password", c.name)
		}
	}
}

func TestParseTellsAllAtOnce(t *testing.T) {
	_, err := Parse([]byte("prot: 1\nport: 0\nengine: x\n"), "p.yaml", "profile")
	if err == nil || strings.Count(err.Error(), "p.yaml:") != 3 {
		t.Errorf("%v", err)
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"engine: postgres\nport: 1\n", "tls: {mode: off}", "a: &a [*a]",
		"\xef\xbb\xbf", "note: |\n  x\n", "- 1", "a: b: c", "labels: {a: b}"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		began := time.Now()
		layer, err := Parse(data, "p.yaml", "profile")
		if took := time.Since(began); took > 5*time.Second {
			t.Fatalf("%d bytes took %s", len(data), took)
		}
		if err != nil {
			var at *FileError
			if !errors.As(err, &at) || at.Line < 1 {
				t.Fatalf("%v has no place", err)
			}
			return
		}
		text, err := Render(layer)
		must(t, err)
		again, err := Parse(text, "p.yaml", "profile")
		if err != nil {
			t.Fatalf("%q is written as %q: %v", data, text, err)
		}
		for name, v := range layer {
			if again[name].Text != v.Text {
				t.Errorf("%s: %q comes back as %q", name, v.Text, again[name].Text)
			}
		}
	})
}

func TestStore(t *testing.T) {
	s := Store{Dir: t.TempDir()}
	ctx := t.Context()
	layer := Layer{"engine": {Text: "postgres"}, "port": {Text: "6021"}, "user": {Text: "yes"},
		"note": {Text: "a: b # c\nd"}, "database": {Text: "2024"}}
	must(t, s.Save(ctx, "huts/local", layer, false))
	if err := s.Save(ctx, "huts/local", layer, false); !errors.Is(err, ErrExists) {
		t.Errorf("a second one of that name: %v", err)
	}
	if err := s.Save(ctx, "huts/local", layer, true); err != nil {
		t.Error(err)
	}
	got, err := s.Load("huts/local")
	must(t, err)
	for name, v := range layer {
		if got[name].Text != v.Text {
			t.Errorf("%s: %q comes back as %q", name, v.Text, got[name].Text)
		}
	}
	if info, err := os.Stat(s.Path("huts/local")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("mode %v, %v", info.Mode(), err)
	}
	if _, err := s.Load("huts/none"); !errors.Is(err, ErrUnknown) {
		t.Errorf("unknown: %v", err)
	}
	if err := s.Remove(ctx, "huts/local"); err != nil {
		t.Error(err)
	}
	if err := s.Remove(ctx, "huts/local"); !errors.Is(err, ErrUnknown) {
		t.Errorf("removed twice: %v", err)
	}
	if _, err := os.Stat(filepath.Join(s.Dir, "profiles", "huts")); err == nil {
		t.Error("the empty group is left")
	}
	for _, name := range []string{"../x", "a/../b", "/x", "a//b", ".x", "a/.x", "-x", "group", "a/group",
		"x.yaml", "a b", "ü", "", "a\\b", "a:b", "x."} {
		if err := s.Save(ctx, name, layer, false); err == nil {
			t.Errorf("the name %q is taken", name)
		}
	}
}

func TestStoreKeepsAllOfManyAtOnce(t *testing.T) {
	s := Store{Dir: t.TempDir()}
	var group sync.WaitGroup
	won := make(chan bool, 40)
	for i := range 40 {
		group.Go(func() {
			layer := Layer{"user": {Text: fmt.Sprint(i)}}
			if err := s.Save(t.Context(), fmt.Sprintf("g/p%d", i), layer, false); err != nil {
				t.Error(err)
			}
			if s.Save(t.Context(), "g/same", layer, false) == nil {
				won <- true
			}
		})
	}
	group.Wait()
	names, err := s.Names()
	if err != nil || len(names) != 41 || len(won) != 1 {
		t.Errorf("%d profiles, %d first ones, %v", len(names), len(won), err)
	}
}
