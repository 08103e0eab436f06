package cli

import (
	"bytes"
	"flag"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// newApp gives a run of the program in an empty home, with nobody to ask.
func newApp(t *testing.T, args ...string) (*App, *bytes.Buffer, *bytes.Buffer) {
	var out, err bytes.Buffer
	home := t.TempDir()
	return &App{Args: args, Environ: []string{"GHARBOR_HOME=" + home}, Dir: home, Stdin: strings.NewReader(""),
		Stdout: &out, Stderr: &err}, &out, &err
}

// quoted finds the words of a command line, of which some are in quotes.
var quoted = regexp.MustCompile(`(?:[^\s"']+|"[^"]*"|'[^']*')+`)

// TestEveryCommandHasItsHelp walks all commands and actions: each has a line, examples that its
// own flags parse, and a place under one heading.
func TestEveryCommandHasItsHelp(t *testing.T) {
	app := &App{commands: everyCommand()}
	headed := map[string]int{}
	for _, topic := range helpGroups {
		for _, name := range topic.commands {
			headed[name]++
		}
	}
	for _, cmd := range app.commands {
		if headed[cmd.name] != 1 {
			t.Errorf("%s is under %d headings", cmd.name, headed[cmd.name])
		}
		for _, each := range append([]*command{cmd}, cmd.subs...) {
			flagsOf(each).VisitAll(func(f *flag.Flag) {
				value, about := described(f)
				if (value == "") != boolean(f) || about == "" || strings.Contains(about, "`") {
					t.Errorf("%s --%s %s: %q says not what kind of value it takes", each.name, f.Name, value, about)
				}
			})
			if each.about == "" || len(each.examples) == 0 || (each.options == nil) == (len(each.subs) == 0) {
				t.Errorf("%s: %q, %d examples", each.name, each.about, len(each.examples))
			}
			for i, example := range each.examples {
				words := quoted.FindAllString(strings.TrimPrefix(example, `eval "$(`), -1)
				for i := range words {
					words[i] = strings.NewReplacer(`"`, "", "'", "").Replace(words[i])
				}
				called := app.find(words[1])
				if words[0] != "gharbor" || called == nil || i == 0 && called != cmd {
					t.Fatalf("%s has the example %s", each.name, example)
				}
				rest := words[2:]
				if len(called.subs) > 0 {
					called, rest = called.sub(words[2]), words[3:]
				}
				if end := slices.IndexFunc(rest, func(word string) bool {
					return word == "|" || word == "<" || word == ">"
				}); end >= 0 {
					rest = rest[:end]
				}
				c := app.newCall(called)
				if err := c.parse(rest); err != nil {
					t.Errorf("%s: %v", example, err)
				}
			}
		}
	}
}

func TestParse(t *testing.T) {
	for _, c := range []struct {
		args  string
		names string
		fails string
	}{
		{"test a --port 5 b", "a b", ""}, {"test -- a --port", "a --port", ""}, {"test --port=5 a", "a", ""},
		{"test --prot 5", "", "did you mean --port?"}, {"test --password x", "", "no flag takes a password's text"},
		{"test --port", "", "needs a value after it, such as --port 5432"},
		{"test --repeat one", "", "takes a number from 2 to 10000"},
		{"test --as xml", "", "takes text, json, tap, junit or html"},
		{"await --for long", "", "write a time with its unit, such as 30s"},
		{"change --unset nothing", "", "there is no setting"},
		{"run --escape-formulas=maybe", "", "takes no value"}, {"add --label nothing", "", "write NAME=VALUE"},
		{"test --expect x=y", "", "where NAME is one of"}, {"run --label a=b", "", "has no flag --label"},
	} {
		words := strings.Fields(c.args)
		app := &App{commands: everyCommand()}
		call := app.newCall(app.find(words[0]))
		call.Set = profile.Layer{}
		err := call.parse(words[1:])
		if c.fails == "" {
			if err != nil || strings.Join(call.names, " ") != c.names {
				t.Errorf("%s: %v, %v", c.args, call.names, err)
			}
			continue
		}
		e, ok := err.(world.Error)
		if !ok || e.Code != exitUsage || !strings.Contains(e.Message, c.fails) || strings.Contains(e.Message, "\x00") {
			t.Errorf("%s: %v", c.args, err)
		}
	}
}

func TestArgumentsToExitCodes(t *testing.T) {
	for _, c := range []struct {
		args string
		code int
		says string
	}{
		{"", 0, "every day"}, {"--help", 0, "every day"}, {"help --all", 0, "Every day:"},
		{"version", 0, Version}, {"tset", 2, "did you mean test?"}, {"wallet", 0, "Actions:"},
		{"wallet lsit", 2, "did you mean list?"},
		{"wallet list more", 2, "takes no"}, {"list", 0, "No profiles yet"},
		{"list --json", 0, `"profiles": []`}, {"show", 2, "needs the name"}, {"show a b", 2, "takes one name"},
		{"show a --json", 3, `"exit": 3`}, {"test a --json --as junit", 2, "write one of them: --json"},
		{"run a b --json --as csv", 2, "another form"}, {"test a --as json", 3, `"exit": 3`},
		{"history a --as json", 3, `"exit": 3`}, {"meaning port.refused", 0, "port.refused"},
		{"completion words wa", 0, "wallet"}, {"help wallet add", 0, "--default-user"},
		{"change a", 3, "there is no profile a"}, {"remove a", 3, "there is no profile a"},
		{"add a --engine postgres --user u", 0, "Saved a in"},
	} {
		app, out, err := newApp(t, strings.Fields(c.args)...)
		if code := app.Main(t.Context()); code != c.code || !strings.Contains(out.String()+err.String(), c.says) {
			t.Errorf("%s: %d\n%s%s", c.args, code, out, err)
		}
	}
}

// TestSettingNamed gives what change takes out by the names that people know settings by.
func TestSettingNamed(t *testing.T) {
	for text, want := range map[string]string{"port": "port", "tls": "tls.mode", "tls-ca": "tls.ca",
		"tls ca": "tls.ca", "label": "", "labels": "labels.", "expect": "expect.", "options": "options.",
		"labels.x": "labels.x", "": "", "nonsense": ""} {
		got, ok := settingNamed(text)
		if ok != (want != "") || ok && got != want {
			t.Errorf("%q: %q, %v", text, got, ok)
		}
	}
}

func TestTreeChartAge(t *testing.T) {
	var tr nameTree
	var lines []string
	for _, name := range []string{"a/b/c", "a/b/d", "a/e", "f", "mine:g/h"} {
		own, groups := tr.next(name)
		lines = append(append(lines, groups...), own)
	}
	if want := []string{"a/", "  b/", "    c", "    d", "  e", "f", "g/", "  h (mine:)"}; !slices.Equal(lines, want) {
		t.Errorf("%q", lines)
	}
	for values, want := range map[string][]float64{"▁█": {0.1, 1}, "×": {-1}, "▁": {0}, "": nil} {
		if got := chart(want); got != values {
			t.Errorf("%v: %s", want, got)
		}
	}
	for d, want := range map[time.Duration]string{59 * time.Second: "59 s", time.Hour: "1 h",
		90 * time.Minute: "1 h", 50 * time.Hour: "2 days", time.Minute: "1 min"} {
		if got := age(d); got != want {
			t.Errorf("%s: %s", d, got)
		}
	}
}

// TestTheBoardMakesWay pauses the board while a person is asked, and paints it again.
func TestTheBoardMakesWay(t *testing.T) {
	var out bytes.Buffer
	b := &board{out: &out, all: []*harbor.One{{Word: "a", Report: &checkup.Report{OK: true}}, {Word: "b"}},
		over: make([]bool, 2), live: true}
	b.paint(true)
	resume := b.pause()
	before := out.Len()
	b.done(0)
	if out.Len() != before {
		t.Error("it paints over a question")
	}
	resume()
	if !strings.HasSuffix(out.String(), "1 of 2 tested, 0 failed\n") {
		t.Errorf("%q", out.String())
	}
	b.end()
	if !strings.HasSuffix(out.String(), "\x1b[3A\x1b[J") {
		t.Errorf("%q", out.String())
	}
}

// TestProgress paints a line after a second, five times in one, and takes it away.
func TestProgress(t *testing.T) {
	var out strings.Builder
	now := time.Unix(0, 0)
	p := &scriptProgress{out: &out, of: 4 << 20, now: func() time.Time { return now }, began: now, last: now}
	for range 20 { // two seconds
		now = now.Add(100 * time.Millisecond)
		p.at("statements", 7, 1<<20)
	}
	if n := strings.Count(out.String(), "\r\x1b[K… 7 statements, 1.0MB of 4.0MB, "); n != 6 ||
		!strings.Contains(out.String(), "0.5MB a second") {
		t.Errorf("%d: %q", n, out.String())
	}
	p.away()
	p.away()
	if !strings.HasSuffix(out.String(), "a second\r\x1b[K") {
		t.Errorf("%q", out.String())
	}
	(&scriptProgress{now: func() time.Time { return now }}).at("statements", 1, 1) // where there is no terminal
}
