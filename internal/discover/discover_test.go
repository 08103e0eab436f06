package discover

import (
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/standin"
)

func TestInstalled(t *testing.T) {
	for _, c := range []struct {
		name, family string
		files        []string
		start        string
	}{
		{"nothing", "postgres", nil, ""},
		{"a system service", "postgres",
			[]string{"run/systemd/system/x", "lib/systemd/system/postgresql.service",
				"usr/lib/postgresql/16/bin/postgres"}, "sudo systemctl start postgresql"},
		{"a template alone", "postgres", []string{"run/systemd/system/x", "lib/systemd/system/postgresql@.service"}, ""},
		{"a service where no system manager runs", "mysql",
			[]string{"lib/systemd/system/mariadb.service", "etc/init.d/mariadb"}, "sudo service mariadb start"},
		{"a package manager's", "postgres", []string{"opt/homebrew/opt/postgresql@16/x"},
			"brew services start postgresql@16"},
		{"a package manager's", "mysql", []string{"usr/local/opt/mariadb/x"}, "brew services start mariadb"},
		{"a bundle", "mysql", []string{"opt/lampp/lampp"}, "sudo /opt/lampp/lampp startmysql"},
		{"by hand", "mysql", []string{"usr/sbin/mysqld"}, ""},
		{"the other engine's", "postgres", []string{"usr/sbin/mysqld"}, ""},
	} {
		root := t.TempDir()
		for _, file := range c.files {
			path := filepath.Join(root, file)
			must(t, os.MkdirAll(filepath.Dir(path), 0o755))
			must(t, os.WriteFile(path, nil, 0o755))
		}
		found := installedBelow(root, infoOf(c.family))
		start := ""
		if len(found) > 0 {
			start = found[0].Start
		}
		if start != c.start {
			t.Errorf("%s: %q", c.name, start)
		}
	}
}

func TestGreetAndListening(t *testing.T) {
	for _, engine := range []string{"postgres", "mysql", "mariadb"} {
		s, err := standin.Start(standin.Config{Engine: engine})
		must(t, err)
		if a := Greet(t.Context(), from("tcp", s.Address())); a.Kind != engine {
			t.Errorf("%s greets as %q", engine, a.Kind)
		}
		found := false
		for _, f := range Databases(t.Context()) {
			found = found || f.Place() == s.Address() && f.Answer.Kind == engine
		}
		if !found {
			t.Errorf("%s is not found on its port", engine)
		}
		s.Close()
	}
}

func TestNetworks(t *testing.T) {
	if !route.Own(netip.MustParseAddr("127.0.0.1")) || !OnNetworkOf(netip.MustParseAddr("127.3.3.3")) ||
		route.Own(netip.MustParseAddr("203.0.113.7")) || OnNetworkOf(netip.MustParseAddr("203.0.113.7")) {
		t.Error("this machine's networks are not told apart")
	}
	own, err := net.InterfaceAddrs()
	must(t, err)
	for _, a := range own {
		if prefix, err := netip.ParsePrefix(a.String()); err == nil && !route.Own(prefix.Addr()) {
			t.Errorf("%s is this machine's", a)
		}
	}
}

func infoOf(name string) []engine.Started {
	info, _ := known.Info(name)
	return info.Started
}
