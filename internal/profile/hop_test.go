package profile

import (
	"path/filepath"
	"strings"
	"testing"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/target"
)

func TestParseHop(t *testing.T) {
	for text, want := range map[string]target.Hop{
		"gate":                            {Host: "gate"},
		"ops@gate.fellside.example":       {User: "ops", Host: "gate.fellside.example"},
		"ops@gate:2022":                   {User: "ops", Host: "gate", Port: 2022},
		"[::1]:22":                        {Host: "::1", Port: 22},
		"::1":                             {Host: "::1"},
		"o@p@gate":                        {User: "o@p", Host: "gate"},
		"{host: gate, key: ~/.ssh/k}":     {Host: "gate", Key: "~/.ssh/k"},
		`{"host": "gate", "port": 22}`:    {Host: "gate", Port: 22},
		`{host: gate, key: "a, b"}`:       {Host: "gate", Key: "a, b"},
		"{host: Gate, secret: wallet:t}":  {Host: "Gate", Secret: "wallet:t"},
		"{host: g, agent: none, user: u}": {Host: "g", Agent: "none", User: "u"},
	} {
		got, err := ParseHop(text)
		if err != nil || got != want {
			t.Errorf("%q: %+v, %v", text, got, err)
			continue
		}
		if again, err := ParseHop(HopText(got)); err != nil || again != got {
			t.Errorf("%q is written as %q: %+v, %v", text, HopText(got), again, err)
		}
	}
	for text, says := range map[string]string{
		"": "missing", "ops@": "missing", "@gate": "before the @", "gate:": "port", "gate:0": "port",
		"gate:70000": "port", "gate:x": "port", "-oProxyCommand=x": "name, an address", "a b": "name, an address",
		"ops:pw@gate": "without a password", "gate/x": "name, an address", "$(x)": "name, an address",
		"{host: gate, kye: x}": "did you mean key", "{user: u}": "missing", "{host: [a]}": "one word",
		"{host: gate, port: x}": "port", "{": "a hop is",
		"{host: gate, secret: nonsense}": "secret", "{host: a, host: b}": "", "[::1": "IPv6",
		"ops@-x": "name, an address", "-u@gate": "user", "*.example": "name, an address",
	} {
		if h, err := ParseHop(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %+v, %v", text, h, err)
		}
	}
}

// TestHopsOfAFile reads hops in each form from a file, and says what is wrong with line and fix.
func TestHopsOfAFile(t *testing.T) {
	layer, err := Parse([]byte("via:\n  - ops@gate.fellside.example\n  - {host: inner, key: keys/id, "+
		"known-hosts: known}\n  - host: last\n    port: 2022\nhost: 10.0.0.9\n"),
		"/p/a.yaml", LayerProfile)
	must(t, err)
	e := Resolve(files.World{Home: "/home/w"}, "a", layer)
	want := []target.Hop{{User: "ops", Host: "gate.fellside.example"},
		{Host: "inner", Key: "/p/keys/id", KnownHosts: "/p/known"}, {Host: "last", Port: 2022}}
	if len(e.Via) != 3 || e.Via[0] != want[0] || e.Via[1] != want[1] || e.Via[2] != want[2] {
		t.Errorf("%+v", e.Via)
	}
	if to := e.Target(); strings.Join(to.Hops, " ") != "ops@gate.fellside.example inner last:2022" || to.OnThisMachine() {
		t.Errorf("%+v", to)
	}
	data, err := Render(layer)
	must(t, err)
	if again, err := Parse(data, "/p/a.yaml", LayerProfile); err != nil || again["via"].Text != layer["via"].Text {
		t.Errorf("%s %v", data, err)
	}
	changed, err := Change(data, "/p/a.yaml",
		Layer{"via": ListValue([]string{"other", "{host: x, key: /k}"}, Origin{})}, nil)
	if err != nil || !strings.Contains(string(changed), "other") {
		t.Errorf("%s %v", changed, err)
	}
	if empty := Resolve(files.World{}, "a", Layer{"via": {Text: "", Origin: Origin{Layer: LayerFlag}}},
		layer); len(empty.Via) != 0 {
		t.Errorf("%+v", empty.Via)
	}
	for text, says := range map[string]string{
		"via: gate\n":                        "1: via is a list",
		"via:\n  - host: gate\n    kye: x\n": "2: via: \"kye\" is no part of a hop; did you mean key?",
		"via: [[a]]\n":                       "each item of via", "via: [{host: {a: b}}]\n": "one word",
		"via: [!x gate]\n":           "tags",
		"via:\n  - gate\n  - \"\"\n": "3: each item", "via: [ops:pw@gate]\n": "without a password",
	} {
		if _, err := Parse([]byte(text), "a.yaml", LayerProfile); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func FuzzParseHop(f *testing.F) {
	for _, seed := range []string{"ops@gate:22", "{host: a, key: b}", "[::1]:2", "{\"host\": 1}", "a@b@c",
		"{host: a, secret: \"env:X\"}"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		h, err := ParseHop(text)
		if err != nil {
			return
		}
		if again, err := ParseHop(HopText(h)); err != nil || again != h {
			t.Errorf("%q is written as %q: %+v, %v", text, HopText(h), again, err)
		}
	})
}

// TestPlaced writes the relative paths of flags into files so that they mean the same there:
// absolute, or relative to a project's file when they are inside the project.
func TestPlaced(t *testing.T) {
	root := t.TempDir()
	project, err := MakeProject(root)
	must(t, err)
	layer := func() Layer {
		return Layer{"tls.ca": {Text: "certs/ca.pem"}, "tls.key": {Text: "~/k"}, "socket": {Text: "/abs"},
			"secret": {Text: "file:pw"}, "via": ListValue([]string{"gate", "{host: inner, key: id}"}, Origin{})}
	}
	mine := Store{Dir: filepath.Join(root, "home")}
	got := mine.Placed(layer(), mine.Path("g/p"), root)
	for name, want := range map[string]string{"tls.ca": root + "/certs/ca.pem", "tls.key": "~/k",
		"socket": "/abs", "secret": "file:" + root + "/pw", "via": "gate; {host: inner, key: " + root + "/id}"} {
		if got[name].Text != want {
			t.Errorf("%s: %q instead of %q", name, got[name].Text, want)
		}
	}
	if got := project.Placed(layer(), project.Path("g/p"), root); got["tls.ca"].Text != "../../../certs/ca.pem" {
		t.Errorf("in a project: %q", got["tls.ca"].Text)
	}
	kept := layer()
	kept["tls.ca"] = Value{Text: "certs/ca.pem", Origin: Origin{File: "/x/base.yaml"}}
	if got := mine.Placed(kept, mine.Path("p"), root); got["tls.ca"].Text != "certs/ca.pem" {
		t.Errorf("what a file says: %q", got["tls.ca"].Text)
	}
	if data, err := Render(Layer{"via": ListValue([]string{"gate", "{host: inner, key: /k}"},
		Origin{})}); err != nil || string(data) != "via: [gate, {host: inner, key: /k}]\n" {
		t.Errorf("%q %v", data, err)
	}
}
