//go:build unix

package main

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/errno"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/realtest"
	"gentle-harbor/internal/standin"
)

const canary = "canary-5b2f-Secret"

// gharbor is the built program's path.
var gharbor string

// testLinked is what the tests' build has besides: a passphrase costs milliseconds instead of a
// second and a half. TestReleasedWork builds the program as it is released.
const testLinked = "-X main.walletWork=10"

// races is where the race detector writes what it finds, "" where it is not asked.
var races string

func TestMain(m *testing.M) {
	if path := os.Getenv("GHARBOR_TEST_SOCKET"); path != "" {
		os.Exit(serveSocket(path))
	}
	os.Exit(func() int {
		folder, err := os.MkdirTemp("", "gharbor-test-")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer os.RemoveAll(folder)
		if err := os.Chmod(folder, 0o755); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		gharbor = filepath.Join(folder, "gharbor")
		build := exec.Command("go", "build", "-ldflags", testLinked, "-o", gharbor, ".")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if os.Getenv("RACE") != "" { // the program itself under the race detector, see scripts/fuzz
			build = exec.Command("go", "build", "-race", "-ldflags", testLinked, "-o", gharbor, ".")
			build.Env = append(os.Environ(), "CGO_ENABLED=1")
			races = filepath.Join(folder, "race")
		}
		if out, err := build.CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "%v\n%s", err, out)
			return 1
		}
		realFolder = folder
		defer realtest.Stop()
		code := m.Run()
		if found, _ := filepath.Glob(races + ".*"); races != "" && len(found) > 0 {
			for _, file := range found {
				data, _ := os.ReadFile(file)
				fmt.Fprintf(os.Stderr, "%s\n", data)
			}
			return 1
		}
		return code
	}())
}

// world is a folder of profiles and an environment in which the program is run.
type world struct {
	*testing.T
	home    string
	environ []string
	stdin   string
}

func newWorld(t *testing.T, environ ...string) *world {
	home := t.TempDir()
	if races != "" {
		environ = append([]string{"GORACE=exitcode=0 log_path=" + races}, environ...)
	}
	return &world{T: t, home: home, environ: append([]string{
		"GHARBOR_HOME=" + filepath.Join(home, "gharbor"), "HOME=" + home, "PATH=" + os.Getenv("PATH"),
	}, environ...)}
}

// result is what a run of the program left.
type result struct {
	out, err string
	code     int
	took     time.Duration
	peak     int64 // bytes
}

func (w *world) command(args ...string) *exec.Cmd {
	cmd := exec.Command(gharbor, args...)
	cmd.Dir, cmd.Env = w.home, w.environ
	return cmd
}

func (w *world) run(args ...string) result {
	w.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, gharbor, args...)
	cmd.Dir, cmd.Env, cmd.Stdin = w.home, w.environ, strings.NewReader(w.stdin)
	return w.finish(cmd)
}

// forget gives back what this process no longer needs: Linux counts the peak of whoever starts a
// program as that program's.
func forget() {
	data, err := os.ReadFile("/proc/self/statm")
	var whole, resident int
	if _, e := fmt.Sscan(string(data), &whole, &resident); err != nil || e != nil || resident*os.Getpagesize() < 50<<20 {
		return
	}
	debug.FreeOSMemory()
	_ = os.WriteFile("/proc/self/clear_refs", []byte("5"), 0) // proc(5): resets the peak
}

func (w *world) finish(cmd *exec.Cmd) result {
	w.Helper()
	forget()
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	began := time.Now()
	_ = cmd.Run()
	r := result{out: out.String(), err: errs.String(), took: time.Since(began), code: -1}
	if cmd.ProcessState == nil {
		w.Fatalf("%v did not start", cmd.Args)
	}
	r.code = cmd.ProcessState.ExitCode()
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		r.peak = usage.Maxrss << 10
	}
	if strings.Contains(r.out+r.err, "goroutine ") {
		w.Errorf("%v leaves a stack trace:\n%s%s", cmd.Args, r.out, r.err)
	}
	return r
}

// must runs the program and requires an exit code.
func (w *world) must(code int, args ...string) result {
	w.Helper()
	r := w.run(args...)
	if r.code != code {
		w.Fatalf("gharbor %s: exit %d instead of %d\n%s%s", strings.Join(args, " "), r.code, code, r.out, r.err)
	}
	return r
}

