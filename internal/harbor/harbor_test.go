package harbor

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/harbor/edits"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/harbor/worldtest"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
	"gentle-harbor/internal/target"
)

const canary = worldtest.Canary

// newRun gives a use case of a new world, the answers of a person, and what it notes.
func newRun(t *testing.T, answers ...[2]string) (*Run, *worldtest.Script, *[]string) {
	w, who, notes := worldtest.New(t, answers...)
	r := New(w)
	r.Connects = true
	return &r, who, notes
}

func (r Run) save(t *testing.T, name, text string) { worldtest.Save(t, r.World, name, text) }

func start(t *testing.T, faults standin.Faults) *standin.Server {
	t.Helper()
	s, err := standin.Start(standin.Config{Engine: "postgres",
		Accounts: map[string]string{"warden_app": canary}, Faults: faults})
	must(t, err)
	t.Cleanup(s.Close)
	return s
}

func at(s *standin.Server, more string) string {
	return fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\nuser: warden_app\ndatabase: bunkhouse\n%s",
		s.Port(), more)
}

func TestAim(t *testing.T) {
	r, _, notes := newRun(t)
	r.save(t, "huts/local", "engine: postgres\nhost: h\nuser: u\n")
	r.save(t, "broken", "x\n")
	for _, c := range []struct {
		name    string
		word    string
		environ string
		several bool
		code    int
		says    string
		host    string
	}{
		{name: "saved", word: "huts/local", host: "h"},
		{name: "with a variable", word: "huts/local", environ: "GHARBOR_HOST=other", host: "other"},
		{name: "a variable over several", word: "huts/local", environ: "GHARBOR_HOST=other", several: true,
			code: world.ExitUsage, says: "would change every profile"},
		{name: "a wrong variable", word: "huts/local", environ: "GHARBOR_PORT=x", code: world.ExitSettings,
			says: "GHARBOR_PORT"},
		{name: "misspelt", word: "huts/locl", code: world.ExitSettings, says: "did you mean huts/local?"},
		{name: "broken", word: "broken", code: world.ExitSettings, says: "broken.yaml:1"},
		{name: "a connection string", word: "mysql://u@db/x", host: "db"},
		{name: "no connection string", word: "other://u@db/x", code: world.ExitSettings, says: "scheme"},
	} {
		before := r.Environ
		if c.environ != "" {
			r.Environ = append(before[:len(before):len(before)], c.environ)
		}
		to, err := r.Aim(t.Context(), c.word, c.several)
		r.Environ = before
		var e world.Error
		if errors.As(err, &e); e.Code != c.code ||
			c.code == 0 && (err != nil || to.Host != c.host || !to.Admitted.OK()) ||
			!strings.Contains(e.Message, c.says) {
			t.Errorf("%s: %v, %s", c.name, err, to.Host)
		}
	}
	if len(*notes) != 1 || !strings.Contains((*notes)[0], "for this run, huts/local has host other (GHARBOR_HOST)") {
		t.Errorf("%q", *notes)
	}
}

// TestAPersonIsAskedOnce tests a profile whose password is typed, and remembers the tests.
func TestAPersonIsAskedOnce(t *testing.T) {
	s := start(t, standin.Faults{})
	r, who, _ := newRun(t, [2]string{"Password of warden_app", canary})
	r.save(t, "p", at(s, "secret: ask\n"))
	to, err := r.Aim(t.Context(), "p", false)
	must(t, err)
	for range 2 {
		if report, err := r.Test(t.Context(), to, nil); err != nil || !report.OK {
			t.Fatalf("%v %+v, %s", err, report, who.Wrong)
		}
	}
	if typed, was := r.Typed.Of(to.Target()); !was || typed.Reveal() != canary {
		t.Error("what was typed is not remembered")
	}
	history, file, kept := r.historyOf(to)
	if list, err := history.Read(file); !kept || err != nil || len(list) != 2 ||
		strings.Contains(fmt.Sprint(list), canary) {
		t.Errorf("%v, %v", list, err)
	}
}

