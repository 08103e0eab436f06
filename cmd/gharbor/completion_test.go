//go:build unix

package main

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/standin"
)

// TestCompletionInBash completes words in a real bash, as its completion calls the script and as
// a person types.
func TestCompletionInBash(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for _, name := range []string{"huts/local", "huts/far/live", "archive/ledger"} {
		w.must(0, "add", name, "--engine", "mysql", "--host", "h", "--user", "u", "--secret", "none",
			"--label", "season=winter")
	}
	w.write("gharbor/clouds/fellside.yaml", "url: https://cloud.fellside.example\n")
	w.must(0, "add", "huts/guest", "--engine", "postgres", "--cloud", "fellside/bunkhouse", "--secret", "cloud")
	s := practice(t, standin.Config{Engine: "postgres"})
	w.environ = append(w.environ, "PW="+canary)
	w.wardens("open", "postgres", s)
	w.must(0, "hold", "open", "--background")
	t.Cleanup(func() { w.run("release", "--all") })
	w.write("gharbor/aliases.yaml", "bookings: {engine: postgres, addresses: [db.fellside.example]}\n")
	bash := tool(t, "bash")
	bin := t.TempDir()
	must(t, exec.Command("ln", "-s", gharbor, filepath.Join(bin, "gharbor")).Run())
	complete := func(line string) []string {
		t.Helper()
		cmd := w.command()
		cmd.Path, cmd.Args = bash, []string{"bash", "--norc", "-c", `eval "$(gharbor completion bash)"
complete -p gharbor >/dev/null || exit 9
COMP_LINE=$1 COMP_POINT=${#1}
_gharbor_words
printf '%s\n' "${COMPREPLY[@]}"`, "bash", line}
		cmd.Env = append(cmd.Env, "PATH="+bin+":/usr/bin:/bin")
		r := w.finish(cmd)
		if r.code != 0 || r.err != "" {
			t.Errorf("%q: exit %d: %s", line, r.code, r.err)
		}
		return strings.Fields(r.out)
	}
	for line, want := range map[string]string{
		"gharbor te": "test", "gharbor test hu": "huts/ huts/far/ huts/far/live huts/guest huts/local",
		"gharbor remove huts/f": "huts/far/ huts/far/live", "gharbor show huts/l": "huts/local",
		"gharbor show huts/local ": "",
		"gharbor add x --engine ":  strings.Join(known.Names(), " "), "gharbor add x --engine ma": "mariadb",
		"gharbor test huts/local --as j": "json junit",
		"gharbor run huts/local --as ":   "table csv tsv json jsonl bare",
		"gharbor meaning port.ref":       "port.refused",
		"gharbor survey huts/local ":     "columns databases rights schemas sessions settings table tables users",
		"gharbor survey open table ":     "", "gharbor load open ": "",
		"gharbor export huts/local --as ": "uri env dotenv binding json bare description",
		"gharbor test x --until gr":       "greeting",
		"gharbor list --labelled ":        "season=winter", "gharbor add x --secret env": "env:",
		"gharbor add x --secret env:": "", "gharbor wallet unattended ": "on off",
		"gharbor alias show ": "bookings", "gharbor add x --alias b": "bookings",
		"gharbor help al": "alias", "gharbor help alias pr": "probe", "gharbor completion ": "bash zsh fish",
		"gharbor test --until": "--until", "gharbor copy huts/local ar": "archive/",
		"gharbor list ":                        "archive/ huts/ huts/far/",
		"gharbor test huts/local --json --as ": "text json tap junit html",
		"gharbor show mine:":                   "archive/ledger huts/far/live huts/guest huts/local open",
		"gharbor hops forget ":                 "", "gharbor await open --for ": "",
		"gharbor with huts/local,ar":               "huts/local,archive/ledger",
		"gharbor with huts/local,huts/far/live,ar": "huts/local,huts/far/live,archive/ledger",
		"gharbor with huts/local ":                 "",
		"gharbor release ":                         "open", "gharbor doors o": "open", "gharbor demo c": "containers cloud",
		"gharbor help en": "environment", "gharbor add x --cloud ": "fellside/ fellside/bunkhouse",
		"gharbor cloud show fellside/b": "fellside/bunkhouse",
	} {
		got := complete(line)
		wanted := strings.Fields(want)
		slices.Sort(got)
		slices.Sort(wanted)
		if !slices.Equal(got, wanted) {
			t.Errorf("%q gives %v, not %v", line, got, wanted)
		}
	}
	// A person types a beginning and the tab key.
	cmd := w.command()
	cmd.Path, cmd.Args = bash, []string{"bash", "--norc", "-i"}
	cmd.Env = append(cmd.Env, "PATH="+bin+":/usr/bin:/bin", "PS1=> ", "INPUTRC=/dev/null")
	p := w.atTerminal(100, cmd)
	p.Types("eval \"$(gharbor completion bash)\"\n")
	p.Reads("> ")
	p.Types("gharbor sho\t huts/loc\t --jso\t\n")
	p.Reads(`"profile": "huts/local"`)
	// Names that the server has come within a moment, for a person alone: without a terminal
	// nothing is connected to. On a busy machine the moment can be too short, and nothing is
	// offered: then the key is pressed again.
	tab := func(begin, whole string) {
		t.Helper()
		for range 20 {
			p.Types(begin + "\t")
			for range 20 {
				time.Sleep(50 * time.Millisecond)
				if strings.Contains(p.Screen(), whole) {
					return
				}
			}
			p.Types("\x15")
		}
		t.Errorf("%q is not completed to %q", begin, whole)
	}
	tab("gharbor survey open table boo", "table booking")
	p.Types("\n")
	p.Reads("public.booking")
	tab("gharbor survey open columns --on snow", "--on snow_depth")
	p.Types(" --as csv\n")
	p.Reads("public,snow_depth,centimetres")
	tab("gharbor survey open databases --database bunk", "--database bunkhouse")
	p.Types(" --as csv\n")
	p.Reads("bunkhouse,")
	// A line that leads elsewhere than the saved profile is not followed before it is sent off.
	elsewhere := practice(t, standin.Config{Engine: "postgres"})
	p.Types(fmt.Sprintf("gharbor survey open --port %d table bun\t", elsewhere.Port()))
	time.Sleep(time.Second)
	p.Types("\x15echo and\"\" on\n")
	p.Reads("and on")
	if strings.Contains(p.Screen(), "table bunk") {
		t.Errorf("%s", p.Screen())
	}
	p.Types("exit\n")
}

