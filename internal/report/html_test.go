package report

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
)

// words of a stranger that would be markup, a script, or another order of letters.
const stranger = `</title></style><script>alert(1)</script>"'><img src=x onerror=alert(2)><a href="javascript:alert(3)">{{.}}` +
	"\u202e\u2066\x1b[2J\x00\u0085"

// strange is a report in which every text is a stranger's.
func strange() (*Tested, checkup.Past) {
	r := &checkup.Report{Profile: stranger, Exit: 5, MS: 2,
		Legs: []checkup.Leg{{Name: stranger, OK: &yes, MS: 1, Saw: stranger},
			{Name: stranger, OK: &no, MS: 1, Saw: stranger}, {Name: stranger}},
		Attempts: []checkup.Attempt{{Address: stranger,
			Legs: []checkup.Leg{{Name: stranger, OK: &no, Saw: stranger}}}, {Address: stranger}},
		Notes: []string{stranger}, Another: stranger,
		Server: &checkup.Server{Product: stranger, Version: stranger, User: stranger, Account: stranger,
			Identity: stranger, Client: stranger, Session: stranger, Login: stranger, Database: stranger},
		Expect: []checkup.Expectation{{What: stranger, Saw: stranger}},
		Finding: &finding.Finding{Code: stranger, Cause: stranger, Seen: []string{stranger},
			Try: []finding.Remedy{{Say: stranger, Run: []string{"test", stranger}},
				{Say: stranger + ": gharbor " + stranger}}}}
	p := profile.Resolve(files.World{}, "huts/local",
		profile.Layer{"engine": {Text: "mysql"}, "host": {Text: stranger}, "user": {Text: stranger},
			"database": {Text: stranger}, "via": {List: []string{"ops@gate"}}})
	past := checkup.Past{When: time.Unix(1e9, 0), Code: stranger, MS: 1, Address: stranger, Version: stranger,
		Account: stranger, Finding: r.Finding}
	return &Tested{Word: stranger, Profile: p, Report: r}, past
}

// TestPagesOfStrangers has every text of a page be a stranger's: none becomes markup, loads
// anything or turns the letters round.
func TestPagesOfStrangers(t *testing.T) {
	one, past := strange()
	made := time.Unix(1e9, 0)
	tags := regexp.MustCompile(`<[!/]?([a-zA-Z0-9-]+)`)
	plain := map[string]bool{}
	var clean strings.Builder
	must(t, HTML(&clean, made, samples()))
	good := checkup.Past{When: made, OK: true, MS: 3}
	if err := HTMLHistory(&clean, made, "huts/local", []checkup.Past{good, {When: made, Code: "port.refused"}},
		[]string{"port was 1, and is 2"}); err != nil {
		t.Fatal(err)
	}
	for _, m := range tags.FindAllStringSubmatch(clean.String(), -1) {
		plain[m[1]] = true
	}
	for name, write := range map[string]func(*strings.Builder) error{
		"tests": func(b *strings.Builder) error { return HTML(b, made, []*Tested{one, one}) },
		"history": func(b *strings.Builder) error {
			return HTMLHistory(b, made, stranger, []checkup.Past{good, past}, []string{stranger})
		},
	} {
		var b strings.Builder
		must(t, write(&b))
		page := b.String()
		for _, m := range tags.FindAllStringSubmatch(page, -1) {
			if !plain[m[1]] {
				t.Errorf("%s: there is a <%s>", name, m[1])
			}
		}
		if n := strings.Count(page, "&lt;script&gt;"); n < 8 {
			t.Errorf("%s: the words are shown %d times", name, n)
		}
		for _, bad := range []string{"<script", " onerror=alert(2)><a", "src=\"", "url(", "@import", "http:",
			"https:", "ZgotmplZ"} {
			if strings.Contains(page, bad) {
				t.Errorf("%s: %q is in it", name, bad)
			}
		}
		if i := strings.IndexFunc(strings.ReplaceAll(page, "\n", ""), outside.Unsafe); i >= 0 {
			t.Errorf("%s: an unsafe character: %q", name, strings.ReplaceAll(page, "\n", "")[max(0, i-20):i+9])
		}
	}
}

// TestPages shows what a page has of a good test, a failed one, one that could not be read, and
// of a history.
func TestPages(t *testing.T) {
	var b strings.Builder
	must(t, HTML(&b, time.Unix(1e9, 0).UTC(), samples()))
	for _, part := range []string{
		"3 profiles: 1 connected, 2 failed", "2001-09-09 01:46:40 UTC", `<a href="#t2">huts/#2</a>`,
		`<article id="t2" class="failed">`, `state-failed`, "FAILED", "not reached",
		"finding <code>port.refused</code>",
		"<li>the system said:", `<code class="command">gharbor test huts/#2 --port 2</code>`,
		"failed: 127.0.0.2:1", "<dt>server</dt><dd>MySQL 8.4</dd>", "expected", "Note: It can be guessed.",
		"broken.yaml:1: it is", `style="width: 100%"`,
	} {
		if !strings.Contains(b.String(), part) {
			t.Errorf("%q is missing in:\n%s", part, b.String())
		}
	}
	b.Reset()
	list := []checkup.Past{{When: time.Unix(1e9, 0), OK: true, MS: 4, Version: "PostgreSQL 16",
		Account: "reader"}, {When: time.Unix(2e9, 0), Code: "port.refused", MS: 2}}
	must(t, HTMLHistory(&b, time.Unix(1e9, 0), "huts/local", list, []string{"port was 1, and is 2"}))
	entry, _ := finding.Lookup("port.refused")
	for _, part := range []string{"2 tests: 1 good, 1 failed", entry.General()[:20],
		"<li>port was 1, and is 2</li>", "the longest bar is 4.0 ms", `style="width: 50%"`, "PostgreSQL 16, reader"} {
		if !strings.Contains(b.String(), part) {
			t.Errorf("%q is missing in:\n%s", part, b.String())
		}
	}
}
