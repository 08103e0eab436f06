package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/realtest"
	"gentle-harbor/internal/standin"
)

// realEngine is a real container engine, on a socket of the test's own.
type realEngine struct{ *realtest.Engine }

// startEngine starts one, with the images postgres:test and mariadb:test in it.
func startEngine(t *testing.T, name string) *realEngine {
	t.Helper()
	return &realEngine{realtest.StartEngine(t, name, "../../scripts/container-image", realFolder)}
}

// start makes a container with a server in it.
func (e *realEngine) start(name, image string, args ...string) {
	e.Helper()
	all := append([]string{"run", "-d", "--name", name}, e.More...)
	if image == "postgres" {
		all = append(all, "-e", "POSTGRES_USER=warden_app", "-e", "POSTGRES_PASSWORD="+canary, "-e", "POSTGRES_DB=bunkhouse")
	} else {
		all = append(all, "-e", "MARIADB_USER=warden_app", "-e", "MARIADB_PASSWORD="+canary, "-e",
			"MARIADB_DATABASE=bunkhouse", "-e", "MARIADB_ROOT_PASSWORD=root-"+canary)
	}
	e.Do(append(append(all, args...), image+":test")...)
}

// TestRealContainerEngines goes the whole way with two real engines, each with real servers in
// its containers.
func TestRealContainerEngines(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"docker", "podman"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			e := startEngine(t, name)
			w := newWorld(t, "DOCKER_HOST=unix://"+e.Socket)
			e.start("hutdb", "postgres", "-p", "127.0.0.1::5432", "-v", "hutdata:/var/lib/postgresql/data")
			e.start("ledger", "mariadb", "-p", "127.0.0.1::3306")
			e.start("nopub", "postgres")
			e.start("alone", "postgres", "--network", "none")
			e.start("slow", "postgres", "-p", "127.0.0.1::5432", "-e", "SETUP_SECONDS=4")
			e.Do(append(append([]string{"create", "--name", "never"}, e.More...), "postgres:test")...)

			// What is here, and profiles of it.
			r := w.must(0, "find", "--only", "containers")
			has(t, r.out, "new       containers/hutdb  postgres, running", "containers/ledger  mariadb",
				"containers/nopub", "containers/alone", "containers/never  postgres, created")
			r = w.run("find", "--only", "containers", "--add", "containers/hutdb", "containers/ledger",
				"containers/nopub", "containers/slow")
			has(t, r.out, "Saved containers/hutdb", "Saved containers/slow")
			if strings.Contains(r.out+r.err, canary) {
				t.Error("a password is shown")
			}
			if name == "docker" { // it accepts where nothing listens yet; the other refuses
				has(t, r.out, "container.setting-up")
			}
			w.must(0, "await", "containers/", "--for", "30s", "--every", "200ms")
			has(t, w.must(0, "find", "--only", "containers").out, "the profile containers/hutdb leads there already")
			has(t, w.must(0, "test", "containers/nopub").out, "no port is published, and its address")
			has(t, w.must(0, "test", "containers/ledger").out, "MariaDB", "has no volume")
			w.must(0, "test", "containers/hutdb")
			outOfReach(t, w, e)

			// Stopped, paused, made anew on another port, and with another password over the old data.
			e.Do("pause", "nopub")
			w.fails("container.paused", "containers/nopub")
			e.Do("unpause", "nopub")
			e.Do("stop", "-t", "2", "hutdb")
			f := w.fails("container.stopped", "containers/hutdb")
			has(t, fmt.Sprint(f.Seen), "its log:")
			e.Do("rm", "hutdb")
			has(t, fmt.Sprint(w.fails("container.unknown", "containers/hutdb").Seen), "there are:")
			w.fails("container.not-started", "containers/hutdb", "--container", "never")
			w.fails("container.other-engine", "containers/hutdb", "--container", "ledger")
			time.Sleep(1100 * time.Millisecond) // the engines' times have seconds
			e.start("hutdb", "postgres", "-p", "127.0.0.1::5432", "-v", "hutdata:/var/lib/postgresql/data",
				"-e", "POSTGRES_PASSWORD=another-"+canary)
			until(t, "hutdb", "", func() bool { return strings.Contains(w.run("test", "containers/hutdb").out, "login") })
			w.run("await", "containers/hutdb", "--for", "5s")
			f = w.fails("login.first-start-only", "containers/hutdb")
			has(t, fmt.Sprint(tries(f)), "--secret ask", `alter user "warden_app"`)

			// No way in but the engine's.
			w.fails("container.port-not-published", "containers/nopub", "--container", "alone")
			inside := "{name: alone, reach: exec}"
			out := w.must(0, "test", "containers/nopub", "--container", inside).out
			has(t, out, "reached from inside", "no password asked for", "own loopback address")
			streams(t, w, e, inside)

			if name == "docker" {
				unhealthy(t, w, e)
			}
			otherEngine(t, w, e)
			emptied(t, w, e)
		})
	}
}

