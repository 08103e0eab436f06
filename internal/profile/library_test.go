//go:build unix

package profile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// shelf is a library in a temporary folder: mine/ and project/.gentle-harbor/.
type shelf struct {
	*testing.T
	Library
	root string
}

func newShelf(t *testing.T) shelf {
	root := t.TempDir()
	must(t, os.Mkdir(filepath.Join(root, "project"), 0o755))
	project, err := MakeProject(filepath.Join(root, "project"))
	must(t, err)
	return shelf{t, Library{Mine: Store{Dir: filepath.Join(root, "mine")}, Project: project}, root}
}

// file writes a profile's or group's file; the name begins with "mine:" or "project:".
func (s shelf) file(name, text string) string {
	s.Helper()
	layer, bare := SplitLayer(name)
	store := s.Mine
	if layer == "project" {
		store = s.Project
	}
	path := filepath.Join(store.Dir, "profiles", filepath.FromSlash(bare)+".yaml")
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		s.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		s.Fatal(err)
	}
	return path
}

func (s shelf) resolved(name string, over ...Layer) Effective {
	s.Helper()
	stack, err := s.Load(name)
	if err != nil {
		s.Fatalf("%s: %v", name, err)
	}
	return stack.Resolve(over...)
}

func TestEachLayerWinsAndLoses(t *testing.T) {
	s := newShelf(t)
	// From the highest to the lowest; each layer is taken away in turn, and the next one's value
	// counts.
	flag := Layer{"note": {Text: "flag", Origin: Origin{Layer: "flag", Name: "--note"}}}
	variable := Layer{"note": {Text: "environment", Origin: Origin{Layer: "environment", Name: "GHARBOR_NOTE"}}}
	files := []struct{ name, text, says, from string }{
		{"mine:a/b/p", "base: base1\n", "profile", "p.yaml:2"},
		{"mine:base1", "base: base2\n", "base one", "base1.yaml:2"},
		{"mine:base2", "base: base3\n", "base two", "base2.yaml:2"},
		{"mine:base3", "engine: postgres\n", "base three", "base3.yaml:2"},
		{"mine:a/b/group", "user: inner\n", "inner group", "b/group.yaml:2"},
		{"mine:a/group", "user: outer\ndatabase: outer\n", "outer group", "a/group.yaml:3"},
		{"mine:group", "role: top\n", "top group", "profiles/group.yaml:2"},
	}
	write := func(from int) {
		for i, f := range files {
			text := f.text
			if i >= from {
				text += "note: " + f.says + "\n"
			}
			s.file(f.name, text)
		}
	}
	write(0)
	if e := s.resolved("a/b/p", flag, variable); e.Note != "flag" ||
		e.Values["note"].Origin.String() != "flag --note" || len(e.Under["note"]) != 8 {
		t.Errorf("flag: %s from %s over %d", e.Note, e.Values["note"].Origin, len(e.Under["note"]))
	}
	if e := s.resolved("a/b/p", Layer{}, variable); e.Note != "environment" ||
		e.Values["note"].Origin.String() != "environment GHARBOR_NOTE" {
		t.Errorf("environment: %s", e.Note)
	}
	for i, f := range files {
		write(i)
		time.Sleep(2 * time.Millisecond) // so that the files' times differ
		e := s.resolved("a/b/p")
		if e.Note != f.says || !strings.HasSuffix(e.Values["note"].Origin.String(), f.from) {
			t.Errorf("%s: %q from %s", f.name, e.Note, e.Values["note"].Origin)
		}
		for j, under := range e.Under["note"] {
			if under.Text != files[i+1+j].says {
				t.Errorf("%s: under it stands %q", f.name, under.Text)
			}
		}
	}
	write(len(files))
	e := s.resolved("a/b/p")
	if e.Note != "" || e.User != "inner" || e.Database != "outer" || e.Role != "top" ||
		e.Engine != "postgres" || e.Values["port"].Origin.Layer != "default" {
		t.Errorf("%+v", e.Values)
	}
}

