package profile

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"testing"
)

// samples are two good values of each setting, by its name; all others take those of their type.
var samples = map[string][2]string{
	"base": {"a", "b"}, "engine": {"postgres", "mariadb"}, "tls.mode": {"verify", "encrypt"},
	"login-methods": {"md5", "scram-sha-256"}, "socket-owner": {"one", "two"},
	"expect.server": {">= 15", ">= 16"}, "expect.encrypted": {"true", "false"},
	"expect.superuser": {"true", "false"}, "expect.read-only": {"true", "false"},
	"pooled": {"no", "session"}, "guard": {"confirm", "none"}, "expect.latency": {"5ms", "6ms"},
	"expect.can": {"select on a", "insert on b"}, "expect.cannot": {"select on a", "insert on b"},
	"door": {"5001", "5002"}, "cloud": {"fellside/bunkhouse",
		"{account: fellside, server: bunkhouse, replica: reports, address: private}"}, "hand-over.": {"uri", "port"},
}

var byType = map[Type][2]string{
	Text: {"one", "two"}, Host: {"a.example", "b.example"}, Port: {"1", "2"}, Path: {"/a", "/b"},
	Duration: {"3s", "4s"}, SecretRef: {"ask", "env:PW"}, List: {"one", "two"},
	Maps:   {"gate", "{host: inner, key: /k}"},
	OneMap: {"hutdb:5432", "{service: db, project: huts, reach: exec}"}, Map: {"one", "two"},
}

func sample(s Setting, i int) string {
	if pair, ok := samples[s.Name]; ok {
		return pair[i]
	}
	return byType[s.Type][i]
}

// TestEveryTypeInEveryLayer puts two values of each setting into each two layers: the higher one
// counts, with its origin, and the lower one is under it. An empty one above unsets.
func TestEveryTypeInEveryLayer(t *testing.T) {
	names := []LayerName{LayerFlag, LayerEnvironment, LayerProfile, LayerBase, LayerBase, LayerBase, LayerGroup,
		LayerGroup}
	seen := map[Type]bool{}
	for _, s := range Settings {
		seen[s.Type] = true
		name := s.Name
		if s.Type == Map {
			name += "key"
		}
		for _, each := range []string{sample(s, 0), sample(s, 1)} {
			if err := s.Check(each); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
		}
		for high := range names {
			for low := high + 1; low < len(names); low++ {
				layers := make([]Layer, len(names))
				value := func(i int, text string) Value {
					origin := Origin{Layer: names[i], File: fmt.Sprint(i), Line: i + 1}
					if s.IsList() && text != "" {
						return ListValue([]string{text}, origin)
					}
					return Value{Text: text, Origin: origin}
				}
				for i := range layers {
					layers[i] = Layer{}
				}
				layers[high][name], layers[low][name] = value(high, sample(s, 0)), value(low, sample(s, 1))
				d := Decide(layers)
				if got := d.Values[name]; got.Text != sample(s, 0) || got.Origin != layers[high][name].Origin {
					t.Errorf("%s in %d and %d: %q of %s", name, high, low, got.Text, got.Origin)
				}
				if under := d.Under[name]; len(under) != 1 || under[0].Text != sample(s, 1) ||
					under[0].Origin != layers[low][name].Origin {
					t.Errorf("%s in %d and %d: under it stands %v", name, high, low, under)
				}
				layers[high][name] = value(high, "")
				if got := Decide(layers).Values[name]; got.Text == sample(s, 1) {
					t.Errorf("%s in %d and %d: an empty value does not unset it", name, high, low)
				}
			}
		}
	}
	if len(seen) != len(byType) {
		t.Errorf("%d types of %d", len(seen), len(byType))
	}
}