// report runs a test with --json and gives its only report.
func (w *world) report(args ...string) *checkup.Report {
	w.Helper()
	r := w.run(append([]string{"test", "--json"}, args...)...)
	var all struct{ Profiles []*checkup.Report }
	if err := json.Unmarshal([]byte(r.out), &all); err != nil || len(all.Profiles) != 1 {
		w.Fatalf("test %v: %v\n%s%s", args, err, r.out, r.err)
	}
	if all.Profiles[0].Exit != r.code {
		w.Errorf("test %v: exit %d, and %d in the report", args, r.code, all.Profiles[0].Exit)
	}
	return all.Profiles[0]
}

// fails runs a test that must fail with a finding.
func (w *world) fails(code string, args ...string) *finding.Finding {
	w.Helper()
	r := w.report(args...)
	if r.Finding == nil || string(r.Finding.Code) != code || r.Exit != r.Finding.Exit() || r.OK {
		w.Errorf("test %v: %+v (exit %d) instead of %s", args, r.Finding, r.Exit, code)
		return &finding.Finding{}
	}
	return r.Finding
}

func (w *world) write(name, text string) string {
	w.Helper()
	path := filepath.Join(w.home, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		w.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		w.Fatal(err)
	}
	return path
}

// practice starts a practice server with the accounts of these tests.
func practice(t *testing.T, config standin.Config) *standin.Server {
	t.Helper()
	config.Accounts = map[string]string{"warden_app": canary, "steward": "other"}
	config.Superuser = cmp.Or(config.Superuser, "steward")
	s, err := standin.Start(config)
	// a connection of another test's has the port for a moment
	for end := time.Now().Add(10 * time.Second); config.Address != "" && errno.Is(err, errno.InUse) &&
		time.Now().Before(end); {
		time.Sleep(50 * time.Millisecond)
		s, err = standin.Start(config)
	}
	must(t, err)
	t.Cleanup(s.Close)
	return s
}

func has(t *testing.T, text string, parts ...string) {
	t.Helper()
	for _, part := range parts {
		if !strings.Contains(text, part) {
			t.Errorf("%q is missing in:\n%s", part, text)
		}
	}
}

func TestAddListShowTestRunSurveyRemove(t *testing.T) {
	for _, engine := range []string{"postgres", "mariadb", "mysql"} {
		s := practice(t, standin.Config{Engine: engine})
		w := newWorld(t, "HUT_PW="+canary)
		port := fmt.Sprint(s.Port())
		w.must(0, "add", "huts/local", "--engine", engine, "--host", "127.0.0.1", "--port", port,
			"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:HUT_PW", "--test")
		has(t, w.must(0, "list").out, "name", "engine", "server", "database", "user", "secret", "env:HUT_PW")
		r := w.report("huts/local")
		if !r.OK || r.Target.Port != s.Port() || r.Server.Database != "bunkhouse" || r.Server.Account == "" {
			t.Errorf("%+v %+v", r, r.Server)
		}
		has(t, w.must(0, "test", "huts/local").out, "ok      login", "You are in", "not a superuser")
		has(t, w.must(0, "run", "huts/local", "select name, height from hut order by height").out, "Swallow Barn", "455")
		var all struct {
			Results []struct {
				Columns []string
				Rows    [][]any
			}
		}
		if err := json.Unmarshal([]byte(w.must(0, "run", "huts/local",
			"--json", "select centimetres, hut_id from snow_depth order by hut_id desc").out),
			&all); err != nil || len(all.Results) != 1 {
			t.Fatal(err)
		}
		rows := all.Results[0]
		if fmt.Sprint(rows.Columns, rows.Rows) != "[centimetres hut_id] [[<nil> 4] [17 3] [0 2] [4 1]]" {
			t.Errorf("run --json: %v %v", rows.Columns, rows.Rows)
		}
		if out := w.must(0, "run", "huts/local", "--as", "csv",
			"select name as n, 'a,\"b' as q from hut where id = 1").out; out != "n,q\nGreystone,\"a,\"\"b\"\n" {
			t.Errorf("run --as csv: %q", out)
		}
		has(t, w.must(0, "run", "huts/local",
			"insert into booking values (9, 11, 'E. Beck', '2027-01-01')").out, "1 row changed")
		has(t, w.must(0, "run", "huts/local", "select guest from booking where id > 100").out, "guest")
		w.stdin = "select 42 as answer"
		has(t, w.must(0, "run", "huts/local", "-").out, "answer", "42")
		w.stdin = ""
		has(t, w.must(0, "survey", "huts/local", "databases").out, "bunkhouse", "open now", "yes")
		broken := w.run("run", "huts/local", "select * from nowhere", "--json")
		var failed struct{ Finding finding.Finding }
		if err := json.Unmarshal([]byte(broken.out), &failed); err != nil ||
			failed.Finding.Code != "query.no-such-object" || broken.code != 7 {
			t.Errorf("a failed statement: %v %d %s", err, broken.code, broken.out)
		}
		has(t, w.must(2, "remove", "huts/local").err, "--yes")
		w.must(0, "remove", "huts/local", "--yes")
		has(t, w.must(3, "show", "huts/local").err, "no profile huts/local")
	}
}

