//go:build unix

package main

import (
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"gentle-harbor/internal/standin"
)

// unlike are the examples whose output is another one on each machine, each with what is tested
// of it elsewhere.
var unlike = map[string]string{
	"find": "what else runs here is found too (readers_test.go)",
	"demo": "it waits for its reader (demo_test.go)", "version": "the build's own (program_test.go)",
	"await huts/":                    "several end in any order (report_test.go)",
	"hold huts/staging --background": "it stays (doors_test.go)",
	"test huts/local --port":         "its remedy names what else runs here (situations_test.go)",
	"completion":                     "a shell reads it (completionshells_test.go)",
}

// volatile are the parts of an output that differ from run to run, each with what is held in
// their place.
var volatile = []struct {
	parts *regexp.Regexp
	by    string
}{
	{regexp.MustCompile(`\x1b\[[0-9;?]*[a-zA-Z]`), ""},
	{regexp.MustCompile(`(_ms|"took"|"seconds"|"time"|ms")("?: ?)[0-9.e-]+`), "${1}${2}N"},
	{regexp.MustCompile(`time="[0-9.]+"`), `time="N"`},
	{regexp.MustCompile(`\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:\d\d)?`), "DATE"},
	{regexp.MustCompile(`\b\d{4}-\d\d-\d\d\b`), "DAY"}, // such as that of today
	{regexp.MustCompile(`\d\d:\d\d:\d\d`), "CLOCK"},
	{regexp.MustCompile(`(?m)^CLOCK .*insists on encrypting.*\n`), ""}, // other tests look who is at its port
	{regexp.MustCompile(` *\b\d+(\.\d+)? ?(µs|ms|s)\b`), " DUR"},
	{regexp.MustCompile(` {2,}\d+\.\d\b`), "  N"},
	{regexp.MustCompile(`"(pid|process|age|bytes|session|connections)": ?"?\d+`), `"$1": N`},
	// what else runs on this machine
	{regexp.MustCompile(`(?m)^ +· (.* answers? on .*|and [0-9]+ more: gharbor find --every-port)\n`), ""},
	// as is this, in one line
	{regexp.MustCompile(`"(seen|try)":\[(?:[^\]"]|"(?:[^"\\]|\\.)*")*\]`), `"$1":[]`},
	{regexp.MustCompile(`(process|PID) +\d+`), "$1 N"},
	{regexp.MustCompile(`(session +)\d+`), "${1}N"},
	{regexp.MustCompile(`(127\.0\.0\.1:|port"?:? +)\d{5}\b`), "${1}PORT"},
	{regexp.MustCompile(`─+`), "─"}, // as wide as the times above it
	{regexp.MustCompile(`[0-9a-f]{40,}`), "DIGEST"},
	{regexp.MustCompile(`SHA256:[A-Za-z0-9+/]+`), "SHA256:KEY"},
	{regexp.MustCompile(`[▁▂▃▄▅▆▇█]+`), "BARS"},
	{regexp.MustCompile(`version="[^"]*"`), `version="V"`},
}