func TestBasesBringNoGroups(t *testing.T) {
	s := newShelf(t)
	s.file("mine:far/group", "role: far\n")
	s.file("mine:far/base", "engine: mysql\nuser: u\nhost: h\nport: 7\n")
	s.file("mine:near/group", "port: 9\n")
	s.file("mine:near/p", "base: far/base\n")
	e := s.resolved("near/p")
	if e.Role != "" || e.Port != 7 || e.Host != "h" {
		t.Errorf("role %q, port %d", e.Role, e.Port)
	}
	s.file("mine:near/p", "base: far/base\nhost: other\n")
	if e := s.resolved("near/p"); e.Host != "other" || e.Port != 9 {
		t.Errorf("the group says a port for its profiles, and another host has %d", e.Port)
	}
	s.file("mine:near/p", "base: far/base\nsocket: /s\n")
	if e := s.resolved("near/p"); e.Host != "" || e.Socket != "/s" || len(e.Problems) > 0 {
		t.Errorf("%+v", e)
	}
	s.file("mine:near/p", "base: far/base\nport: 8\n")
	if e := s.resolved("near/p"); e.Host != "h" || e.Port != 8 {
		t.Errorf("%+v", e)
	}
}

func TestMapsMergeAndListsReplace(t *testing.T) {
	s := newShelf(t)
	s.file("mine:base", "engine: postgres\nuser: u\nhost: h\ntls: {mode: verify, ca: /ca}\nlabels: {a: 1, b: "+
		"2}\noptions: {search_path: x, lock_timeout: 1s}\non-open: [set a = 1, set b = 2]\n")
	s.file("mine:p", "base: base\ntls: {mode: encrypt}\nlabels: {b: 3, c: \"\"}\noptions: {search_path: "+
		"\"\"}\non-open: [set c = 3]\n")
	e := s.resolved("p")
	if e.TLS.Mode != "encrypt" || e.TLS.CA != "/ca" || fmt.Sprint(e.Labels) != "map[a:1 b:3]" ||
		fmt.Sprint(e.Options) != "map[lock_timeout:1s]" || fmt.Sprint(e.OnOpen) != "[set c = 3]" {
		t.Errorf("%+v", e)
	}
	s.file("mine:p", "base: base\non-open: \"\"\n")
	if e := s.resolved("p"); len(e.OnOpen) != 0 {
		t.Errorf("%v", e.OnOpen)
	}
}

func TestCircles(t *testing.T) {
	s := newShelf(t)
	s.file("mine:a", "base: b\n")
	s.file("mine:b", "base: c\n")
	s.file("mine:c", "base: a\n")
	_, err := s.Load("a")
	if err == nil || !strings.Contains(err.Error(), "a → b → c → a") {
		t.Errorf("%v", err)
	}
	if err := s.CheckBase(s.Mine, "new", "missing"); err == nil || !strings.Contains(err.Error(), "no such profile") {
		t.Errorf("%v", err)
	}
	for i := range maxBases + 2 {
		s.file(fmt.Sprintf("mine:n%d", i), fmt.Sprintf("base: n%d\n", i+1))
	}
	if _, err := s.Load("n0"); err == nil || !strings.Contains(err.Error(), "longer than") {
		t.Errorf("%v", err)
	}
}

func TestMineAndProject(t *testing.T) {
	s := newShelf(t)
	s.file("project:only", "engine: mysql\nuser: theirs\n")
	s.file("project:both", "engine: mysql\nuser: theirs\nport: 5\n")
	s.file("mine:both", "engine: mysql\nuser: mine\n")
	s.file("project:variant", "engine: mysql\nuser: theirs\nport: 5\n")
	s.file("mine:variant", "base: project:variant\nuser: mine\n")
	s.file("project:group", "role: theirs\n")
	var both *AmbiguousError
	if _, err := s.Load("both"); !errors.As(err, &both) || !strings.Contains(err.Error(), "mine:both or project:both") {
		t.Errorf("%v", err)
	}
	for name, want := range map[string]struct {
		user     string
		port     int
		role     string
		stranger bool
	}{
		"only": {"theirs", 3306, "theirs", true}, "mine:both": {"mine", 3306, "", false},
		"project:both": {"theirs", 5, "theirs", true},
		"variant":      {"mine", 5, "", true}, "project:variant": {"theirs", 5, "theirs", true},
	} {
		stack, err := s.Load(name)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if e := stack.Resolve(); e.User != want.user || e.Port != want.port || e.Role != want.role ||
			stack.Stranger != want.stranger {
			t.Errorf("%s: user %s, port %d, role %s, stranger %v", name, e.User, e.Port, e.Role, stack.Stranger)
		}
	}
	entries, err := s.List()
	if err != nil || fmt.Sprint(entries) != "[{mine:both false} {variant false} {project:both true} {only true}]" {
		t.Errorf("%v, %v", entries, err)
	}
}