// emptied makes a container without a volume anew: what was in it is gone, and each command that
// fails says so.
func emptied(t *testing.T, w *world, e *realEngine) {
	t.Helper()
	w.must(0, "test", "containers/nopub")
	e.Do("rm", "-f", "nopub")
	time.Sleep(1100 * time.Millisecond) // the engines' times have seconds
	e.start("nopub", "postgres", "-e", "POSTGRES_DB=another")
	until(t, "nopub", "", func() bool {
		return strings.Contains(w.run("test", "containers/nopub").out, "database.missing")
	})
	for _, args := range [][]string{{"test", "containers/nopub"}, {"run", "containers/nopub", "select 1"},
		{"await", "containers/nopub", "--for", "1s"}} {
		r := w.must(7, args...)
		has(t, r.out+r.err, "This is another server than at the last good test",
			"the container was made anew at", "after the last good test, and has no volume")
	}
	f := w.fails("login.refused", "containers/nopub", "--user", "nobody", "--secret", "env:HOME", "--database", "another")
	has(t, fmt.Sprint(f.Seen), "made anew")
}

// outOfReach has this machine's network lead elsewhere than to its own container, as a VPN with
// the same addresses does.
func outOfReach(t *testing.T, w *world, e *realEngine) {
	t.Helper()
	at := strings.TrimSpace(e.Do("inspect", "-f", "{{range .NetworkSettings.Networks}}{{.IPAddress}}{{end}}",
		"nopub")) + "/32"
	tool(t, "ip")
	must(t, exec.Command("ip", "route", "add", "unreachable", at).Run())
	defer func() { must(t, exec.Command("ip", "route", "del", "unreachable", at).Run()) }()
	f := w.fails("port.unreachable", "containers/nopub")
	has(t, fmt.Sprint(tries(f)), "reach: exec}")
	if all := fmt.Sprint(tries(f)); strings.Contains(all, "people who run") {
		t.Errorf("nobody else runs a container of your own: %s", all)
	}
	out := w.must(0, "test", "containers/nopub", "--container", "{name: nopub, reach: exec}").out
	has(t, out, "reached from inside")
}

// streams opens many streams, some of them broken, and looks for what is left of them in the
// container.
func streams(t *testing.T, w *world, e *realEngine, inside string) {
	t.Helper()
	whole, broken := "94", 6
	if e.Name == "podman" {
		whole, broken = "14", 3
	}
	cmd := w.command("test", "containers/nopub", "--container", inside, "--repeat", whole, "--timeout", "20s", "--json")
	out, err := cmd.Output()
	var spread struct{ Times, Failed int }
	if err != nil || json.Unmarshal(out, &spread) != nil || spread.Failed > 0 || fmt.Sprint(spread.Times) != whole {
		t.Errorf("%v\n%.2000s", err, out)
	}
	for range broken {
		cmd := w.command("run", "containers/nopub", "--container", inside, "select pg_sleep(1)")
		must(t, cmd.Start())
		time.Sleep(400 * time.Millisecond)
		_ = cmd.Process.Kill() // in the middle
		_ = cmd.Wait()
	}
	count := func() (left []string) {
		// The image has no ps; the shell's own words list the processes.
		for line := range strings.Lines(e.Do("exec", "alone", "bash", "-c",
			`for f in /proc/[0-9]*/cmdline; do tr=$(cat $f 2>/dev/null | while IFS= read -r -d "" w; do printf "%s " "$w"; done); echo "$tr"; done`)) {
			if line = strings.TrimSpace(line); strings.HasPrefix(line, "cat") &&
				!strings.Contains(line, "/proc/") ||
				strings.Contains(line, "/dev/tcp") && !strings.Contains(line, "for f in") {
				left = append(left, line)
			}
		}
		return left
	}
	for range 30 {
		if len(count()) == 0 {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	if left := count(); len(left) > 0 {
		t.Errorf("%d processes of streams are left: %.300q", len(left), left)
	}
	if log := e.Do("logs", "alone"); strings.Contains(log, "was terminated by signal") {
		t.Errorf("a stream's end made the server restart:\n%s", log)
	}
}

// unhealthy has a container whose health check fails: that gates nothing, and explains a failure.
func unhealthy(t *testing.T, w *world, e *realEngine) {
	t.Helper()
	e.start("sick", "postgres", "-p", "127.0.0.1::5432",
		"--health-cmd", "echo the stove is cold "+canary+"; exit 1", "--health-interval", "1s",
		"--health-retries", "1")
	w.must(0, "await", "containers/hutdb", "--container", "sick", "--for", "20s")
	until(t, "the health check", "", func() bool { return strings.Contains(e.Do("ps"), "unhealthy") })
	has(t, w.must(0, "test", "containers/hutdb", "--container", "sick").out, "(unhealthy)")
	f := w.fails("database.missing", "containers/hutdb", "--container", "sick", "--database", "none")
	has(t, fmt.Sprint(f.Seen), "its health check says unhealthy: the stove is cold [secret]")
	e.Do("kill", "--signal", "STOP", "sick") // the server is stopped
	f = w.fails("greeting.silent", "containers/hutdb", "--container", "sick", "--timeout", "1s")
	has(t, fmt.Sprint(f.Seen), "unhealthy")
}

// otherEngine reaches the engine through its API on a TCP port, and one of two that are there.
func otherEngine(t *testing.T, w *world, e *realEngine) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				server, err := net.Dial("unix", e.Socket)
				if err != nil {
					_ = conn.Close()
					return
				}
				go func() { _, _ = io.Copy(server, conn); _ = server.Close() }()
				_, _ = io.Copy(conn, server)
				_ = conn.Close()
			}()
		}
	}()
	other := *w
	other.environ = append(slices.Clone(w.environ[:len(w.environ)-1]), "DOCKER_HOST=tcp://"+listener.Addr().String())
	has(t, other.must(0, "test", "containers/ledger").out, "engine: tcp://"+listener.Addr().String())
	other.environ[len(other.environ)-1] = "DOCKER_HOST=unix:///nowhere/e.sock"
	other.fails("container.engine-not-running", "containers/ledger")
}