func TestAddWithoutATerminal(t *testing.T) {
	w := newWorld(t, "HUT_PW="+canary)
	s := practice(t, standin.Config{Engine: "postgres"})
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{2, "--engine ENGINE, --user NAME", []string{"a"}},
		{2, "no flag takes a password", []string{"a", "--password", canary}},
		{2, "1 to 65535", []string{"a", "--port", "70000"}},
		{2, "not a reference to a secret", []string{"a", "--secret", canary}},
		{3, "not a port", []string{"a", "postgres://u:" + canary + "@h:x/d"}},
		{3, "contradict each other", []string{"a", "--engine", "mysql", "--user", "u", "--host", "h", "--socket", "/s"}},
		{5, "was not saved", []string{"a", "postgres://u@127.0.0.1:1", "--secret", "none", "--test"}},
		{6, "login.refused", []string{"a",
			fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", s.Port()), "--secret", "empty", "--test"}},
	} {
		r := w.must(c.code, append([]string{"add"}, c.args...)...)
		has(t, r.err, c.says)
		if strings.Contains(r.out+r.err, canary) {
			t.Errorf("add %v shows the password", c.args[1:])
		}
	}
	if names := w.must(0, "list").out; !strings.Contains(names, "No profiles yet") {
		t.Errorf("something was saved:\n%s", names)
	}
	w.stdin = fmt.Sprintf("postgres://warden_app:%s@127.0.0.1:%d/bunkhouse\n", canary, s.Port())
	r := w.must(0, "add", "c", "-", "--test")
	has(t, r.err, "password in the connection string was not saved")
	has(t, w.must(0, "test", "-").out, "You are in")
}

func TestOverridesAndVariables(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "HUT_PW="+canary)
	w.must(0, "add", "huts/local", "--engine", "postgres", "--host", "127.0.0.1", "--port", "1",
		"--user", "nobody", "--database", "bunkhouse", "--secret", "env:HUT_PW")
	w.fails("port.refused", "huts/local")
	has(t, w.must(0, "test", "--port", fmt.Sprint(s.Port()), "huts/local", "--user", "warden_app").err,
		"for this run, huts/local has port", "(--user)")
	w.environ = append(w.environ, "GHARBOR_PORT="+fmt.Sprint(s.Port()), "GHARBOR_USER=warden_app",
		"GHARBOR_PROFILE=huts/local", "GHARBOR_PROT=1")
	r := w.must(0, "test")
	has(t, r.err, "GHARBOR_PORT", "GHARBOR_PROT has no meaning here; did you mean GHARBOR_PORT?")
	has(t, w.must(2, "test", "huts/local", "huts/local").err, "would change every profile")
	has(t, w.must(0, "show").out, "environment GHARBOR_PORT")
	w.environ = append(w.environ, "GHARBOR_PORT=99999")
	has(t, w.must(3, "test").err, "GHARBOR_PORT")
}

func TestBrokenFiles(t *testing.T) {
	for _, c := range []struct {
		name, text, place string
	}{
		// More of them are in the tests of internal/profile.
		{"unknown key", "engine: postgres\nuser: a\nprot: 1\n", "bad.yaml:3:"},
		{"junk", strings.Repeat("\x00junk", 2<<20), "bad.yaml:1:"},
		{"junk text", strings.Repeat("junk: junk\n", 1<<20), "bad.yaml:1:"},
		{"alias bomb", "a: &a [x,x]\nb: &b [*a,*a]\nc: [*b,*b]\n", "bad.yaml:1:"},
		{"password", "engine: postgres\npassword: " + canary + "\n", "bad.yaml:2:"},
	} {
		w := newWorld(t)
		w.must(0, "add", "good", "--engine", "mysql", "--user", "a")
		path := w.write("gharbor/profiles/bad.yaml", c.text)
		for _, args := range [][]string{{"show", "bad"}, {"test", "bad"}, {"run", "bad", "select 1"}, {"list"},
			{"add", "bad", "mysql://u@h"}} {
			r := w.run(args...)
			if want := map[bool]int{true: 0, false: 3}[args[0] == "list"]; r.code != want { // a list with a broken row is a list
				t.Errorf("%s: %v: exit %d\n%s%s", c.name, args, r.code, r.out, r.err)
			}
			if args[0] != "add" {
				has(t, r.err, c.place)
			}
			if args[0] == "list" {
				has(t, r.out, "good", "(broken)")
			}
			if r.took > 5*time.Second || r.peak > 100<<20 {
				t.Errorf("%s: %v took %s and %d MB", c.name, args, r.took, r.peak>>20)
			}
			if strings.Contains(r.out+r.err, canary) {
				t.Errorf("%s: %v shows the password", c.name, args)
			}
		}
		if kept, err := os.ReadFile(path); err != nil || string(kept) != c.text {
			t.Errorf("%s: the file was changed", c.name)
		}
	}
}