// TestTheAddressIsOneThing has the rules of address and port, over every pair of layers that can
// say them.
func TestTheAddressIsOneThing(t *testing.T) {
	l := func(pairs ...string) Layer {
		layer := Layer{}
		for i := 0; i < len(pairs); i += 2 {
			layer[pairs[i]] = Value{Text: pairs[i+1]}
		}
		return layer
	}
	for _, c := range []struct {
		name   string
		layers []Layer
		want   string
	}{
		{"a group's port serves its profiles' hosts", []Layer{l("host", "h"), l("port", "5501")}, "h 5501"},
		{"and theirs wins", []Layer{l("host", "h", "port", "1"), l("port", "5501")}, "h 1"},
		{"an outer group's too", []Layer{l("host", "h"), l(), l("port", "5501")}, "h 5501"},
		{"a base's port goes with the base's host", []Layer{l("host", "h"), l("host", "b", "port", "7")}, "h 5432"},
		{"and comes with it", []Layer{l(), l("host", "b", "port", "7")}, "b 7"},
		{"between the two a group's port counts",
			[]Layer{l("host", "h"), l("host", "b", "port", "7"), l("port", "5501")}, "h 5501"},
		{"a port alone overrides", []Layer{l("port", "9"), l("host", "b", "port", "7")}, "b 9"},
		{"a socket hides the lower host and its port", []Layer{l("socket", "/s"), l("host", "b", "port", "7")}, "/s"},
		{"a group's port is ignored at a socket", []Layer{l("socket", "/s"), l("port", "5501")}, "/s"},
		{"a host hides a lower socket", []Layer{l("host", "h"), l("socket", "/s")}, "h 5432"},
		{"a socket's folder and a port", []Layer{l("socket", "/run/x", "port", "5433")}, "/run/x/.s.PGSQL.5433"},
		{"a port of this run picks the socket in the folder", []Layer{l("port", "5433"), l("socket", "/run/x")},
			"/run/x/.s.PGSQL.5433"},
		{"the default host with a group's port", []Layer{l(), l("port", "5501")}, "localhost 5501"},
		{"off above hides the certificates below",
			[]Layer{l("tls.mode", "off"), l("tls.mode", "verify", "tls.ca", "/ca")}, "localhost 5432"},
		{"a socket above hides the encryption below",
			[]Layer{l("socket", "/s"), l("tls.mode", "verify", "tls.ca", "/ca")}, "/s"},
	} {
		d := Decide(append(c.layers, l("engine", "postgres", "user", "u")))
		e := d.Profile(Effective{}.world, "p")
		got := e.Socket
		if got == "" {
			got = fmt.Sprintf("%s %d", e.Host, e.Port)
		}
		if got != c.want || len(d.Check()) > 0 {
			t.Errorf("%s: %s, %v", c.name, got, d.Check())
		}
	}
	for says, layers := range map[string][]Layer{
		"contradict each other":      {l("host", "h", "socket", "/s")},
		"has its port already":       {l("socket", "/run/.s.PGSQL.1", "port", "5")},
		"A socket is never":          {l("socket", "/s", "tls.mode", "verify")},
		"has no use while":           {l("tls.mode", "off", "tls.ca", "/ca")},
		"go together":                {l("tls.mode", "verify", "tls.cert", "/c")},
		"A port goes with a host":    {l("engine", "mysql", "socket", "/s", "port", "1")},
		"cannot be set":              {l("options.sslkey", "x")},
		"is none of PostgreSQL":      {{"login-methods": ListValue([]string{"caching_sha2_password"}, Origin{})}},
		"setting engine is missing":  {l("engine", "")},
		"The setting user is missin": {l("user", "")},
	} {
		problems := Decide(append(layers, l("engine", "postgres", "user", "u"))).Check()
		if !slices.ContainsFunc(problems, func(p Problem) bool { return strings.Contains(p.Text, says) }) {
			t.Errorf("%q: %v", says, problems)
		}
	}
}

