package finding

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode"
)

func TestCatalogueIsWhole(t *testing.T) {
	seen := map[Code]bool{}
	catchAll := map[string]bool{}
	for _, e := range All() {
		if seen[e.Code] {
			t.Errorf("%s stands twice", e.Code)
		}
		seen[e.Code] = true
		leg := e.Code.Leg()
		if e.Code == Code(leg+".unknown") {
			catchAll[leg] = true
		}
		if e.Cause == "" || len(e.Try) == 0 {
			t.Errorf("%s has no cause or no remedy", e.Code)
		}
		if !strings.HasPrefix(e.Cause, "{") && !strings.HasSuffix(e.Cause, ".") && !strings.HasSuffix(e.Cause, "}") {
			t.Errorf("%s: its cause is no sentence", e.Code)
		}
		if text := general[e.Code]; strings.Contains(e.Cause, "{") && text == "" ||
			text != "" && (!strings.HasSuffix(text, ".") || strings.ContainsAny(text, "{}")) {
			t.Errorf("%s has no general text: %q", e.Code, text)
		}
		for _, word := range strings.FieldsFunc(e.General(), func(r rune) bool { return !unicode.IsUpper(r) }) {
			if len(word) > 1 && !slices.Contains([]string{"SSH", "API", "DNS", "SRV", "TXT", "RFC", "TLS", "DOCKER", "HOST"}, word) {
				t.Errorf("%s: a place is left in its general text: %s", e.Code, word)
			}
		}
		texts := []string{e.Cause}
		for _, r := range e.Try {
			texts = append(append(texts, r.Say), r.Run...)
			if len(r.Run) > 0 && strings.HasSuffix(r.Say, ".") || len(r.Run) == 0 && r.Say == "" {
				t.Errorf("%s: %q is not worded for its command", e.Code, r.Say)
			}
		}
		for _, text := range texts {
			if strings.Count(text, "{") != len(blank().FindAllString(text, -1)) {
				t.Errorf("%s: a place that cannot be filled in %q", e.Code, text)
			}
		}
	}
	for _, leg := range []string{"settings", "secret", "name", "tunnel", "port", "greeting", "tls", "login",
		"database", "query", "expect"} {
		if !catchAll[leg] {
			t.Errorf("the leg %s has no entry for what none of the others is", leg)
		}
	}
}

// TestWaiting holds what waiting can help with at a hop: that it cannot be reached now, or ended.
// Who it is, and that it does not let us in or on, stays.
func TestWaiting(t *testing.T) {
	passing := []Code{TunnelHopNotFound, TunnelRefused, TunnelSilent, TunnelStalled, TunnelUnreachable,
		TunnelNoFiles, TunnelNotOpened, TunnelDropped, TunnelNotSSH, TunnelLost, TunnelUnknown}
	for _, e := range All() {
		switch e.Code.Leg() {
		case "tunnel":
			if e.Waiting != slices.Contains(passing, e.Code) {
				t.Errorf("%s: waiting %v", e.Code, e.Waiting)
			}
		case "settings", "secret", "expect":
			if e.Waiting {
				t.Errorf("%s: waiting changes nothing here", e.Code)
			}
		case "login":
			if e.Waiting != (e.Code.Silent() || e.Code.Closed()) {
				t.Errorf("%s: waiting %v", e.Code, e.Waiting)
			}
		}
	}
}