func TestAllSideBySide(t *testing.T) {
	s := start(t, standin.Faults{})
	r, _, _ := newRun(t)
	r.save(t, "good", at(s, "secret: env:PW\n"))
	r.save(t, "bad", at(s, "secret: empty\n"))
	r.save(t, "broken", "x\n")
	all, err := r.Aims(t.Context(), []string{"good", "bad", "broken"})
	if err != nil || all[2].Err == nil {
		t.Fatalf("%v", err)
	}
	ended := map[int]bool{}
	if err := r.TestAll(t.Context(), all, 1, func(i int) { ended[i] = true }); err != nil || len(ended) != 3 {
		t.Errorf("%v, %v", err, ended)
	}
	if !all[0].Report.OK || all[1].Report.Code() != "login.refused" {
		t.Errorf("%+v %+v", all[0].Report, all[1].Report)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := r.TestAll(ctx, all[:1], 0, func(int) {}); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
}

// TestAwait waits for servers that are not there, that do not answer, and that refuse.
func TestAwait(t *testing.T) {
	silent, refuses, good := start(t, standin.Faults{StallLogin: true}), start(t, standin.Faults{}), start(t,
		standin.Faults{})
	r, _, _ := newRun(t)
	r.save(t, "a", at(silent, "secret: env:PW\ntimeout: 100ms\n"))
	r.save(t, "b", at(silent, "secret: env:PW\ntimeout: 100ms\n"))
	r.save(t, "c", at(refuses, "secret: empty\n"))
	r.save(t, "d", at(good, "secret: env:PW\n"))
	all, err := r.Aims(t.Context(), []string{"a", "b", "c", "d"})
	must(t, err)
	for _, one := range all {
		if one.To, err = r.FindOnce(t.Context(), one.To); err != nil || one.To.Before == nil {
			t.Fatal(err)
		}
	}
	told := map[string]int{}
	began := time.Now()
	err = Waiting{Run: *r, For: 500 * time.Millisecond, Every: 20 * time.Millisecond, Parallel: 1,
		Told: func(word, code string) { told[word+" "+code]++ }}.Await(t.Context(), all)
	if err != nil || time.Since(began) > 8*time.Second {
		t.Errorf("%v after %s", err, time.Since(began))
	}
	if told["a login.silent"] < 1 || told["b login.silent"] < 1 || told["c login.refused"] != 1 || told["d "] != 1 {
		t.Errorf("%v", told)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 150*time.Millisecond)
	defer cancel()
	if err := (Waiting{Run: *r, For: time.Minute, Every: time.Minute, Told: func(string, string) {}}).Await(ctx,
		all[:2]); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("%v", err)
	}
}

// TestFilesStandInForAPerson reads a password from standard input once, and refuses what cannot
// be one.
func TestFilesStandInForAPerson(t *testing.T) {
	r, _, _ := newRun(t)
	r.Stdin, r.SecretFile = strings.NewReader(canary+"\n"), "-"
	dest := target.Target{User: "u", TLS: "off", Endpoint: target.Endpoint{Host: "h"}}
	for range 2 {
		if s, _, err := r.Finder(secret.Secret{}).Find(t.Context(), secret.Want{Target: dest}); err != nil ||
			s.Reveal() != canary {
			t.Errorf("%v", err)
		}
	}
	r.Stdin = strings.NewReader("a\x00b")
	if _, err := r.FromFile(t.Context(), "-", "password"); err == nil || strings.Contains(err.Error(), "a\x00b") {
		t.Errorf("%v", err)
	}
	r.PassphraseFile = "-"
	if err := r.Inputs(); err == nil {
		t.Error("standard input is read twice")
	}
}

func itoa(n int) string { return strconv.Itoa(n) }

var testTime = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