// TestHostileProject has a project that tries what a stranger may; none of it may be loaded at all.
func TestHostileProject(t *testing.T) {
	s := newShelf(t)
	s.file("mine:own", "engine: postgres\nuser: me\nsecret: env:MY_SECRET\n")
	outside := filepath.Join(s.root, "outside.yaml")
	must(t, os.WriteFile(outside, []byte("engine: mysql\nuser: x\n"), 0o600))
	link := filepath.Join(s.Project.Dir, "profiles", "link.yaml")
	must(t, os.Symlink(outside, link))
	must(t, os.Symlink(s.root, filepath.Join(s.Project.Dir, "way-out")))
	for name, text := range map[string]string{
		"a base of a user's own":        "base: mine:own\nhost: strange.fellside.example\n",
		"a base that looks like a path": "base: ../own\n",
		"a ca outside":                  "engine: postgres\nuser: a\nhost: h\ntls:\n  ca: ../../../outside.yaml\n",
		"a ca by a link":                "engine: postgres\nuser: a\nhost: h\ntls:\n  ca: ../way-out/outside.yaml\n",
		"a client key of the user's": "engine: postgres\nuser: a\nhost: h\ntls:\n  cert: ~/.ssh/id_ed25519\n " +
			" key: ~/.ssh/id_ed25519\n",
		"a password file of the user's": "engine: postgres\nuser: a\nsecret: file:~/.ssh/id_ed25519\n",
		"a password file in the folder": "engine: postgres\nuser: a\nsecret: file:pw\n",
		"a program outside":             "engine: postgres\nuser: a\nsecret:\n  command: [/bin/cat, /etc/passwd]\n",
		"a password":                    "engine: postgres\nuser: a\nnote: \"password: canary-5b2f\"\n",
		"a password in a comment":       "engine: postgres\nuser: a # pwd=canary-5b2f\n",
		"a password in a string":        "engine: postgres\nuser: a\nnote: postgres://a:canary-5b2f@h/d\n",
		"a password in a statement":     "engine: postgres\nuser: a\non-open: [\"alter role a password 'canary-5b2f'\"]\n",
		"a hop's key": "engine: postgres\nuser: a\nvia: [{host: strange.fellside.example, " +
			"key: ~/.ssh/id_ed25519}]\n",
		"a hop's secret": "engine: postgres\nuser: a\nvia: [{host: strange.fellside.example, " +
			"secret: 'env:HOME'}]\n",
		"a hop's known hosts": "engine: postgres\nuser: a\nvia: [{host: strange.fellside.example, " +
			"known-hosts: ../known}]\n",
	} {
		s.file("project:hostile", text)
		_, err := s.Load("hostile")
		var at *FileError
		if err == nil || !errors.As(err, &at) || strings.Contains(err.Error(), "canary") {
			t.Errorf("%s: %v", name, err)
		}
	}
	s.file("project:hostile", "engine: postgres\nuser: a\noptions: {sslkey: /x}\n")
	if stack, err := s.Load("hostile"); err != nil {
		t.Errorf("an option that names a file: %v", err)
	} else if p := stack.Resolve().Problems; len(p) != 1 || p[0].Setting != "options.sslkey" ||
		!strings.Contains(p[0].Text, "tls key") {
		t.Errorf("an option that names a file: %+v", p)
	}
	if _, err := s.Load("link"); err == nil || !strings.Contains(err.Error(), "leads out") {
		t.Errorf("a profile that is a link: %v", err)
	}
	for _, name := range []string{"../own", "project:../own", "a/../../own"} {
		if _, err := s.Load(name); err == nil {
			t.Errorf("the name %s is taken", name)
		}
	}
}