// TestBenchContainer looks one up among 200: at most 20 ms over the engine's own answer.
func TestBenchContainer(t *testing.T) {
	measured(t)
	e := startEngine(t, "docker")
	e.start("hutdb", "postgres", "-p", "127.0.0.1::5432")
	for i := range 200 {
		e.Do("create", "--name", fmt.Sprintf("c%d", i), "postgres:test")
	}
	w := newWorld(t, "DOCKER_HOST=unix://"+e.Socket)
	w.must(0, "add", "c", "--engine", "postgres", "--container", "hutdb", "--user", "warden_app", "--secret", "container")
	w.must(0, "await", "c", "--for", "20s")
	client := http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _,
		_ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", e.Socket)
	}}}
	var bare, ours []time.Duration
	for range 15 {
		began := time.Now()
		answer, err := client.Get("http://engine/v1.41/containers/hutdb/json")
		must(t, err)
		_ = answer.Body.Close()
		bare = append(bare, time.Since(began))
		for _, leg := range w.report("c").Legs {
			if leg.Name == "container" {
				ours = append(ours, time.Duration(leg.MS*float64(time.Millisecond)))
			}
		}
	}
	slices.Sort(bare)
	slices.Sort(ours)
	t.Logf("BENCH container among 200: %s over the engine's own answer of %s", ours[7]-bare[7], bare[7])
	if over := ours[7] - bare[7]; over > 20*time.Millisecond {
		t.Errorf("looking a container up takes %s over the engine's own answer", over)
	}
}

// TestWhoseEngineItIs meets a socket that another account's process answers at, and one that this
// account may not use.
func TestWhoseEngineItIs(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		missing(t, "root, to be two accounts")
	}
	w := newWorld(t)
	folder, err := os.MkdirTemp("", "ghe")
	must(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	must(t, os.Chmod(folder, 0o777))
	path := filepath.Join(folder, "e.sock")
	another(t, path)
	w.must(0, "add", "c", "--engine", "postgres", "--container", "hutdb", "--user", "u", "--secret", "container")
	w.environ = append(w.environ, "DOCKER_HOST=unix://"+path)
	f := w.fails("container.engine-stranger", "c")
	has(t, f.Cause, "54321")
	if _, err := os.Stat(path + ".said"); err == nil {
		t.Error("something was sent")
	}
	// A socket of root's, for a group alone.
	shut := filepath.Join(folder, "shut.sock")
	engine, err := standin.StartEngine(shut)
	must(t, err)
	t.Cleanup(engine.Close)
	must(t, os.Chmod(shut, 0o660))
	group, err := user.LookupGroup("daemon")
	must(t, err)
	gid, _ := strconv.Atoi(group.Gid)
	must(t, os.Chown(shut, 0, gid))
	home := filepath.Join(folder, "home")
	must(t, os.Mkdir(home, 0o700))
	who, err := user.Lookup("nobody")
	must(t, err)
	uid, _ := strconv.Atoi(who.Uid)
	own, _ := strconv.Atoi(who.Gid)
	must(t, os.Chown(home, uid, own))
	must(t, os.Chmod(folder, 0o755))
	for _, args := range [][]string{{"add", "c", "--engine", "postgres", "--container", "hutdb", "--user", "u",
		"--secret", "container"}, {"test", "c"}} {
		cmd := as("nobody", exec.Command(gharbor, args...))
		cmd.Env = append(cmd.Env, "HOME="+home, "GHARBOR_HOME="+home+"/g", "DOCKER_HOST=unix://"+shut)
		out, _ := cmd.CombinedOutput()
		if args[0] == "test" {
			has(t, string(out), "container.engine-not-permitted", "for the group daemon", "usermod -aG daemon")
		}
	}
}
