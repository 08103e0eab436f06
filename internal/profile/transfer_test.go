package profile

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/shell"
)

// arbitrary makes profiles that use every corner of what a form can carry.
type arbitrary struct{ *rand.Rand }

func (r arbitrary) pick(words ...string) string { return words[r.IntN(len(words))] }

func (r arbitrary) text() string {
	const letters = "abcXYZ019 _-.:/?#[]@!$&'()*+,;=%\"\\^`{|}~<>äß日€"
	all := []rune(letters)
	text := make([]rune, 1+r.IntN(12))
	for i := range text {
		text[i] = all[r.IntN(len(all))]
	}
	if s := strings.TrimSpace(string(text)); s != "" {
		return s
	}
	return "x"
}

func (r arbitrary) path() string {
	return "/" + strings.NewReplacer("/", "", "\\", "", "~", "", ".", "").Replace(r.text()) + "x/y" + strings.NewReplacer("/", "", ".", "").Replace(r.text())
}

func (r arbitrary) layer() Layer {
	l := Layer{}
	put := func(name, text string) {
		if s, _ := Find(name); s.Check(text) == nil {
			l[name] = Value{Text: text, Origin: Origin{Layer: "profile"}}
		}
	}
	put("engine", r.pick("postgres", "mysql", "mariadb"))
	put("user", r.text())
	if r.IntN(4) == 0 {
		put("socket", r.path())
		if l["engine"].Text == "postgres" && r.IntN(2) == 0 {
			put("socket", r.path()+"/.s.PGSQL."+fmt.Sprint(1+r.IntN(65535)))
		}
	} else {
		put("host", r.pick("localhost", "db.fellside.example", "127.0.0.1", "::1", "2001:db8::7", "fe80::1%eth0"))
		put("port", fmt.Sprint(1+r.IntN(65535)))
		if put("tls.mode", r.pick("off", "encrypt", "verify")); l["tls.mode"].Text != "off" && r.IntN(2) == 0 {
			put("tls.ca", r.path())
			put("tls.cert", r.path())
			put("tls.key", r.path())
		}
	}
	if l["engine"].Text == "postgres" || r.IntN(2) == 0 {
		put("database", r.text())
	}
	return l
}

// rest adds what only our own forms can carry.
func (r arbitrary) rest(l Layer, lists bool) {
	for name, text := range map[string]string{"role": r.text(), "note": r.text(), "timeout.leg": "3s", "timeout.total": "1m5s", "secret": r.pick("none", "ask", "env:HUT_PW", "empty")} {
		if s, _ := Find(name); r.IntN(2) == 0 && s.Check(text) == nil {
			l[name] = Value{Text: text, Origin: Origin{Layer: "profile"}}
		}
	}
	if lists && r.IntN(2) == 0 {
		l["on-open"] = ListValue([]string{"set a = '" + r.text() + "'", "x"}, Origin{Layer: "profile"})
		l["labels."+r.text()] = Value{Text: r.text()}
		l["options.search_path"] = Value{Text: r.text()}
	}
}

// same compares what two layers come to.
func same(t *testing.T, form, text string, want, got Layer) {
	t.Helper()
	a, b := Resolve(files.World{}, "", want), Resolve(files.World{}, "", got)
	for name := range a.Values {
		if v := a.Values[name]; v.Text != b.Values[name].Text || !slices.Equal(v.List, b.Values[name].List) {
			t.Fatalf("%s: %s %q comes back as %q\n%s", form, name, v.Text, b.Values[name].Text, text)
		}
	}
	if len(a.Values) != len(b.Values) {
		t.Fatalf("%s: %v comes back as %v\n%s", form, a.Values.Names(), b.Values.Names(), text)
	}
}

