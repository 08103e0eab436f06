//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"gentle-harbor/internal/standin"
)

// notRun are the examples that this test leaves out, each with its reason.
var notRun = map[string]string{
	"demo":                                "the demo has tests of its own (demo_test.go)",
	"eval \"$(gharbor completion bash)\"": "a shell reads it (completionshells_test.go)",
	"completion":                          "shells read it (completionshells_test.go)",
	"run huts/local \"copy hut from":      "no practice server copies; a real one does (copy_test.go)",
	"test huts/staging --expect superuser=false --expect": "practice servers know no rights on tables; real " +
		"ones do (realcases_test.go)",
	"cloud add fellside https://cloud.fellside.example": "no name of fellside.example exists; the practice " +
		"cloud is added by its address (cloud_test.go)",
	"cloud sign-in fellside --open": "it would start a browser (cloud_test.go does)",
}

// answers are what a person types, by the question.
var answers = []struct {
	question *regexp.Regexp
	answer   string
}{
	{regexp.MustCompile(`Once more: ?$`), "the same"},
	{regexp.MustCompile(`Enter to type it at the test[^\n]*: ?$|\[[^\]\n]*\]: ?$|or Enter for another: ?$|need not be typed again\?[^\n]*$`),
		""},
	{regexp.MustCompile(`test again, save, or leave\?`), "save"},
	{regexp.MustCompile(`(?i)passphrase[^\n]*: ?$`), phrase},
	{regexp.MustCompile(`(?i)password[^\n]*: ?$`), canary},
	{regexp.MustCompile(`\? *(\((yes, no|yes, open, no)[^)]*\))?( \[\w+\])? ?$`), "yes"},
}

// furnished gives a world in which each example has what it needs.
func furnished(t *testing.T, bookings, ledger, far *standin.Server) *clouded {
	w := newClouded(t)
	at := func(engine string, s *standin.Server) string {
		return fmt.Sprintf("engine: %s\nhost: 127.0.0.1\nport: %d\ndatabase: bunkhouse\nuser: "+
			"warden_app\nsecret: env:HUT_PASSWORD\n",
			engine, s.Port())
	}
	w.environ = append(w.environ, "HUT_PASSWORD="+canary, "HUT_WARDEN_PW="+canary, "EDITOR=true", "TERM=dumb")
	snow := practice(t, standin.Config{Engine: "mongodb"})
	for name, text := range map[string]string{
		"gharbor/profiles/huts/local.yaml":      at("postgres", bookings),
		"gharbor/profiles/huts/staging.yaml":    at("postgres", far) + "labels: {season: winter}\nvia: []\n",
		"gharbor/profiles/huts/summer/low.yaml": at("postgres", bookings),
		"gharbor/profiles/huts/old.yaml":        at("postgres", bookings),
		"gharbor/profiles/archive/ledger.yaml":  at("mariadb", ledger),
		"gharbor/profiles/archive/snow.yaml":    at("mongodb", snow),
		"gharbor/profiles/huts/live.yaml": "engine: postgres\ncloud: fellside/bunkhouse\ndatabase: " +
			"bunkhouse\nsecret: cloud\n",
		"gharbor/aliases.yaml": fmt.Sprintf("bookings: {engine: postgres, addresses: "+
			"['127.0.0.1:%d']}\nledger-main: {engine: mariadb, addresses: ['127.0.0.1:%d']}\nledger: {same-as: "+
			"ledger-main}\ncensus: {engine: oracle, service: census, addresses: ['127.0.0.1:1']}\n",
			bookings.Port(), ledger.Port()),
		"gharbor/credentials": "# gentle-harbor credentials 1\nat db.fellside.example:5432\n  reader: " +
			canary + "\nat 127.0.0.1\n  warden_app: " + canary + "\n",
		".config/gentle-harbor/credentials": "# gentle-harbor credentials 1\nat archive.fellside.example:5432\n  reader: " +
			canary + "\n",
		"phrase.txt": phrase + "\n", "old.txt": phrase + "\n",
		"new.txt":               "another long phrase of the warden\n",
		"connection-string.txt": fmt.Sprintf("postgres://warden_app:%s@127.0.0.1:%d/bunkhouse\n", canary, bookings.Port()),
		"details.txt":           "Host: bookings.fellside.example\nDatabase: bunkhouse\nUser: warden_app\n",
		".env":                  "DATABASE_URL=postgres://warden_app@127.0.0.1:1/bunkhouse\n",
		"servers.json":          `{"aliases_version": 1, "aliases": {"winter": {"engine": "postgres", "addresses": ["127.0.0.1:1"]}}}`,
		"names.ora":             "HALL = (DESCRIPTION=(ADDRESS=(PROTOCOL=TCP)(HOST=127.0.0.1)(PORT=1))(CONNECT_DATA=(SERVICE_NAME=hall)))\n",
		"certs/fellside-ca.pem": "", "bindings/bookings/type": "postgresql",
		"bindings/bookings/host": "127.0.0.1", "bindings/bookings/username": "warden_app",
		"bindings/bookings/database": "bunkhouse",
		"migrate":                    "#!/bin/sh\nexit 0\n", "bin/make": "#!/bin/sh\nexit 0\n",
	} {
		w.write(name, text)
	}
	for _, program := range []string{"migrate", "bin/make"} {
		must(t, os.Chmod(filepath.Join(w.home, program), 0o700))
	}
	w.environ = append(w.environ, "PATH="+filepath.Join(w.home, "bin")+":"+filepath.Dir(gharbor)+":"+os.Getenv("PATH"))
	return w
}