func TestUsage(t *testing.T) {
	w := newWorld(t)
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{0, "passwords and trust", nil}, {0, "passwords and trust", []string{"help"}},
		{0, "passwords and trust", []string{"--help"}},
		{0, "Passwords and trust:", []string{"help", "--all"}},
		{0, "GHARBOR_PORT", []string{"help", "settings"}},
		{0, "GHARBOR_OWNER", []string{"help", "environment"}},
		{0, "130  interrupted", []string{"help", "exit"}},
		{2, "did you mean exit?", []string{"help", "exits"}},
		{2, "leave out test", []string{"help", "test", "--all"}}, {0, "0.1.0", []string{"version"}},
		{0, "0.1.0", []string{"--version"}},
		{0, "Examples:", []string{"help", "test"}}, {0, "Examples:", []string{"add", "--help"}},
		{2, "did you mean test?", []string{"tset"}}, {2, "no command", []string{"help", "xyzzy"}},
		{2, "no flag --xyzzy", []string{"list", "--xyzzy"}},
		{2, "needs a value", []string{"test", "a", "--port"}}, {2, "needs the name", []string{"test"}},
		{2, "one name", []string{"show", "a", "b"}},
		{2, "table, csv, tsv, json, jsonl or bare", []string{"run", "a", "b", "--as", "xml"}},
		{2, "did you mean tables?", []string{"survey", "a", "tabels"}},
		{3, "none yet at all", []string{"test", "a"}}, {3, "gharbor add a", []string{"show", "a"}},
		{2, "write NAME=VALUE", []string{"test", "a", "--option", "x"}},
	} {
		r := w.must(c.code, c.args...)
		has(t, r.out+r.err, c.says)
	}
	if lines := strings.Count(w.must(0, "help").out, "\n"); lines > 30 {
		t.Errorf("the help has %d lines", lines)
	}
	for _, legs := range checkup.LegNames {
		has(t, w.must(0, "help", "test").out, legs)
	}
	has(t, w.must(0, "help", "--man", "pages/man1").out, "Wrote ", " manual pages to ")
	pages, err := os.ReadDir(filepath.Join(w.home, "pages/man1"))
	if err != nil || len(pages) < 70 {
		t.Errorf("%d manual pages, %v", len(pages), err)
	}
	for _, page := range []string{"gharbor", "gharbor-test", "gharbor-wallet-add"} {
		text, err := os.ReadFile(filepath.Join(w.home, "pages/man1", page+".1"))
		if err != nil || !strings.HasPrefix(string(text), ".TH "+strings.ToUpper(page)+" 1 ") {
			t.Errorf("%s: %.60s, %v", page, text, err)
		}
	}
	w.write("full", "")
	has(t, w.must(3, "help", "--man", "full").err, "could not be made")
}