// TestExamplesStayAsTheyAre runs every example of the help, in an empty world and in a furnished
// one, as it stands and with --json, and holds what each prints and its exit code against
// testdata/examples.txt. UPDATE_EXAMPLES=1 writes that file anew: its diff is what changes for
// users.
func TestExamplesStayAsTheyAre(t *testing.T) {
	t.Parallel()
	bookings, ledger := practice(t, standin.Config{Engine: "postgres"}), practice(t, standin.Config{Engine: "mariadb"})
	snow := practice(t, standin.Config{Engine: "mongodb"})
	closed := closedPort(t)
	furnish := func(w *world) {
		w.environ = append(w.environ, "HUT_PASSWORD="+canary, "HUT_WARDEN_PW="+canary)
		w.write("phrase.txt", "the warden keeps the lamp lit\n")
		w.write("old.txt", "the warden keeps the lamp lit\n")
		w.write("new.txt", "the warden lets the lamp go out\n")
		w.write("certs/fellside-ca.pem", "")
		w.write("huts.csv", "1,Low Hut,640\n")
		w.write("connection-string.txt", fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse\n", bookings.Port()))
		w.write("details.txt", "Host: bookings.fellside.example\nDatabase: bunkhouse\nUser: warden_app\n")
		w.write(".env", "DATABASE_URL=postgres://warden_app@127.0.0.1:1/bunkhouse\n")
		w.write("servers.json", `{"aliases": {"winter": {"engine": "postgres", "addresses": ["127.0.0.1:1"]}}}`)
		w.save("huts/local", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(bookings.Port()),
			"--database", "bunkhouse", "--user", "warden_app", "--secret", "env:HUT_PASSWORD",
			"--note", "practice", "--label", "season=winter")
		w.save("huts/staging", "postgres", "--base", "huts/local", "--label", "season=summer")
		w.save("huts/old", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(closed),
			"--user", "warden_app", "--secret", "none")
		w.save("huts/summer/low", "postgres", "--host", "127.0.0.1", "--user", "warden_app", "--secret", "none")
		w.save("archive/ledger", "mariadb", "--host", "127.0.0.1", "--port", fmt.Sprint(ledger.Port()),
			"--database", "bunkhouse", "--user", "warden_app", "--secret", "env:HUT_PASSWORD")
		w.save("archive/snow", "mongodb", "--host", "127.0.0.1", "--port", fmt.Sprint(snow.Port()),
			"--database", "bunkhouse", "--user", "warden_app", "--secret", "env:HUT_PASSWORD")
		w.must(0, "alias", "add", "bookings", "--engine", "postgres",
			"--address", fmt.Sprintf("127.0.0.1:%d", closed),
			"--address", fmt.Sprintf("127.0.0.1:%d", bookings.Port()))
		w.must(0, "alias", "add", "ledger-main", "--engine", "mariadb",
			"--address", fmt.Sprintf("127.0.0.1:%d", ledger.Port()))
		w.save("huts/live", "postgres", "--alias", "bookings", "--user", "warden_app",
			"--database", "bunkhouse", "--secret", "env:HUT_PASSWORD")
		w.must(0, "test", "huts/local")
		w.must(0, "wallet", "create", "--passphrase-file", "phrase.txt")
		w.must(0, "wallet", "unattended", "on", "--yes", "--passphrase-file", "phrase.txt")
		w.must(0, "wallet", "add", "huts/local", "--secret", "env:HUT_PASSWORD", "--passphrase-file", "phrase.txt")
		w.must(0, "credentials", "add", "--server", "127.0.0.1:5432", "--user", "reader", "--secret", "env:HUT_PASSWORD")
	}
	examples := examplesOf(t, unlike)
	texts := make([][]string, len(examples))
	// Where a world is has always the same length: the width of tables depends on it.
	worlds := 0
	var mu sync.Mutex
	sized := func() *world {
		mu.Lock()
		defer mu.Unlock()
		worlds++
		w := newWorld(t)
		w.home = fmt.Sprintf("/tmp/ghx%08d%04d", os.Getpid(), worlds)
		must(t, os.Mkdir(w.home, 0o700))
		t.Cleanup(func() { _ = os.RemoveAll(w.home) })
		w.environ = append(w.environ, "GHARBOR_HOME="+w.home+"/gharbor", "HOME="+w.home, "COLUMNS=120", "TZ=UTC")
		return w
	}
	furnished := sized()
	furnish(furnished)
	var all sync.WaitGroup
	turns := make(chan bool, 6)
	for i, example := range examples {
		all.Go(func() {
			turns <- true
			defer func() { <-turns }()
			for _, in := range []string{"empty", "furnished"} {
				for _, form := range []string{"", " --json"} {
					if form != "" && (in == "empty" || strings.Contains(example, "--json") ||
						strings.ContainsAny(example, "|<>&") || strings.Contains(example, " -- ")) {
						continue
					}
					w := sized()
					if in == "furnished" {
						must(t, os.CopyFS(w.home, os.DirFS(furnished.home)))
						must(t, closeToOthers(w.home))
						w.environ = append(w.environ, "HUT_PASSWORD="+canary, "HUT_WARDEN_PW="+canary)
					}
					text := w.prints(example + form)
					if form != "" && strings.Contains(text, "has no flag --json") {
						continue
					}
					for _, each := range [][2]string{
						{w.home, "HOME"}, {strings.ReplaceAll(w.home, "/", "%2F"), "HOME"}, {furnished.home, "HOME"}, {canary, "CANARY"},
						{fmt.Sprint(bookings.Port()), "PORT1"}, {fmt.Sprint(ledger.Port()), "PORT2"},
						{fmt.Sprint(closed), "PORT3"}, {fmt.Sprint(snow.Port()), "PORT4"},
					} {
						text = strings.ReplaceAll(text, each[0], each[1])
					}
					for _, v := range volatile {
						text = v.parts.ReplaceAllString(text, v.by)
					}
					if lines := strings.SplitAfter(text, "\n"); len(text) > 4000 {
						text = strings.Join(lines[:min(15, len(lines))], "") + fmt.Sprintf("… %d lines, %x\n",
							len(lines), sha256.Sum256([]byte(text)))
					}
					texts[i] = append(texts[i], fmt.Sprintf("$ %s   (%s)\n%s", example+form, in, text))
				}
			}
		})
	}
	all.Wait()
	file := filepath.Join("testdata", "examples.txt")
	is := strings.Join(slices.Concat(texts...), "\n")
	if os.Getenv("UPDATE_EXAMPLES") != "" {
		must(t, os.WriteFile(file, []byte(is), 0o644))
		return
	}
	data, err := os.ReadFile(file)
	must(t, err)
	was := strings.Split(string(data), "\n$ ")
	now := strings.Split(is, "\n$ ")
	if len(was) != len(now) {
		t.Errorf("%d outputs instead of %d", len(now), len(was))
	}
	for i := range min(len(was), len(now)) {
		if was[i] != now[i] {
			t.Errorf("an example prints something else (UPDATE_EXAMPLES=1 takes it over):\n%s\ninstead of\n%s", now[i], was[i])
		}
	}
	t.Logf("%d examples, %d outputs", len(examples), len(now))
}

// examplesOf gives the examples of the help, each once, without those that begin with one of some
// words.
func examplesOf(t *testing.T, without map[string]string) (list []string) {
	t.Helper()
	w := newWorld(t)
	add := func(line string) {
		line, _, _ = strings.Cut(strings.TrimSpace(line), "   ") // what follows is a comment
		words := strings.Fields(strings.TrimPrefix(line, `eval "$(`))
		if len(words) < 2 || words[0] != "gharbor" || slices.Contains(list, line) {
			return
		}
		for words := range without {
			if strings.HasPrefix(line+" ", "gharbor "+words+" ") || strings.HasPrefix(line, words) {
				return
			}
		}
		list = append(list, line)
	}
	page := w.must(0, "help", "--all").out
	named := regexp.MustCompile(`(?m)^  ([a-z]+) {2,}`)
	for _, m := range named.FindAllStringSubmatch(page, -1) {
		add("gharbor help " + m[1])
		text := w.must(0, "help", m[1]).out
		pages := []string{text}
		_, actions, _ := strings.Cut(text, "\nActions:\n")
		actions, _, _ = strings.Cut(actions, "\n\n")
		for _, sub := range regexp.MustCompile(`(?m)^  ([a-z-]+) `).FindAllStringSubmatch(actions, -1) {
			add("gharbor help " + m[1] + " " + sub[1])
			pages = append(pages, w.must(0, "help", m[1], sub[1]).out)
		}
		for _, text := range pages {
			_, after, _ := strings.Cut(text, "Examples:\n")
			after, _, _ = strings.Cut(after, "\n\n")
			for _, line := range strings.Split(after, "\n") {
				add(line)
			}
		}
	}
	if len(list) < 150 {
		t.Fatalf("%d examples were found", len(list))
	}
	return list
}

// prints runs a line in a shell and gives what it printed and its exit code. A door is closed
// once it has said where it is.
func (w *world) prints(line string) string {
	var out, errs noted
	cmd := exec.Command("sh", "-c", strings.TrimPrefix(line, "eval "))
	cmd.Dir, cmd.Env = w.home, append(slices.Clone(w.environ), "PATH="+filepath.Dir(gharbor)+":"+os.Getenv("PATH"))
	cmd.Stdout, cmd.Stderr, cmd.SysProcAttr = &out, &errs, &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return err.Error()
	}
	done := make(chan bool)
	go func() {
		_ = cmd.Wait()
		close(done)
	}()
	end := time.After(20 * time.Second)
	for ended := false; !ended; {
		select {
		case <-done:
			ended = true
		case <-end:
			_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGINT)
		case <-time.After(100 * time.Millisecond):
			if strings.HasPrefix(line, "gharbor hold") &&
				(strings.Contains(errs.String(), "Ctrl-C closes it.") || strings.HasSuffix(out.String(), "\n}\n")) {
				_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGINT)
			}
		}
	}
	return fmt.Sprintf("%s--- stderr\n%s--- exit %d\n", out.String(), errs.String(), cmd.ProcessState.ExitCode())
}

// noted is what a program has printed so far.
type noted struct {
	mu   sync.Mutex
	text strings.Builder
}

func (n *noted) Write(p []byte) (int, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.text.Write(p)
}

func (n *noted) String() string {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.text.String()
}

// closeToOthers takes from others what a copy has let them do.
func closeToOthers(dir string) error {
	return filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			return os.Chmod(path, 0o700)
		}
		return os.Chmod(path, 0o600)
	})
}