// loads counts the examples that load rows.
var loads atomic.Int64

// prepares does what an example needs before, by how it begins.
func (w *clouded) prepares(line string) {
	w.Helper()
	words := strings.Fields(line)
	gone := func(name string) { _ = os.Remove(filepath.Join(w.home, name)) }
	if strings.HasPrefix(line, "gharbor cloud") || strings.Contains(line, "huts/live") {
		w.confirming()
		w.signIn()
	}
	switch begins := func(start string) bool { return strings.HasPrefix(line, "gharbor "+start) }; {
	case begins("add "), begins("import "):
		gone("gharbor/profiles/" + words[2] + ".yaml")
	case begins("find"):
		gone(".env")
		e := practiceEngine(w.T, w.world)
		c := standin.Contained{Name: "huts-db-1", Image: "postgres:16",
			Published: map[int][]string{5432: {practice(w.T, standin.Config{Engine: "postgres"}).Address()}},
			Labels:    labels("huts", "db", w.home), Command: []string{"serve"}}
		c.Env = []string{"POSTGRES_USER=warden_app", "POSTGRES_PASSWORD=" + canary, "POSTGRES_DB=bunkhouse"}
		e.Put(c)
	case begins("test huts/live"):
		w.must(0, "cloud", "admit", "huts/live", "--for", "1h", "--yes")
	case begins("test huts/ "), begins("run huts/ "), begins("await huts/ "), begins("test --all"):
		gone("gharbor/profiles/huts/live.yaml")
	case begins("alias change bookings --unset via"):
		w.write("gharbor/aliases.yaml",
			"bookings: {engine: postgres, addresses: [db1.fellside.example], via: [ops@gate.fellside.example]}\n")
	case begins("export huts/local --as dotenv --to"):
		gone(".env")
	case begins("run huts/local --from season.sql"):
		w.write("season.sql", "update hut set height = 815 where name = 'Greystone';\ninsert into snow_depth "+
			"values (1, '2026-11-21', 9);\n")
	case begins("load "):
		// several examples may load side by side
		w.write("bookings.csv", fmt.Sprintf("id,bunk_id,guest,night\n%d,13,E. Moss,2026-12-12\n", 1000+loads.Add(1)))
		w.write("huts.tsv", "High Fold\t702\tWether Dale\n")
		w.write("huts.jsonl", "{\"name\": \"Low Fold\", \"height\": 310, \"valley\": \"Low Beck\"}\n")
	case strings.Contains(line, "--to bookings.csv"):
		gone("bookings.csv")
	case begins("export huts/local --as binding"):
		must(w.T, os.RemoveAll(filepath.Join(w.home, "bindings")))
	case begins("alias add "):
		w.write("gharbor/aliases.yaml", "ledger-main: {engine: mariadb, addresses: ['127.0.0.1:1']}\n")
	case begins("wallet create"):
		must(w.T, os.RemoveAll(filepath.Join(w.home, "gharbor/wallet")))
		must(w.T, os.RemoveAll(filepath.Join(w.home, "gharbor/state")))
	case begins("wallet remove"), begins("wallet recover"):
		w.must(0, "wallet", "add", "--server", "db.fellside.example:5432", "--user", "reader",
			"--secret", "env:HUT_PASSWORD", "--passphrase-file", "phrase.txt")
	case begins("wallet reveal"):
		w.must(0, "wallet", "add", "huts/staging", "--secret", "env:HUT_PASSWORD", "--passphrase-file", "phrase.txt")
	case begins("wallet confirm"), begins("credentials confirm"):
		w.write("gharbor/profiles/huts/named.yaml", "alias: bookings\ndatabase: bunkhouse\nuser: warden_app\n")
		put := []string{"wallet", "add", "huts/named", "--secret", "env:HUT_PASSWORD", "--passphrase-file", "phrase.txt"}
		if begins("credentials") {
			put = []string{"credentials", "add", "huts/named", "--secret", "env:HUT_PASSWORD"}
		}
		w.must(0, put...)
		w.write("gharbor/aliases.yaml", "bookings: {engine: postgres, addresses: ['127.0.0.1:2']}\n")
	case begins("agree"):
		w.write("work/.gentle-harbor/profiles/huts/staging.yaml",
			"engine: postgres\nhost: 127.0.0.1\nuser: warden_app\nsecret: none\n")
		gone("gharbor/profiles/huts/staging.yaml")
		if strings.Contains(line, "--withdraw") {
			cmd := w.command("agree", "huts/staging", "--yes")
			cmd.Dir = filepath.Join(w.home, "work")
			must(w.T, cmd.Run())
		}
	case begins("hops "):
		w.write("gharbor/known-hosts",
			"# gentle-harbor known-hosts 2\ngate.fellside.example ssh-ed25519 "+
				"AAAAC3NzaC1lZDI1NTE5AAAAIGAK5xVE5hG3XeiqoLYikW1zdmI0Z2HsNfbGch2yAgmM accepted 2026-11-01T10:00:00Z\n")
	case begins("doors huts"), begins("release huts"):
		w.must(0, "hold", "huts/staging", "--background")
	case begins("history"), begins("meaning"):
		w.must(0, "test", "huts/staging")
	case begins("cloud withdraw"):
		w.must(0, "cloud", "admit", "huts/live", "--for", "1h", "--yes")
	case begins("cloud sign-in"):
		w.must(0, "cloud", "sign-out")
	}
}