// TestDemo shows every chapter: each ends well, shows what it is for and no password, and leaves
// nothing. The main one is short.
func TestDemo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	temp := t.TempDir()
	w.environ = append(w.environ, "TMPDIR="+temp)
	chapters := map[string][]string{
		"":           {"You are in", "port.refused", "secret.bound-elsewhere", "Old Quarry"},
		"secrets":    {"login.refused", "tls.not-trusted", "login.would-show-password", "encrypted     yes", "Looked at"},
		"hops":       {"tunnel.host-key-unknown", "You are in", "closed after 1s"},
		"aliases":    {"skipped", "hides", "DATABASE_URL="},
		"containers": {"huts-db-1 runs", "container.stopped"},
		"cloud":      {"cloud.not-admitted", "the server greets", "Signed out of fellside"},
	}
	var everything []string
	for name, shows := range chapters {
		everything = append(everything, shows...)
		if name != "" && name != "aliases" {
			continue // they are part of --all below
		}
		r := w.must(0, append([]string{"demo"}, strings.Fields(name)...)...)
		has(t, r.out, append(shows, "its servers and files are gone")...)
		for other := range chapters {
			if other != "" && strings.Contains(r.out, "gharbor demo "+other+" ") != (other != name) {
				t.Errorf("%q does not name the other chapters: %s", name, other)
			}
		}
		if lines := strings.Count(r.out, "\n"); name == "" && lines >= 250 {
			t.Errorf("the main chapter has %d lines", lines)
		}
		if strings.Contains(r.out+r.err, "ropes-and-lanterns") || strings.Contains(r.out+r.err, "lamp lit") {
			t.Errorf("%s shows a password", name)
		}
	}
	all := w.must(0, "demo", "--all")
	has(t, all.out, everything...)
	for name := range chapters {
		has(t, all.out, strings.TrimSpace("Chapter "+name)+": ")
	}
	for line, says := range map[string]string{
		"hop": "did you mean hops?", "nothing": "the chapters are secrets, hops",
		"--all secrets": "leave out secrets", "--stay secrets": "neither a chapter nor --all",
		"--stay --all":    "neither a chapter nor --all",
		"--settings x.sh": "--settings needs --stay", "secrets hops": "no chapter",
	} {
		has(t, w.must(2, append([]string{"demo"}, strings.Fields(line)...)...).err, says)
	}
	left, err := os.ReadDir(temp)
	if err != nil || len(left) > 0 {
		t.Errorf("it leaves %v behind, %v", left, err)
	}
	if _, err := os.Stat(filepath.Join(w.home, "x.sh")); err == nil {
		t.Error("settings were written")
	}
}

// tries gives a finding's remedies as they are printed.
func tries(f *finding.Finding) []string {
	var lines []string
	for _, remedy := range f.Try {
		lines = append(lines, remedy.String())
	}
	return lines
}

// TestVersion shows what the program is, and the commit that it was built from where Go noted it;
// a release file's is looked at where it is built (.ci/run).
func TestVersion(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	out := w.must(0, "version").out
	if !regexp.MustCompile(`^gharbor [0-9.]+ \((commit [0-9a-f]{12} of \d{4}-\d\d-\d\d( with changes)?, )?go[0-9a-z.]+, [a-z]+/[a-z0-9]+\)\n$`).MatchString(out) {
		t.Error(out)
	}
}

// TestARelativeHome refuses a home that is no whole path, instead of taking another.
func TestARelativeHome(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.environ = []string{"HOME=here/there", "PATH=" + os.Getenv("PATH")}
	has(t, w.must(3, "list").err, "HOME is here/there, and must be a whole path")
	has(t, w.must(3, "add", "a", "--engine", "mysql", "--host", "h").err, "HOME is here/there")
}

// TestOneNoteForMany prints once what a flag changes for several profiles.
func TestOneNoteForMany(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for _, name := range []string{"g/a", "g/b", "g/c"} {
		w.must(0, "add", name, "--engine", "postgres", "--host", "127.0.0.1", "--port", "1", "--user", "u",
			"--secret", "none")
	}
	for _, args := range [][]string{{"test", "g/", "--timeout", "1s"}, {"await", "g/", "--timeout", "1s", "--for", "1s"}} {
		r := w.run(args...)
		if strings.Count(r.err, "for this run") != 1 ||
			!strings.Contains(r.err, "for this run, 3 profiles have timeout leg 1s (--timeout)") {
			t.Errorf("%v: %s", args, r.err)
		}
	}
	has(t, w.run("test", "g/a", "--timeout", "1s").err, "for this run, g/a has timeout leg 1s")
}

// TestAClockThatWasAhead has a test remembered with a time that is still to come.
func TestAClockThatWasAhead(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--port", "1", "--user", "u", "--secret", "none")
	w.must(5, "test", "p")
	files, err := filepath.Glob(filepath.Join(w.home, "gharbor/state/history/*.jsonl"))
	must(t, err)
	data, err := os.ReadFile(files[0])
	must(t, err)
	must(t, os.WriteFile(files[0], regexp.MustCompile(`"when":"20\d\d`).ReplaceAll(data, []byte(`"when":"2099`)), 0o600))
	has(t, w.must(0, "list").out, "port.refused, at 2099-", "the clock was ahead")
	has(t, w.must(0, "history", "p").out, "The clock of this machine was ahead: the times of 1 test are still to come.")
}