// TestRemoveAGroup removes all of a group after a question that counts, and nothing else.
func TestRemoveAGroup(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for _, name := range []string{"huts/local", "huts/far/live", "archive/ledger", "hutsandmore"} {
		w.must(0, "add", name, "--engine", "mysql", "--host", "h", "--user", "u", "--secret", "none")
	}
	w.write(".gentle-harbor/profiles/huts/shared.yaml", "engine: mysql\nhost: h\nuser: u\n")
	has(t, w.must(2, "remove", "huts/").err, "2 profiles: huts/far/live, huts/local", "--yes")
	has(t, w.must(3, "remove", "nowhere/").err, "no profile in the group")
	p := w.sit("remove", "huts/")
	p.Answers("Remove 2 profiles: huts/far/live, huts/local? (yes, no) [no] ", "no")
	p.Reads("Nothing was removed")
	p.Ends()
	r := w.must(0, "remove", "huts/", "archive/ledger", "--yes")
	has(t, r.out, "Removed huts/local.", "Removed huts/far/live.", "Removed archive/ledger.")
	has(t, r.err, "1 more of huts/ are the project's, and stay")
	has(t, w.must(0, "list", "--flat").out, "hutsandmore", "huts/shared")
	has(t, w.must(3, "remove", "huts/", "--yes").err, "nothing of your own")
	w.must(0, "remove", "project:huts/", "--yes")
	// What finds nothing says what to do next.
	for _, args := range [][]string{{"history", "hutsandmore"}, {"doors"}, {"list", "unlikely"}} {
		has(t, w.must(0, args...).out, "gharbor ")
	}
	w.must(0, "remove", "hutsandmore", "--yes")
	has(t, w.must(0, "list").out, "gharbor add NAME", "gharbor find")
	has(t, w.must(3, "remove", "hutsandmore").err, "gharbor add hutsandmore")
}