func TestFindProject(t *testing.T) {
	root, err := filepath.EvalSymlinks(t.TempDir())
	must(t, err)
	deep := filepath.Join(root, "home", "work", "deep", "er")
	must(t, os.MkdirAll(deep, 0o755))
	home := filepath.Join(root, "home")
	if s, err := FindProject(deep, home); err != nil || s.Dir != "" {
		t.Errorf("%v, %v", s, err)
	}
	above, err := MakeProject(root)
	must(t, err)
	if s, err := FindProject(deep, home); err != nil || s.Dir != "" {
		t.Errorf("above the home folder: %v, %v", s, err)
	}
	if s, err := FindProject(deep, "/nowhere"); err != nil || s.Dir != above.Dir {
		t.Errorf("outside the home folder: %v, %v", s, err)
	}
	near, err := MakeProject(filepath.Join(home, "work"))
	must(t, err)
	if s, err := FindProject(deep, home); err != nil || s.Dir != near.Dir || !s.Project {
		t.Errorf("%v, %v", s, err)
	}
	for name, spoil := range map[string]func() error{
		"open to others":              func() error { return os.Chmod(near.Dir, 0o777) },
		"its profiles open to others": func() error { return os.Chmod(filepath.Join(near.Dir, "profiles"), 0o757) },
		"of another user": func() error {
			if os.Geteuid() != 0 {
				return os.Chmod(near.Dir, 0o777)
			}
			return os.Chown(near.Dir, 12345, 12345)
		},
	} {
		must(t, spoil())
		if s, err := FindProject(deep, home); err == nil || s.Dir != "" || !strings.Contains(err.Error(), "passed over") {
			t.Errorf("%s: %v, %v", name, s, err)
		}
		_ = os.Chmod(near.Dir, 0o755)
		_ = os.Chmod(filepath.Join(near.Dir, "profiles"), 0o755)
		_ = os.Chown(near.Dir, os.Geteuid(), os.Getegid())
	}
	must(t, os.Rename(near.Dir, filepath.Join(home, "elsewhere")))
	must(t, os.Symlink(filepath.Join(home, "elsewhere"), near.Dir))
	if s, err := FindProject(deep, home); err == nil || s.Dir != "" {
		t.Errorf("a link: %v, %v", s, err)
	}
}

// TestThreeBasesAndTwoGroups reads a profile with a chain of bases and groups inside each other
// from files, and holds the file and the line of each value.
func TestThreeBasesAndTwoGroups(t *testing.T) {
	s := newShelf(t)
	s.file("mine:a/b/p", "base: one\nengine: postgres\nnote: p\n")
	s.file("mine:one", "base: two\nuser: one\nnote: one\n")
	s.file("mine:two", "base: three\nuser: two\nrole: two\n")
	s.file("mine:three", "user: three\nrole: three\ndatabase: three\nlabels: {x: three, y: three}\n")
	s.file("mine:a/b/group", "database: inner\ntimeout: 9s\nlabels: {y: inner, z: inner}\n")
	s.file("mine:a/group", "timeout: 8s\nlogin-methods: [md5]\nlabels: {z: outer, w: outer}\n")
	e := s.resolved("a/b/p", Layer{"note": {Text: "flag", Origin: Origin{Layer: LayerFlag, Name: "--note"}}})
	for setting, want := range map[string]string{
		"note": "flag flag --note", "engine": "postgres profile a/b/p.yaml:2", "user": "one base one.yaml:2",
		"role": "two base two.yaml:3", "database": "three base three.yaml:3",
		"timeout.leg": "9s group a/b/group.yaml:2", "login-methods": "md5 group a/group.yaml:2",
		"labels.x": "three base three.yaml:4", "labels.y": "three base three.yaml:4",
		"labels.z": "inner group a/b/group.yaml:3", "labels.w": "outer group a/group.yaml:3",
		"host": "localhost default default",
	} {
		v := e.Values[setting]
		origin := v.Origin.String()
		if at := strings.Index(origin, "profiles/"); at >= 0 {
			origin = string(v.Origin.Layer) + " " + origin[at+len("profiles/"):]
		} else if v.Origin.Layer != LayerFlag {
			origin = string(v.Origin.Layer) + " " + origin
		}
		if got := v.Text + " " + origin; got != want {
			t.Errorf("%s: %s instead of %s", setting, got, want)
		}
	}
	under := func(setting string) string {
		var list []string
		for _, v := range e.Under[setting] {
			list = append(list, v.Text)
		}
		return strings.Join(list, " ")
	}
	for setting, want := range map[string]string{"note": "p one", "user": "two three", "role": "three",
		"database": "inner", "timeout.leg": "8s", "labels.z": "outer"} {
		if got := under(setting); got != want {
			t.Errorf("under %s: %s", setting, got)
		}
	}
}
