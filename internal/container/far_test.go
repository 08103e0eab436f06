package container

import (
	"net/netip"
	"testing"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/target"
)

// TestFarEnginesChooseNoHost has engines on other machines publish a port at addresses of each
// kind: only their own host is connected to, another where the profile allows it, and never one
// of this machine's own network.
func TestFarEnginesChooseNoHost(t *testing.T) {
	for _, each := range []struct {
		engine, published, reach string
		want                     string // the host, or a code
	}{
		{"tcp://192.0.2.5:2376", "0.0.0.0", "", "192.0.2.5"},
		{"tcp://192.0.2.5:2376", "::", "", "192.0.2.5"},
		{"tcp://192.0.2.5:2376", "192.0.2.5", "", "192.0.2.5"},
		{"tcp://[2001:db8::5]:2376", "2001:db8::5", "", "2001:db8::5"},
		{"tcp://engine.fellside.example:2376", "0.0.0.0", "", "engine.fellside.example"},
		{"tcp://engine.fellside.example:2376", "192.0.2.5", "", "container.published-far"},
		{"tcp://engine.fellside.example:2376", "192.0.2.5", "published", "192.0.2.5"},
		{"tcp://192.0.2.5:2376", "10.0.0.7", "", "container.published-far"},
		{"tcp://192.0.2.5:2376", "10.0.0.7", "exec", "inside"},
		{"tcp://192.0.2.5:2376", "10.0.0.7", "published", "10.0.0.7"},
		{"tcp://192.0.2.5:2376", "127.0.0.1", "", "container.published-far"},
		{"tcp://192.0.2.5:2376", "127.0.0.1", "published", "container.published-far"},
		{"tcp://192.0.2.5:2376", "169.254.169.254", "", "container.published-far"},
		{"tcp://192.0.2.5:2376", "169.254.169.254", "published", "container.published-far"},
		{"tcp://192.0.2.5:2376", "64:ff9b::a9fe:a9fe", "published", "container.published-far"},
		{"tcp://192.0.2.5:2376", "224.0.0.1", "published", "container.published-far"},
		{"ssh://ops@gate.fellside.example", "0.0.0.0", "", "127.0.0.1"},
		{"ssh://ops@gate.fellside.example", "127.0.0.1", "", "127.0.0.1"},
		{"ssh://ops@gate.fellside.example", "10.0.0.7", "", "container.published-far"},
		{"ssh://ops@gate.fellside.example", "10.0.0.7", "published", "10.0.0.7"},
		{"ssh://ops@gate.fellside.example", "169.254.169.254", "published", "container.published-far"},
		{"unix:///run/docker.sock", "127.0.0.1", "", "127.0.0.1"},
		{"unix:///run/docker.sock", "169.254.169.254", "published", "container.published-elsewhere"},
	} {
		l := &Lookup{
			Container: &Container{Name: "hutdb", State: "running",
				Published: []Published{{Inside: 5432, Port: 6001, Address: netip.MustParseAddr(each.published)}}},
			Client: &Client{Engine: Engine{URL: each.engine}},
			of:     &Locator{Port: 5432, Want: target.Contained{Name: "hutdb", Reach: each.reach}},
		}
		list, err := l.addresses()
		var got string
		switch p, _ := finding.AsProblem(err); {
		case p != nil:
			got = string(p.Code)
		case len(list) == 1 && list[0].Dial != nil:
			got = "inside"
		case len(list) == 1:
			got = list[0].Host
		}
		if got != each.want {
			t.Errorf("%v: %q instead of %q", each, got, each.want)
		}
	}
}

// TestNamesFromAnEngine drops what no engine would call a container, a service, a network or a
// volume.
func TestNamesFromAnEngine(t *testing.T) {
	for _, name := range []string{"", "-rm", "a b", "a/b", "hut\u0430", "a\x1b[2J", "$(id)", "a'b"} {
		c := Container{ID: "f00d", Name: name}
		if c.named() {
			t.Errorf("%q is the name of a container", name)
		}
		c = Container{ID: name, Name: "hutdb"}
		if c.named() {
			t.Errorf("%q is the id of a container", name)
		}
		c.labels(map[string]string{labelProject: "huts", labelService: name})
		if c.Service+c.Project != "" {
			t.Errorf("%q is a service", name)
		}
	}
	if c := (Container{ID: "f00d", Name: "huts-db.1_x"}); !c.named() {
		t.Error("a usual name is none")
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