// TestEveryExampleRuns has a person run every example of the help as it stands, in a throw-away
// home with practice servers: each ends well.
func TestEveryExampleRuns(t *testing.T) {
	t.Parallel()
	bookings, ledger, far := practice(t, standin.Config{Engine: "postgres"}), practice(t,
		standin.Config{Engine: "mariadb"}), practice(t, standin.Config{Engine: "postgres", Identity: 1})
	practice(t, standin.Config{Engine: "mysql", Address: "127.0.0.1:3391"})
	practice(t, standin.Config{Engine: "postgres", Address: "127.0.0.1:5433"})
	if len(notRun) > 8 {
		t.Error("too many are left out")
	}
	examples := examplesOf(t, notRun)
	var all sync.WaitGroup
	turns := make(chan bool, 6)
	for _, line := range examples {
		if strings.HasPrefix(line, "gharbor help ") && !strings.Contains(line, "man") {
			continue // printed and held in testdata/examples.txt
		}
		turns <- true
		w := furnished(t, bookings, ledger, far)
		all.Go(func() {
			defer func() { <-turns }()
			w.prepares(line)
			w.runs(line)
		})
	}
	all.Wait()
	t.Logf("%d examples", len(examples))
}

// runs types an example into a shell at a terminal, answers what is asked, and ends a door once
// it is open.
func (w *clouded) runs(line string) {
	cmd := exec.Command("bash", "--noprofile", "--norc", "-c", line)
	cmd.Dir, cmd.Env = w.home, slices.Clone(w.environ)
	if strings.HasPrefix(line, "gharbor agree") {
		cmd.Dir = filepath.Join(w.home, "work")
	}
	p := w.atTerminal(200, cmd)
	done := make(chan bool)
	go func() { _ = cmd.Wait(); close(done) }()
	seen, held, last := 0, false, ""
	if strings.Contains(line, "--secret-file -") { // it reads what is typed, up to an end of file
		p.Types(canary + "\n\x04")
	}
	for range 6000 {
		select {
		case <-done:
			if code := cmd.ProcessState.ExitCode(); code != 0 && !(held && (code == 130 || code == -1)) {
				w.Errorf("%s: exit %d\n%s", line, code, p.Screen())
			}
			w.run("release", "--all")
			return
		case <-time.After(10 * time.Millisecond):
		}
		screen := strings.ReplaceAll(p.Screen(), "\r", "")
		if strings.Contains(screen, "Ctrl-C closes it.") && !held {
			held = true
			p.Types("\x03")
		}
		if strings.Contains(screen, "Ctrl-D leaves.") && strings.Contains(screen, "\n> ") && !held { // the prompt
			held = true
			p.Types("\x04")
		}
		for _, each := range answers {
			if rest := screen[min(seen, len(screen)):]; each.question.MatchString(rest) {
				seen = len(screen)
				if each.answer != "the same" {
					last = each.answer
				}
				p.Types(last + "\n")
				break
			}
		}
	}
	w.Errorf("%s does not end:\n%s", line, p.Screen())
}