// TestAStringsPasswordStaysWithIt changes where a connection string leads by a variable and by
// flags: its password is not sent there.
func TestAStringsPasswordStaysWithIt(t *testing.T) {
	text := "postgres://warden_app:" + canary + "@127.0.0.1:5501/bunkhouse"
	for _, c := range []struct {
		name    string
		environ string
		set     []string
		given   bool
	}{
		{name: "as it is", given: true},
		{name: "another database", set: []string{"database", "x"}, given: true},
		{name: "the same host", set: []string{"host", "127.0.0.1:5501"}, given: true},
		{name: "a variable", environ: "GHARBOR_HOST=elsewhere"},
		{name: "a port in a variable", environ: "GHARBOR_PORT=1"},
		{name: "a flag", set: []string{"host", "elsewhere"}},
		{name: "a socket", set: []string{"socket", "/s"}}, {name: "another user", set: []string{"user", "x"}},
		{name: "another port", set: []string{"port", "1"}},
	} {
		r, _, notes := newRun(t)
		r.Set = set(t, c.set...)
		if c.environ != "" {
			r.Environ = append(r.Environ, c.environ)
		}
		to, err := r.Aim(t.Context(), text, false)
		if err != nil || to.Known.Given() != c.given {
			t.Errorf("%s: %v, the password is sent: %v", c.name, err, to.Known.Given())
		}
		if said := strings.Join(*notes, "\n"); strings.Contains(said, "is not sent to") == c.given ||
			strings.Contains(said, canary) {
			t.Errorf("%s: %s", c.name, said)
		}
	}
}

// TestWhatWasPastedIsNotRepeated puts a password where something else belongs.
func TestWhatWasPastedIsNotRepeated(t *testing.T) {
	for _, setting := range []string{"port", "timeout.leg", "timeout.total", "expect.latency"} {
		s, _ := profile.Find(setting)
		if err := Take(profile.Layer{}, s, canary, profile.Origin{}); err == nil || strings.Contains(err.Error(), canary) {
			t.Errorf("%s: %v", setting, err)
		}
	}
	for _, word := range []string{"postgers://u:" + canary + "@h/d", "postgres:/u:" + canary + "@h/d",
		"u:" + canary + "@h", "Password: " + canary, "password=" + canary} {
		r, who, _ := newRun(t)
		who.Away = true
		_, err := r.Aim(t.Context(), word, false)
		_, bound := r.Bind(t.Context(), "wallet add", Binding{Server: word, User: "u"})
		for _, each := range []error{err, bound,
			by(*r, Making{Name: "x", Source: word, Saved: func(edits.Place) {}}).Import(t.Context()),
			by(*r, Making{Name: "x", Source: word, Saved: func(edits.Place) {}}).Add(t.Context())} {
			if each != nil && strings.Contains(each.Error(), canary) {
				t.Errorf("%s is repeated", word)
			}
		}
	}
}

// TestPeek opens a session for what is offered while a person types, and nowhere that costs
// anything: no program is started, nobody is asked, nothing is run or remembered.
func TestPeek(t *testing.T) {
	s := start(t, standin.Faults{})
	r, who, _ := newRun(t)
	mark := t.TempDir() + "/mark"
	for name, c := range map[string]struct {
		text  string
		opens bool
	}{
		"good":    {at(s, "secret: env:PW\n"), true},
		"program": {at(s, "secret: {command: [touch, "+mark+"]}\n"), false},
		"ask":     {at(s, "secret: ask\n"), false},
		"opening": {at(s, "secret: env:PW\non-open: [\"create table marked (n int)\"]\n"), false},
		"hop":     {at(s, "secret: env:PW\nvia: [nowhere]\n"), false}, "wrong": {at(s, "secret: empty\n"), false},
		"expects": {at(s, "secret: env:PW\nexpect: {user: other}\n"), false},
	} {
		r.save(t, name, c.text)
		opened := false
		r.Peek(t.Context(), name, func(session engine.Session) { opened = session.Ask(t.Context()) == nil })
		if opened != c.opens {
			t.Errorf("%s: %v, %s", name, opened, who.Wrong)
		}
	}
	r.Peek(t.Context(), "nothing", func(engine.Session) { t.Error("there is no such profile") })
	if _, err := os.Stat(mark); err == nil {
		t.Error("a program was started")
	}
	state, err := r.State()
	must(t, err)
	if list, _ := os.ReadDir(state + "/history"); len(list) > 0 {
		t.Errorf("%v was remembered", list)
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
