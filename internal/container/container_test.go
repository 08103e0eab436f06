package container_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/container"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
	"gentle-harbor/internal/target"
)

const canary = "canary-5b2f-Secret"

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// practice starts a practice engine on a socket of its own.
func practice(t *testing.T, list ...standin.Contained) (*standin.Engine, container.Engine) {
	t.Helper()
	folder, err := os.MkdirTemp("", "ghe") // a socket's path is short
	must(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	path := filepath.Join(folder, "e.sock")
	e, err := standin.StartEngine(path)
	must(t, err)
	t.Cleanup(e.Close)
	for _, each := range list {
		e.Put(each)
	}
	return e, container.Engine{URL: "unix://" + path, From: "the test"}
}

func hut() standin.Contained {
	return standin.Contained{Name: "hutdb", Image: "postgres:16",
		Env:       []string{"POSTGRES_USER=warden", "POSTGRES_PASSWORD=" + canary, "POSTGRES_DB=bunkhouse"},
		Published: map[int][]string{5432: {"127.0.0.1:6001"}}}
}

// locate gives the addresses, or the problem, of a container at some engines. The time is enough
// for a busy machine.
func locate(t *testing.T, want string, engines ...container.Engine) ([]route.Address, *container.Locator,
	*finding.Problem) {
	t.Helper()
	return locateWithin(t, 20*time.Second, want, engines...)
}

func locateWithin(t *testing.T, limit time.Duration, want string, engines ...container.Engine) ([]route.Address,
	*container.Locator, *finding.Problem) {
	t.Helper()
	c, err := target.ParseContained(strings.TrimSuffix(want, " exec"))
	must(t, err)
	if strings.HasSuffix(want, " exec") {
		c.Reach = target.ReachExec
	}
	info, _ := known.Info("postgres")
	port := info.Port
	if c.Port != 0 {
		port = c.Port
	}
	l := &container.Locator{Want: c, Port: port, Info: info, Folder: "/home/huts",
		Engines: func() ([]container.Engine, error) { return engines, nil }}
	ctx, cancel := context.WithTimeout(t.Context(), limit)
	defer cancel()
	var list []route.Address
	for at, err := range l.Locate(ctx, nil, func(string, string) {}) {
		if err != nil {
			p, other := finding.AsProblem(err)
			if other != nil {
				t.Fatal(other)
			}
			return list, l, p
		}
		list = append(list, at)
	}
	return list, l, nil
}

// TestLocate looks for containers in every state that an engine can have them in.
func TestLocate(t *testing.T) {
	with := func(change func(*standin.Contained)) standin.Contained {
		c := hut()
		change(&c)
		return c
	}
	label := func(project, service, number, folder string) map[string]string {
		return map[string]string{"com.docker.compose.project": project, "com.docker.compose.service": service,
			"com.docker.compose.container-number": number, "com.docker.compose.project.working_dir": folder}
	}
	const gateway = "127.0.0.1" // the loopback network is the one that every machine is on
	service := func(name, project, number, state string, port int) standin.Contained {
		return with(func(c *standin.Contained) {
			c.Name, c.Labels, c.State = name, label(project, "db", number, "/home/"+project), state
			c.Published = map[int][]string{5432: {fmt.Sprintf("0.0.0.0:%d", port), fmt.Sprintf("[::]:%d", port)}}
		})
	}
	for _, each := range []struct {
		about, want, gives string
		there              []standin.Contained
	}{
		{"published on loopback", "hutdb", "127.0.0.1:6001", []standin.Contained{hut()}},
		{"on all addresses, of both kinds", "hutdb", "127.0.0.1:6002",
			[]standin.Contained{with(func(c *standin.Contained) {
				c.Published[5432] = []string{"0.0.0.0:6002", "[::]:6002"}
			})}},
		{"on all IPv6 addresses", "hutdb", "[::1]:6002",
			[]standin.Contained{with(func(c *standin.Contained) { c.Published[5432] = []string{"[::]:6002"} })}},
		{"twice", "hutdb", "127.0.0.1:6001 127.0.0.1:6002",
			[]standin.Contained{with(func(c *standin.Contained) {
				c.Published[5432] = []string{"127.0.0.1:6001", "127.0.0.1:6002"}
			})}},
		{"another port inside", "hutdb:5433", "127.0.0.1:6003",
			[]standin.Contained{with(func(c *standin.Contained) { c.Published[5433] = []string{"127.0.0.1:6003"} })}},
		{"the host's network", "hutdb", "127.0.0.1:5432",
			[]standin.Contained{with(func(c *standin.Contained) { c.Published, c.HostNetwork = nil, true })}},
		{"its own address on a network of ours", "hutdb", "127.9.9.9:5432",
			[]standin.Contained{with(func(c *standin.Contained) {
				c.Published, c.Address, c.Gateway = nil, "127.9.9.9", gateway
			})}},
		{"its own address on a network of others", "hutdb", "container.port-not-published",
			[]standin.Contained{with(func(c *standin.Contained) {
				c.Published, c.Address, c.Gateway = nil, "192.0.2.7", "192.0.2.1"
			})}},
		{"a lying engine: an address elsewhere beside a gateway of ours", "hutdb",
			"container.port-not-published",
			[]standin.Contained{with(func(c *standin.Contained) {
				c.Published, c.Address, c.Gateway = nil, "203.0.113.9", gateway
			})}},
		{"not published", "hutdb", "container.port-not-published",
			[]standin.Contained{with(func(c *standin.Contained) { c.Published = nil })}},
		{"not published, by a stream", "hutdb exec", "127.0.0.1:5432",
			[]standin.Contained{with(func(c *standin.Contained) { c.Published = nil })}},
		{"published, or by a stream", "hutdb exec", "127.0.0.1:6001 127.0.0.1:5432", []standin.Contained{hut()}},
		{"its own address, or by a stream", "hutdb exec", "127.9.9.9:5432 127.0.0.1:5432",
			[]standin.Contained{with(func(c *standin.Contained) {
				c.Published, c.Address, c.Gateway = nil, "127.9.9.9", gateway
			})}},
		{"only another port is published", "hutdb", "container.other-port",
			[]standin.Contained{with(func(c *standin.Contained) {
				c.Published = map[int][]string{5433: {"127.0.0.1:6003"}}
			})}},
		{"published elsewhere", "hutdb", "container.published-elsewhere",
			[]standin.Contained{with(func(c *standin.Contained) { c.Published[5432] = []string{"192.0.2.9:6001"} })}},
		{"unknown", "hutbd", "container.unknown near hutdb", []standin.Contained{hut()}},
		{"none at all", "hutdb", "container.unknown", nil},
		{"stopped", "hutdb", "container.stopped",
			[]standin.Contained{with(func(c *standin.Contained) { c.State = "exited" })}},
		{"paused", "hutdb", "container.paused", []standin.Contained{with(func(c *standin.Contained) { c.State = "paused" })}},
		{"created", "hutdb", "container.not-started",
			[]standin.Contained{with(func(c *standin.Contained) { c.State = "created" })}},
		{"restarting", "hutdb", "container.restarting",
			[]standin.Contained{with(func(c *standin.Contained) { c.State = "restarting" })}},
		{"dead", "hutdb", "container.stopped", []standin.Contained{with(func(c *standin.Contained) { c.State = "dead" })}},
		{"another engine's image", "hutdb", "container.other-engine",
			[]standin.Contained{with(func(c *standin.Contained) { c.Image = "mariadb:11" })}},
		{"the beginning of an id", "abc", "127.0.0.1:6001",
			[]standin.Contained{with(func(c *standin.Contained) { c.ID = "abcdef" + strings.Repeat("0", 58) })}},
		{"an id's beginning of two", "abc", "container.several",
			[]standin.Contained{with(func(c *standin.Contained) { c.ID = "abcd" + strings.Repeat("0", 60) }),
				with(func(c *standin.Contained) { c.Name, c.ID = "other", "abce"+strings.Repeat("0", 60) })}},
		{"a service", "db@huts", "127.0.0.1:6101", []standin.Contained{service("huts-db-1", "huts", "1", "running", 6101)}},
		{"two folders with one project's name", "db@huts", "container.several", []standin.Contained{
			with(func(c *standin.Contained) { c.Name, c.Labels = "a", label("huts", "db", "1", "/home/huts") }),
			with(func(c *standin.Contained) { c.Name, c.Labels = "b", label("huts", "db", "1", "/tmp/huts") })}},
		{"the running one of two replicas", "db@huts", "127.0.0.1:6102",
			[]standin.Contained{service("huts-db-1", "huts", "1", "exited", 6101),
				service("huts-db-2", "huts", "2", "running", 6102)}},
		{"the first of two that run", "db@huts", "127.0.0.1:6101",
			[]standin.Contained{service("huts-db-2", "huts", "2", "running", 6102),
				service("huts-db-1", "huts", "1", "running", 6101)}},
		{"the second replica", "db#2@huts", "127.0.0.1:6102",
			[]standin.Contained{service("huts-db-1", "huts", "1", "running", 6101),
				service("huts-db-2", "huts", "2", "running", 6102)}},
		{"the project of the folder", "db@", "127.0.0.1:6101",
			[]standin.Contained{service("hills-db-1", "hills", "1", "running", 6103),
				service("huts-db-1", "huts", "1", "running", 6101)}},
		{"the project of a folder above", "db@", "127.0.0.1:6101",
			[]standin.Contained{service("home-db-1", "home", "1", "running", 6103), with(func(c *standin.Contained) {
				c.Name, c.Labels, c.Published = "above", label("above", "db", "1",
					"/home"), map[int][]string{5432: {"127.0.0.1:6101"}}
			})}},
		{"the nearest of two", "db@", "127.0.0.1:6101",
			[]standin.Contained{service("huts-db-1", "huts", "1", "running", 6101), with(func(c *standin.Contained) {
				c.Name, c.Labels, c.Published = "above", label("above", "db", "1",
					"/home"), map[int][]string{5432: {"127.0.0.1:6103"}}
			})}},
		{"a folder whose name begins alike is not above", "db@", "container.unknown near db@hut",
			[]standin.Contained{service("hut-db-1", "hut", "1", "running", 6103)}},
		{"another project", "db@huts", "container.unknown near db@hills",
			[]standin.Contained{service("hills-db-1", "hills", "1", "running", 6103)}},
		{"a one-off is not the service", "db@huts", "container.unknown", []standin.Contained{with(func(c *standin.Contained) {
			c.Name, c.Labels = "huts-db-run-1", label("huts", "db", "1", "/home/huts")
			c.Labels["com.docker.compose.oneoff"] = "True"
		})}},
	} {
		t.Run(each.about, func(t *testing.T) {
			_, e := practice(t, each.there...)
			list, l, p := locate(t, each.want, e)
			var gives []string
			for _, at := range list {
				gives = append(gives, at.String())
				if at.Met.Contained == (each.about == "the host's network") {
					t.Errorf("it counts as this machine's container: %t", at.Met.Contained)
				}
			}
			got := strings.Join(gives, " ")
			if p != nil {
				got = string(p.Code)
				if near := p.Facts[finding.FactNearContainer]; p.Code == finding.ContainerUnknown && near != "" {
					got += " near " + near
				}
			}
			if got != each.gives {
				t.Errorf("%s gives %q, and %q was expected", each.want, got, each.gives)
			}
			if p == nil && l.Last().Defined().How == "" {
				t.Error("it has no definition")
			}
		})
	}
}

// TestSeveralEngines looks at one engine after the other.
func TestSeveralEngines(t *testing.T) {
	_, first := practice(t)
	_, second := practice(t, hut())
	if list, l, p := locate(t, "hutdb", first, second); p != nil || len(list) != 1 ||
		l.Last().Client.Engine.URL != second.URL {
		t.Errorf("%v %v", list, p)
	}
	gone := container.Engine{URL: "unix:///nowhere/e.sock", From: "the test"}
	if _, _, p := locate(t, "hutdb", gone); p == nil || p.Code != finding.ContainerEngineNotRunning {
		t.Errorf("%v", p)
	}
	info, _ := known.Info("postgres")
	none := &container.Locator{Want: target.Contained{Name: "x"}, Port: 1, Info: info,
		Engines: func() ([]container.Engine, error) { return nil, container.ErrNone }}
	for _, err := range none.Locate(t.Context(), nil, func(string, string) {}) {
		if p, _ := finding.AsProblem(err); p == nil || p.Code != finding.ContainerNoEngine {
			t.Errorf("%v", err)
		}
	}
	if list, _, p := locate(t, "hutdb", gone, second); p != nil || len(list) != 1 {
		t.Errorf("an engine that does not run hides another: %v", p)
	}
}

// TestHostileEngines meets engines that are broken or mean harm: each is refused in its time, and
// nothing of them is shown uncleaned.
func TestHostileEngines(t *testing.T) {
	elsewhere, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer elsewhere.Close()
	visited := make(chan bool, 1)
	go func() {
		for { // tests of other packages look at every port of this machine
			conn, err := elsewhere.Accept()
			if err != nil {
				return
			}
			data := make([]byte, 1024)
			_ = conn.SetReadDeadline(time.Now().Add(time.Second))
			if n, _ := conn.Read(data); strings.Contains(string(data[:n]), " HTTP/1.") {
				visited <- true
			}
			_ = conn.Close()
		}
	}()
	for about, each := range map[string]struct {
		faults standin.EngineFaults
		want   finding.Code
	}{
		"says nothing":   {standin.EngineFaults{Stall: true}, finding.ContainerSilent},
		"is too old":     {standin.EngineFaults{Version: "1.12"}, finding.ContainerEngineTooOld},
		"has no version": {standin.EngineFaults{Version: "next"}, finding.ContainerEngineFailed},
		"is no engine":   {standin.EngineFaults{NotJSON: true}, finding.ContainerEngineFailed},
		"has no end":     {standin.EngineFaults{Huge: true}, finding.ContainerEngineFailed},
		"leads elsewhere": {standin.EngineFaults{Redirect: "http://" + elsewhere.Addr().String() + "/"},
			finding.ContainerEngineFailed},
		"sends empty values": {standin.EngineFaults{Body: "[" + strings.Repeat("{},", 1<<20) + "{}]"},
			finding.ContainerEngineFailed},
		"sends a deep value": {standin.EngineFaults{Body: strings.Repeat(`{"Config":`, 1<<16)},
			finding.ContainerEngineFailed},
		"sends many ports": {standin.EngineFaults{Body: `[{"Ports":[` + strings.Repeat("{},", 1<<20) +
			"{}]}]"}, finding.ContainerEngineFailed},
		"lies about a name": {standin.EngineFaults{Body: `{"Id":"f00d","Name":"/x; rm -rf"}`},
			finding.ContainerEngineFailed},
		"fails with escapes": {standin.EngineFaults{Status: 500, Words: "\x1b[2Jno\x07"}, finding.ContainerEngineFailed},
	} {
		t.Run(about, func(t *testing.T) {
			e, at := practice(t, hut())
			e.Misbehave(each.faults)
			limit := 20 * time.Second
			if each.faults.Stall {
				limit = 300 * time.Millisecond
			}
			began := time.Now()
			want := "hutdb"
			if each.faults.Huge || strings.HasPrefix(each.faults.Body, "[") {
				want = "db@huts" // a list is asked for
			}
			list, _, p := locateWithin(t, limit, want, at)
			if p == nil || p.Code != each.want || len(list) > 0 {
				t.Fatalf("%v %v", list, p)
			}
			if took := time.Since(began); took >= 20*time.Second {
				t.Errorf("it took %s", took)
			}
			if strings.ContainsAny(p.Error(), "\x1b\x07") {
				t.Errorf("%q", p.Error())
			}
		})
	}
	select {
	case <-visited:
		t.Error("a redirection was followed")
	default:
	}
}

// TestStreams opens streams into a container, whole and broken ones: each ends at both ends, and
// none is left.
func TestStreams(t *testing.T) {
	server, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer server.Close()
	go func() {
		for {
			conn, err := server.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				_, _ = io.Copy(struct{ io.Writer }{conn}, struct{ io.Reader }{conn})
			}()
		}
	}()
	c := hut()
	c.Published, c.Streams = nil, map[int]string{5432: server.Addr().String()}
	e, at := practice(t, c)
	for i := range 30 {
		list, _, p := locate(t, "hutdb exec", at)
		if p != nil || len(list) != 1 || list[0].Dial == nil {
			t.Fatalf("%v %v", list, p)
		}
		conn, err := list[0].Dial.DialContext(t.Context(), "tcp", "")
		must(t, err)
		_, _ = conn.Write([]byte("hello"))
		if i%3 != 0 {
			data := make([]byte, 5)
			if _, err := io.ReadFull(conn, data); err != nil || string(data) != "hello" {
				t.Fatalf("%q %v", data, err)
			}
		}
		must(t, conn.Close())
	}
	for range 100 {
		if e.Streams() == 0 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if n := e.Streams(); n != 0 {
		t.Errorf("%d streams are left", n)
	}
	c.Streams = map[int]string{5432: "127.0.0.1:1"}
	e.Put(c)
	list, _, _ := locate(t, "hutdb exec", at)
	_, err = list[0].Dial.DialContext(t.Context(), "tcp", "")
	if p, _ := finding.AsProblem(err); p == nil || p.Code != finding.PortRefused {
		t.Errorf("%v", err)
	}
	e.Misbehave(standin.EngineFaults{NoShell: true})
	_, err = list[0].Dial.DialContext(t.Context(), "tcp", "")
	if p, _ := finding.AsProblem(err); p == nil || p.Code != finding.ContainerNoStream {
		t.Errorf("%v", err)
	}
}

// TestEngineByVariables knows an image of someone's own by the variables that a well-known one is
// set up with, and no program that only uses a database.
func TestEngineByVariables(t *testing.T) {
	for variables, want := range map[string]string{
		"POSTGRES_PASSWORD=x": "postgres", "POSTGRES_PASSWORD_FILE=/run/secrets/p": "postgres",
		"POSTGRES_HOST_AUTH_METHOD=trust": "postgres",
		"MARIADB_ROOT_PASSWORD=x":         "mariadb", "MYSQL_RANDOM_ROOT_PASSWORD=yes": "mysql",
		"MYSQL_PASSWORD=x MYSQL_ROOT_HOST=%": "mysql", "MARIADB_PASSWORD=x MARIADB_ROOT_HOST=%": "mariadb",
		"POSTGRES_PASSWORD=x POSTGRES_HOST=db": "", "POSTGRES_PASSWORD=x PGHOST=db": "",
		"MYSQL_PASSWORD=x DB_HOST=db": "", "MYSQL_PASSWORD=x DB_HOST=": "mysql",
		"ALLOW_EMPTY_PASSWORD=yes": "", "SECRET=x": "", "": "",
	} {
		all := map[string]string{}
		for _, pair := range strings.Fields(variables) {
			name, value, _ := strings.Cut(pair, "=")
			all[name] = value
		}
		if info, _ := container.EngineByVariables(all); info.Name != want {
			t.Errorf("%s is %q, and %q was expected", variables, info.Name, want)
		}
	}
}

// TestAccounts reads the variables of well-known images, in each form.
func TestAccounts(t *testing.T) {
	for _, each := range []struct{ engine, variables, want string }{
		{"postgres", "POSTGRES_PASSWORD=x", "postgres postgres given"},
		{"postgres", "POSTGRES_USER=w POSTGRES_PASSWORD=x", "w w given"},
		{"postgres", "POSTGRES_USER=w POSTGRES_PASSWORD=x POSTGRES_DB=b", "w b given"},
		{"postgres", "POSTGRES_PASSWORD_FILE=/run/secrets/p", "postgres postgres file"},
		{"postgres", "POSTGRES_HOST_AUTH_METHOD=trust", "postgres postgres trust"},
		{"postgres", "POSTGRESQL_USERNAME=w POSTGRESQL_PASSWORD=x POSTGRESQL_DATABASE=b", "w b given"},
		{"postgres", "POSTGRES_USER_FILE=/run/u POSTGRES_PASSWORD=x", ""},
		{"postgres", "", "postgres postgres "},
		{"mysql", "MYSQL_ROOT_PASSWORD=x", "root  given"},
		{"mysql", "MYSQL_USER=w MYSQL_PASSWORD=x MYSQL_DATABASE=b MYSQL_ROOT_PASSWORD=y", "w b given, root b given"},
		{"mysql", "MYSQL_RANDOM_ROOT_PASSWORD=yes", "root  random"},
		{"mysql", "MYSQL_ALLOW_EMPTY_PASSWORD=1", "root  empty"},
		{"mariadb", "MARIADB_USER=w MARIADB_PASSWORD=x MARIADB_DATABASE=b MARIADB_RANDOM_ROOT_PASSWORD=1",
			"w b given, root b random"},
		{"mariadb", "MYSQL_USER=w MYSQL_PASSWORD_FILE=/f MYSQL_DATABASE=b", "w b file, root b "},
		{"mariadb", "MARIADB_ALLOW_EMPTY_ROOT_PASSWORD=1", "root  empty"},
	} {
		info, _ := known.Info(each.engine)
		variables := map[string]string{}
		for _, pair := range strings.Fields(each.variables) {
			name, value, _ := strings.Cut(pair, "=")
			variables[name] = value
		}
		var got []string
		for _, a := range container.AccountsOf(info.Image, variables) {
			what := a.Why
			switch {
			case what != "":
			case a.File != "":
				what = "file"
			case a.Password.Given():
				what = "given"
			}
			got = append(got, a.User+" "+a.Database+" "+what)
		}
		if text := strings.Join(got, ", "); text != each.want {
			t.Errorf("%s %s: %q, and %q was expected", each.engine, each.variables, text, each.want)
		}
	}
}

// TestSecretIsForThisContainer keeps a password for a container, and asks for it when the image,
// the project or the engine is another.
func TestSecretIsForThisContainer(t *testing.T) {
	_, at := practice(t, hut())
	_, l, _ := locate(t, "hutdb", at)
	kept := target.Target{User: "warden", Endpoint: target.Endpoint{Container: "hutdb", Port: 5432}, TLS: "off",
		Defined: l.Last().Defined()}
	source := secret.Source{Kind: secret.Wallet, Kept: &kept}
	if s, err := l.Last().Secret("warden", secret.New(canary), source); err != nil || s.Reveal() != canary {
		t.Fatalf("%v", err)
	}
	for about, change := range map[string]func(*standin.Contained){
		"another image": func(c *standin.Contained) { c.Image = "elsewhere.example/postgres:16" },
		"another Compose one": func(c *standin.Contained) {
			c.Labels = map[string]string{"com.docker.compose.project": "hills"}
		},
	} {
		c := hut()
		change(&c)
		_, at := practice(t, c)
		_, l, _ := locate(t, "hutdb", at)
		sameEngine := *l.Last()
		s, err := sameEngine.Secret("warden", secret.New(canary), source)
		if p, _ := finding.AsProblem(err); p == nil || p.Code != finding.SecretContainerChanged || s.Given() {
			t.Errorf("%s: %v", about, err)
		}
	}
	newer := hut()
	newer.Image = "postgres:17" // a new version of the same image is the same
	e, at := practice(t, newer)
	_ = e
	_, l, _ = locate(t, "hutdb", at)
	kept.Defined = defined(at.URL)
	if _, err := l.Last().Secret("warden", secret.New(canary), source); err != nil {
		t.Errorf("a new tag: %v", err)
	}
	kept.Defined = defined("tcp://other:2375")
	if _, err := l.Last().Secret("warden", secret.New(canary), source); err == nil {
		t.Error("another engine's container gets it")
	}
	own := secret.Source{Kind: secret.Container}
	if s, err := l.Last().Secret("warden", secret.Secret{}, own); err != nil || s.Reveal() != canary {
		t.Errorf("%v", err)
	}
	_, err := l.Last().Secret("reader", secret.Secret{}, own)
	if p, _ := finding.AsProblem(err); p == nil || p.Code != finding.SecretContainerHasNone ||
		p.Facts[finding.FactNearUser] != "warden" {
		t.Errorf("%v", err)
	}
}

// TestEngines chooses an engine by variables, contexts and sockets, and refuses what is none.
func TestEngines(t *testing.T) {
	home := t.TempDir()
	must(t, os.Chmod(home, 0o700))
	write := func(name, text string) {
		must(t, os.MkdirAll(filepath.Dir(filepath.Join(home, name)), 0o700))
		must(t, os.WriteFile(filepath.Join(home, name), []byte(text), 0o600))
	}
	const id = "4a2d2a4ac4a2b8bf4ba6ef4ea8e7c8d1" // not a context's digest
	write(".docker/contexts/meta/"+id+"/meta.json", "{}")
	meta, _ := json.Marshal(map[string]any{"Name": "far",
		"Endpoints": map[string]any{"docker": map[string]any{"Host": "ssh://ops@engine.fellside.example"}}})
	write(".docker/contexts/meta/"+digestOf("far")+"/meta.json", string(meta))
	write(".docker/contexts/meta/"+digestOf("empty")+"/meta.json", "{}")
	_, at := practice(t)
	socket := strings.TrimPrefix(at.URL, "unix://")
	for _, each := range []struct{ variables, config, want string }{
		{"", "", at.URL},
		{"DOCKER_HOST=unix:///x/y.sock", "", "unix:///x/y.sock"},
		{"DOCKER_HOST=tcp://10.0.0.5:2375", "", "tcp://10.0.0.5:2375 far"},
		{"DOCKER_HOST=tcp://127.0.0.1:2375", "", "tcp://127.0.0.1:2375"},
		{"DOCKER_HOST=https://[fd00::1]:2376", "", "tcp://[fd00::1]:2376 far tls"},
		{"DOCKER_HOST=tcp://e.example:2376 DOCKER_TLS_VERIFY=1", "", "tcp://e.example:2376 far tls"},
		{"DOCKER_HOST=ssh://ops@e.example:2222/run/x.sock", "", "ssh://ops@e.example:2222/run/x.sock"},
		{"DOCKER_HOST=x", "", "error"}, {"DOCKER_HOST=tcp://e.example", "", "error"},
		{"DOCKER_HOST=unix://rel", "", "error"}, {"DOCKER_HOST=ssh://u:pw@h", "", "error"},
		{"DOCKER_HOST=tcp://0.0.0.0:2375", "", "error"}, {"DOCKER_HOST=ftp://h:1", "", "error"},
		{"DOCKER_CONTEXT=far", "", "ssh://ops@engine.fellside.example"},
		{"", `{"currentContext":"far"}`, "ssh://ops@engine.fellside.example"},
		{"", `{"currentContext":"default"}`, at.URL},
		{"DOCKER_HOST=unix:///x/y.sock", `{"currentContext":"far"}`, "unix:///x/y.sock"},
		{"", `{"currentContext":"nowhere"}`, "error"}, {"", `{"currentContext":"empty"}`, "error"}, {"", `{`, "error"},
	} {
		variables := map[string]string{}
		for _, pair := range strings.Fields(each.variables) {
			name, value, _ := strings.Cut(pair, "=")
			variables[name] = value
		}
		_ = os.Remove(filepath.Join(home, ".docker", "config.json"))
		if each.config != "" {
			write(".docker/config.json", each.config)
		}
		w := container.World{Home: home, Env: func(name string) (string, bool) {
			text, ok := variables[name]
			return text, ok
		}, Sockets: []string{"/nowhere", socket, socket}}
		list, err := w.Engines()
		got := "error"
		if err == nil {
			got = list[0].URL
			if list[0].Far() {
				got += " far"
			}
			if list[0].TLS {
				got += " tls"
			}
		}
		if got != each.want || len(list) > 1 {
			t.Errorf("%s %s: %q, and %q was expected (%v)", each.variables, each.config, got, each.want, err)
		}
		if err != nil && strings.Contains(err.Error(), ":pw@") {
			t.Errorf("a password is shown: %v", err)
		}
	}
	_ = os.Remove(filepath.Join(home, ".docker", "config.json"))
	if _, err := (container.World{Home: home, Sockets: []string{"/nowhere"}}).Engines(); !errors.Is(err,
		container.ErrNone) {
		t.Errorf("%v", err)
	}
	must(t, os.WriteFile(filepath.Join(home, ".docker", "config.json"), []byte(`{"currentContext":"far"}`), 0o666))
	must(t, os.Chmod(filepath.Join(home, ".docker", "config.json"), 0o666))
	if _, err := (container.World{Home: home, Sockets: []string{socket}}).Engines(); err == nil {
		t.Error("a file that anybody can write chooses the engine")
	}
}

// TestWhoIsBelieved says of which engines it is sure that they are this machine's own, and that
// one engine has one identity.
func TestWhoIsBelieved(t *testing.T) {
	for _, each := range []struct {
		e           container.Engine
		local, sure bool
	}{
		{container.Engine{URL: "unix:///run/x.sock"}, true, true},
		{container.Engine{URL: "npipe:////./pipe/x"}, true, true},
		{container.Engine{URL: "ssh://h"}, false, false},
		{container.Engine{URL: "tcp://127.0.0.1:2375"}, true, false},
		{container.Engine{URL: "tcp://127.0.0.1:2376", TLS: true}, true, true},
		{container.Engine{URL: "tcp://127.0.0.1:2376", TLS: true, Unchecked: true}, true, false},
		{container.Engine{URL: "tcp://10.0.0.1:2376", TLS: true}, false, false},
	} {
		if each.e.Local() != each.local || each.e.Sure() != each.sure {
			t.Errorf("%+v: local %v, sure %v", each.e, each.e.Local(), each.e.Sure())
		}
	}
	_, at := practice(t)
	link := filepath.Join(t.TempDir(), "link.sock")
	must(t, os.Symlink(strings.TrimPrefix(at.URL, "unix://"), link))
	if linked := (container.Engine{URL: "unix://" + link}); linked.ID() != at.ID() {
		t.Errorf("%s and %s", linked.ID(), at.ID())
	}
}

// TestAFrameOfFourGigabytes has an engine say that 4 GB follow: nothing makes room for them.
func TestAFrameOfFourGigabytes(t *testing.T) {
	c := hut()
	c.State, c.Log = "exited", []string{"first"}
	e, at := practice(t, c)
	e.Misbehave(standin.EngineFaults{Frame: 0xffffffff})
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, _, p := locate(t, "hutdb", at)
	runtime.ReadMemStats(&after)
	if p == nil || p.Code != finding.ContainerStopped {
		t.Errorf("%v", p)
	}
	if grown := after.TotalAlloc - before.TotalAlloc; grown > 64<<20 {
		t.Errorf("%d MB were made for it", grown>>20)
	}
}

// TestHidden masks what a container's variables hold.
func TestHidden(t *testing.T) {
	c := hut()
	c.Env = append(c.Env, "API_TOKEN=tok-1", "DB_URL=postgres://u:urlpw@h/x", "PLAIN=seen")
	_, at := practice(t, c)
	_, l, _ := locate(t, "hutdb", at)
	var values []string
	for _, each := range l.Last().Hidden() {
		values = append(values, each.Reveal())
	}
	slices.Sort(values)
	if got := strings.Join(values, " "); got != canary+" tok-1 urlpw" {
		t.Errorf("%q", got)
	}
	if text := fmt.Sprintf("%v %+v", l.Last().Accounts(),
		slices.Collect(maps.Keys(l.Last().Variables()))); strings.Contains(text, canary) {
		t.Error("a password is printed")
	}
}

func digestOf(name string) string {
	sum := sha256.Sum256([]byte(name))
	return hex.EncodeToString(sum[:])
}

// defined is the definition of the practice container at an engine.
func defined(engine string) target.Definition {
	return target.ContainerFacts{Engine: engine, Repository: "docker.io/library/postgres", Start: []string{""}}.Define()
}