func TestRoundTrip(t *testing.T) {
	r := arbitrary{rand.New(rand.NewPCG(1, 2))}
	for i := range 1000 {
		password := secret.New(r.text())
		if i%7 == 0 {
			password = secret.New("")
		}
		back := func(form string, p Parsed, err error, text string, want Layer) {
			t.Helper()
			if err != nil {
				t.Fatalf("%s: %v\n%s", form, err, text)
			}
			same(t, form, text, want, p.Layer)
			if !p.Secret.Given() || p.Secret.Reveal() != password.Reveal() {
				t.Fatalf("%s: the password %q comes back as %q\n%s", form, password.Reveal(), p.Secret.Reveal(), text)
			}
		}
		l := r.layer()
		e := Resolve(files.World{}, "p", l)
		uri, _ := e.URI(password)
		p, err := ParseConnectionString(uri)
		back("uri", p, err, uri, l)

		pairs, _ := e.DatabaseVariables(password)
		text, _ := Dotenv(pairs)
		p, err = TakeIn(text, "")
		back("dotenv", p, err, text, l)

		folder := t.TempDir()
		entries, _ := e.Binding(password)
		for _, entry := range entries {
			if err := os.WriteFile(filepath.Join(folder, entry.Name), []byte(entry.Value), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		p, err = TakeBinding(folder)
		back("binding", p, err, fmt.Sprint(entries), l)

		r.rest(l, false)
		e = Resolve(files.World{}, "p", l)
		pairs, _ = e.Variables(password)
		var lines strings.Builder
		for _, pair := range pairs {
			fmt.Fprintf(&lines, "export %s=%s\n", pair.Name, shell.Word(pair.Value))
		}
		p, err = TakeIn(lines.String(), "")
		kept := maps.Clone(l)
		delete(kept, "secret")
		back("env", p, err, lines.String(), kept)

		r.rest(l, true)
		e = Resolve(files.World{}, "p", l)
		data, err := e.JSON(password)
		if err != nil {
			t.Fatal(err)
		}
		delete(l, "secret")
		p, err = TakeIn(string(data), "")
		back("json", p, err, string(data), l)
	}
}

func TestTakeIn(t *testing.T) {
	for _, c := range []struct {
		name, text, variable string
		want                 map[string]string
		password             string // "-" for none
		left                 string
	}{
		{"lines", "Host: db.fellside.example\nPort: 6021\nDatabase: bunkhouse\nUsername: warden_app\nPassword: s3cret: with, colon\nEngine: PostgreSQL\n", "", map[string]string{"host": "db.fellside.example", "port": "6021", "database": "bunkhouse", "user": "warden_app", "engine": "postgres"}, "s3cret: with, colon", ""},
		{"one line", "Server: db.fellside.example, Port: 6021, User: warden_app, Type: mysql", "", map[string]string{"host": "db.fellside.example", "port": "6021", "user": "warden_app", "engine": "mysql"}, "-", ""},
		{"a list with marks", "* Hostname: db:6021\n- DB name: `bunkhouse`\n• Driver = mariadb\nRegion: north\n", "", map[string]string{"host": "db", "port": "6021", "database": "bunkhouse", "engine": "mariadb"}, "-", "Region"},
		{"a socket", "Host: /run/postgresql\nType: pgsql\n", "", map[string]string{"socket": "/run/postgresql"}, "-", ""},
		{"IPv6", "Host: [2001:db8::7]:6021", "", map[string]string{"host": "2001:db8::7", "port": "6021"}, "-", ""},
		{"a hidden password", "Host: a\nPassword: (hidden)\n", "", map[string]string{"host": "a"}, "-", ""},
		{"a string on a line", "Connection string: postgres://u:p@h:1/d\n", "", map[string]string{"host": "h", "port": "1", "user": "u", "database": "d"}, "p", ""},
		{"a string alone", "postgres://u@h/d?target=x", "", map[string]string{"host": "h"}, "-", "target"},
		{"jdbc", "jdbc:mysql://u@h:1/d", "", map[string]string{"engine": "mysql", "host": "h"}, "-", ""},
		{"a variable among others", "# x\nSECRET_KEY=abc\nDATABASE_URL=\"mysql://u:p%40@h:1/d\"\nLOG=debug\n", "", map[string]string{"engine": "mysql", "host": "h"}, "p@", ""},
		{"the variable that is named", "A_URL=postgres://u@a/d\nexport B_URL=postgres://u@b/d\n", "B_URL", map[string]string{"host": "b"}, "-", ""},
		{"variables of parts", "HUT_DB_HOST=db\nHUT_DB_PORT=6021\nHUT_DB_USER=u\nHUT_DB_PASSWORD='p w'\nHUT_DB_NAME=d\nHUT_DB_CONNECTION=pgsql\n", "", map[string]string{"engine": "postgres", "host": "db", "port": "6021", "user": "u", "database": "d"}, "p w", ""},
		{"variables of an engine", "PGHOST=db\nPGUSER=u\nPGPASSWORD=p\nPGDATABASE=d\n", "", map[string]string{"engine": "postgres", "host": "db", "user": "u", "database": "d"}, "p", ""},
	} {
		p, err := TakeIn(c.text, c.variable)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		for name, want := range c.want {
			if got := p.Layer[name].Text; got != want {
				t.Errorf("%s: %s is %q", c.name, name, got)
			}
		}
		if p.Secret.Given() != (c.password != "-") || p.Secret.Given() && p.Secret.Reveal() != c.password {
			t.Errorf("%s: another password", c.name)
		}
		if c.left != strings.Join(p.Left, ",") {
			t.Errorf("%s: left %v", c.name, p.Left)
		}
	}
	for text, says := range map[string]string{
		"":                                  "nothing to read",
		"hello there":                       "line 1",
		"Colour: red\n":                     "nothing in this",
		"Host: a\nPort: canary\n":           "line 2: Port",
		"Host: postgres://u:canary@h\n":     "line 1: Host",
		"A_URL=mysql://a\nB_URL=mysql://b":  "several connection strings (A_URL, B_URL)",
		"A=postgres://u:can%ary@h":          "the variable A",
		"PASSWORD=canary\nX_HOST=a b c\n":   "X_HOST",
		"{\"settings\": {\"prot\": 1}}":     "did you mean port",
		"{}":                                `the key "settings"`,
		strings.Repeat("canary\n", 100_000): "more than 256 KB",
	} {
		_, err := TakeIn(text, "")
		if err == nil || !strings.Contains(err.Error(), says) || strings.Contains(err.Error(), "canary") {
			t.Errorf("%.40q: %v", text, err)
		}
	}
	if _, err := TakeIn("A=b", "C"); err == nil || !strings.Contains(err.Error(), "there are A") {
		t.Errorf("%v", err)
	}
}

func TestTakeBinding(t *testing.T) {
	folder := t.TempDir()
	if _, err := TakeBinding(folder); err == nil || !strings.Contains(err.Error(), "no file type") {
		t.Errorf("%v", err)
	}
	for name, text := range map[string]string{"type": "postgresql\n", "host": "db\n", "port": "6021", "username": "u", "password": "p \n", "database": "d", "certificates": "x", "..data": "y"} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	p, err := TakeBinding(folder)
	if err != nil || p.Layer["engine"].Text != "postgres" || p.Layer["host"].Text != "db" || p.Layer["port"].Text != "6021" || p.Secret.Reveal() != "p " || strings.Join(p.Left, ",") != "certificates" {
		t.Errorf("%v %v %v", p.Layer, p.Left, err)
	}
}

func FuzzTakeIn(f *testing.F) {
	for _, seed := range []string{"Host: a, Port: 1", "A_HOST=b\nA_PORT=1", "postgres://u:p@h", "{\"settings\":{\"host\":\"a\"}}", "GHARBOR_HOST=a", "x\ny: z"} {
		f.Add(seed, "")
	}
	f.Add("A=mysql://h", "A")
	f.Fuzz(func(t *testing.T, text, variable string) {
		p, err := TakeIn(text, variable)
		if err != nil {
			return
		}
		p.NoteLeft()
		for name, v := range p.Layer {
			s, known := Find(name)
			if !known || v.List == nil && v.Text != "" && s.Check(v.Text) != nil {
				t.Errorf("%q gives %s the value %q", text, name, v.Text)
			}
		}
	})
}

func FuzzTakeBinding(f *testing.F) {
	f.Add("postgresql", "db", "1", "u", "postgres://a:b@c/d")
	f.Add("mysql", "/s", "", "", "")
	f.Fuzz(func(t *testing.T, kind, host, port, user, uri string) {
		folder := t.TempDir()
		for name, text := range map[string]string{"type": kind, "host": host, "port": port, "username": user, "uri": uri} {
			if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		p, err := TakeBinding(folder)
		for name, v := range p.Layer {
			if s, known := Find(name); err == nil && (!known || s.Check(v.Text) != nil) {
				t.Errorf("%s is %q", name, v.Text)
			}
		}
	})
}

// TestALabelledPasswordTakesTheRestOfItsLine reads passwords with commas and with what looks like the next label.
func TestALabelledPasswordTakesTheRestOfItsLine(t *testing.T) {
	for text, want := range map[string]string{
		"Host: h\nPassword: ab,cd": "ab,cd", "Host: h, Password: ab,cd": "ab,cd", "Host: h; Port: 5; Password: ab, Port: 6": "ab, Port: 6", "Password: a User: b\nHost: h": "a User: b",
		"Database password: x, y\nServer: h": "x, y",
	} {
		p, err := TakeIn(text, "")
		if err != nil || p.Secret.Reveal() != want || p.Layer["host"].Text != "h" || strings.Contains(fmt.Sprint(p.Layer, p.Notes, p.Left), "cd") {
			t.Errorf("%q: %v", text, err)
		}
	}
}