// TestThePortOfAHost has a host of each layer stand over each kind of address of each lower
// layer, with and without a group's port: only the host of a run keeps the port of the host that
// it replaces.
func TestThePortOfAHost(t *testing.T) {
	layer := func(of LayerName, pairs ...string) Layer {
		l := Layer{}
		for i := 0; i < len(pairs); i += 2 {
			l[pairs[i]] = Value{Text: pairs[i+1], Origin: Origin{Layer: of}}
		}
		return l
	}
	lower := map[string][]string{
		"nothing": {}, "a host": {"host", "b"}, "a host and a port": {"host", "b", "port", "7"},
		"a socket": {"socket", "/run/x"}, "a socket and a port": {"socket", "/run/x", "port", "8"},
		"an alias": {"alias", "bookings"}, "a container": {"container", "hutdb:9"},
		"a cloud": {"cloud", "fellside/bunkhouse"},
	}
	seen := 0
	for _, of := range []LayerName{LayerFlag, LayerEnvironment, LayerProfile} {
		for _, under := range []LayerName{LayerProfile, LayerBase, LayerGroup, LayerString} {
			for about, pairs := range lower {
				for _, group := range []string{"", "5501"} {
					for _, own := range []string{"", "4"} {
						top, last := layer(of, "host", "h"), layer(LayerGroup)
						if own != "" {
							top["port"] = Value{Text: own, Origin: Origin{Layer: of}}
						}
						if group != "" {
							last = layer(LayerGroup, "port", group)
						}
						want, kept := cmp.Or(own, group, "5432"), ""
						if run := of != LayerProfile; own == "" && about == "a host and a port" && run {
							want, kept = "7",
								"port 7, from "+map[LayerName]string{LayerProfile: "the profile",
									LayerBase: "its base", LayerGroup: "its group",
									LayerString: "the connection string"}[under]
						} else if own == "" && run && group != "" {
							kept = "port 5501, from its group"
						}
						e := Decide([]Layer{top, layer(under, pairs...), last,
							layer(LayerProfile, "engine", "postgres", "user", "u")}).Profile(Effective{}.world, "p")
						if e.Host != "h" || fmt.Sprint(e.Port) != want || e.Socket != "" || e.KeptPort() != kept {
							t.Errorf("%s over %s of %s, group %q, own %q: %s %d %s, %q, and not %s, %q", of,
								about, under, group, own, e.Host, e.Port, e.Socket, e.KeptPort(), want, kept)
						}
						seen++
					}
				}
			}
		}
	}
	t.Logf("%d products", seen)
	// A variable's host between keeps it for the flag's; a file's does not.
	over := func(layers ...Layer) int {
		return Decide(append(layers, layer(LayerProfile, "engine", "postgres", "user",
			"u"))).Profile(Effective{}.world, "p").Port
	}
	flag, variable, base := layer(LayerFlag, "host", "f"), layer(LayerEnvironment, "host",
		"v"), layer(LayerBase, "host", "b", "port", "7")
	if got := over(flag, variable, base); got != 7 {
		t.Errorf("over a variable's host: %d", got)
	}
	if got := over(flag, layer(LayerProfile, "host", "p"), base); got != 5432 {
		t.Errorf("over a file's host without a port: %d", got)
	}
	// A port beside what is no host is an error, from any layer.
	for _, of := range []LayerName{LayerFlag, LayerEnvironment, LayerProfile} {
		for about, pairs := range lower {
			if strings.Contains(about, "host") || about == "nothing" || strings.Contains(about, "socket") {
				continue
			}
			d := Decide([]Layer{layer(of, "port", "4"), layer(LayerProfile, pairs...),
				layer(LayerProfile, "engine", "postgres", "user", "u")})
			if !slices.ContainsFunc(d.Check(), func(p Problem) bool { return p.Setting == "port" }) {
				t.Errorf("%s port over %s: %v", of, about, d.Check())
			}
		}
	}
}

// TestGuardOfProjects has each guard in your own files and in a project's, either one above the
// other: the stricter one counts, and what a run says counts before both.
func TestGuardOfProjects(t *testing.T) {
	levels := []string{"", "none", "confirm", "read-only"}
	layer := func(text, project string) Layer {
		return Layer{"guard": {Text: text, Origin: Origin{Layer: LayerProfile, File: "f", Line: 1, Project: project}}}
	}
	for i, own := range levels {
		for j, theirs := range levels {
			want := levels[max(i, j)]
			for _, files := range [][]Layer{{layer(own, ""), layer(theirs, "/p")},
				{layer(theirs, "/p"), layer(own, "")}, {layer(theirs, "/p"), layer("none", "/p"), layer(own, "")}} {
				if got := Decide(files).Values["guard"].Text; got != want && !(want == "none" && got == "") {
					t.Errorf("%q of your own, %q of a project: %q", own, theirs, got)
				}
				for _, said := range levels[1:] {
					flag := Layer{"guard": {Text: said, Origin: Origin{Layer: LayerFlag, Name: "--guard"}}}
					if got := Decide(append([]Layer{flag}, files...)).Values["guard"].Text; got != said {
						t.Errorf("--guard %s over %q and %q: %q", said, own, theirs, got)
					}
				}
			}
		}
	}
}