func TestMake(t *testing.T) {
	f := Make(DatabaseMissing, About{
		Facts: Facts{FactDatabase: `bunk"house`, FactQuote: `"`, FactFirstDatabase: "postgres", FactNear: "bad\x1b"},
		Again: Again{Name: "huts/local", Flags: [][]string{{"--port", "6021"}, {"--database", "x"}}},
	}, "proof")
	if f.Leg != "database" || len(f.Seen) != 1 {
		t.Errorf("%+v", f)
	}
	want := []string{
		"See which databases there are: gharbor survey huts/local --port 6021 databases --database postgres",
		`Have an administrator of the server make it: create database "bunk""house"`,
	}
	var got []string
	for _, r := range f.Try {
		got = append(got, r.String())
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%q", got)
	}
	if f := Make("login.new-in-a-later-version", About{}); f.Code != LoginUnknown {
		t.Errorf("an unknown code becomes %s", f.Code)
	}
	if f := Make("elsewhere.strange", About{}); f.Code != QueryUnknown {
		t.Errorf("an unknown leg becomes %s", f.Code)
	}
	for saved, want := range map[bool]string{true: "gharbor show p", false: "Check the address."} {
		about := About{}
		if saved {
			about.Facts = Facts{FactProfile: "p"}
		}
		if f := Make(PortUnknown, about); len(f.Try) != 1 || !strings.HasSuffix(f.Try[0].String(), want) {
			t.Errorf("%v", f.Try)
		}
	}
}

// TestCarried gives which flags of a run a command repeats: none that it sets anew, and none that
// fights with one.
func TestCarried(t *testing.T) {
	run := [][]string{{"--host", "h"}, {"--port", "1"}, {"--tls", "verify"}, {"--tls-ca", "f"}, {"--user", "u"}}
	socket := [][]string{{"--socket", "/s"}, {"--user", "u"}}
	for _, c := range []struct {
		flags   [][]string
		command string
		want    string
	}{
		{run, "test {subject} --user x", "--host h --port 1 --tls verify --tls-ca f"},
		{run, "test {subject} --port 2", "--host h --tls verify --tls-ca f --user u"},
		{run, "test {subject} --host g", "--port 1 --tls verify --tls-ca f --user u"},
		{run, "test {subject} --socket /x", "--user u"},
		{run, "test {subject} --tls off", "--host h --port 1 --user u"},
		{run, "test {subject} --tls encrypt", "--host h --port 1 --tls-ca f --user u"},
		{socket, "test {subject} --host 127.0.0.1 --port 5", "--user u"},
		{socket, "test {subject} --port 5", "--user u"},
		{[][]string{{"--socket", "/s"}, {"--port", "1"}}, "test {subject} --host g", ""},
		{[][]string{{"--port", "1"}}, "test {subject} --host g", "--port 1"},
		{socket, "test {subject} --socket /t", "--user u"},
	} {
		if got := strings.Join(Again{Flags: c.flags}.carried(strings.Fields(c.command)), " "); got != c.want {
			t.Errorf("%s: %s", c.command, got)
		}
	}
}

// TestUnsaved words remedies for a profile that is being added.
func TestUnsaved(t *testing.T) {
	about := About{Facts: Facts{FactProfile: "p", FactFirstDatabase: "d", FactNear: "n", FactQuote: "`",
		FactDatabase: "x", FactHost: "h"}, Again: Again{Name: "p", Flags: [][]string{{"--test"}}, Unsaved: true}}
	f := Make(DatabaseMissing, about)
	if len(f.Try) != 2 || f.Try[0].String() != "A database of a near name is there: gharbor add p --test --database n" {
		t.Errorf("%v", f.Try)
	}
	if f = Make(DatabaseStartingUp, about); len(f.Try) != 1 || f.Try[0].Run != nil {
		t.Errorf("%v", f.Try)
	}
}

func TestPage(t *testing.T) {
	path := filepath.Join("..", "..", "docs", "findings.md")
	if os.Getenv("UPDATE_DOCS") != "" {
		if err := os.WriteFile(path, []byte(Page()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	page, err := os.ReadFile(path)
	if err != nil || string(page) != Page() {
		t.Errorf("docs/findings.md is not up to date (%v); UPDATE_DOCS=1 go test ./internal/finding writes it", err)
	}
	if strings.ContainsAny(string(page), "{}") {
		t.Error("a place is left unnamed")
	}
}
