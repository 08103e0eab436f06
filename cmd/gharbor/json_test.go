//go:build unix

package main

import (
	"encoding/json"
	"os"
	"regexp"
	"strings"
	"testing"

	"gentle-harbor/internal/secret/keep/credentials"

	"gentle-harbor/internal/standin"
)

// paths lists the keys of a JSON value, as docs/json.md writes them.
func paths(value any, at string, into map[string]bool) {
	switch v := value.(type) {
	case map[string]any:
		for key, inner := range v {
			if at != "" {
				key = at + "." + key
			}
			paths(inner, key, into)
		}
	case []any:
		if len(v) == 0 {
			into[at+"[]"] = true
		}
		for _, inner := range v {
			paths(inner, at+"[]", into)
		}
	default:
		into[at] = true
	}
}

// TestJSONIsAsItIsWrittenDown holds that every key that a command prints is in docs/json.md.
func TestJSONIsAsItIsWrittenDown(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../../docs/json.md")
	must(t, err)
	known := map[string][]*regexp.Regexp{}
	key := regexp.MustCompile("`([a-z0-9_.*\\[\\]]+)`")
	for _, section := range strings.Split(string(page), "\n## ") {
		title, body, _ := strings.Cut(section, "\n")
		if strings.HasPrefix(title, "# ") {
			title = ""
		}
		for line := range strings.Lines(body) {
			cells := strings.SplitN(line, "|", 3)
			if len(cells) < 3 {
				continue
			}
			for _, match := range key.FindAllStringSubmatch(cells[1], -1) {
				pattern := strings.NewReplacer(`\[\]`, `(\[\])`, `\*`, `.+`).Replace(regexp.QuoteMeta(match[1]))
				for _, command := range strings.Split(title, ", ") {
					known[command] = append(known[command], regexp.MustCompile("^"+pattern+"$"))
				}
			}
		}
	}
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary, "WEAK=warden_app")
	w.profile("huts/local", s, "--secret", "env:PW", "--label", "season=winter", "--note", "a note", "--expect", "superuser=false")
	w.must(0, "add", "huts/base", "--base", "huts/local", "--user", "reader")
	w.profile("huts/weak", s, "--secret", "env:WEAK")
	w.write("gharbor/profiles/broken.yaml", "x")
	pp := w.withWallet("at h:1\n  u: x\nat *.fellside.example\n  none without password\n")
	w.write("gharbor/credentials", credentials.Header+"\nat 127.0.0.1\n  warden_app: "+canary+"\nat h\n  u on d: x\n")
	inCloud := newClouded(t)
	inCloud.confirming()
	inCloud.signIn()
	inCloud.cloud.Admit("srv-1", "127.0.0.0/8", nil, true)
	inCloud.must(0, "add", "live", "--engine", "postgres", "--cloud", "fellside/bunkhouse", "--database", "bunkhouse", "--secret", "cloud")
	checked := 0
	for _, c := range []string{
		"version", "list", "show huts/local", "show huts/base --all", "show nothing", "test huts/local", "test huts/local --port 1", "test huts/local --expect superuser=true", "test huts/ --parallel 2",
		"test huts/local --repeat 2", "await huts/local --for 1s", "history huts/local", "run huts/local select+1+as+a", "run huts/local delete+from+booking+where+id=1", "run huts/local selec", "survey huts/local databases",
		"meaning port.refused", "meaning", "agree --list", "wallet list", "wallet list --passphrase-file " + pp, "wallet check --passphrase-file " + pp, "wallet list --name none",
		"credentials list", "credentials why huts/local", "credentials why huts/base", "credentials check", "audit", "find", "find --only containers --add --all",
		"cloud status", "cloud servers", "cloud show bunkhouse", "cloud show bunkhose", "cloud admit live --yes", "cloud admissions", "test live",
	} {
		words := strings.Fields(c)
		for i := range words {
			words[i] = strings.ReplaceAll(words[i], "+", " ")
		}
		title := words[0]
		if title == "wallet" || title == "credentials" || title == "cloud" {
			title += " " + words[1]
		}
		in := w
		if words[0] == "cloud" || c == "test live" {
			in = inCloud.world
		}
		r := in.run(append(words, "--json")...)
		var value any
		if err := json.Unmarshal([]byte(r.out), &value); err != nil {
			t.Errorf("%s: %v\n%s%s", c, err, r.out, r.err)
			continue
		}
		found := map[string]bool{}
		paths(value, "", found)
		for path := range found {
			stands := false
			for _, pattern := range append(known[title], known[""]...) {
				stands = stands || pattern.MatchString(path) || pattern.MatchString(strings.TrimSuffix(path, "[]")) || strings.HasSuffix(path, "[]") && pattern.MatchString(path+"[]")
			}
			if checked++; !stands && !strings.HasSuffix(path, "[]") {
				t.Errorf("%s prints %s, which docs/json.md does not have", c, path)
			}
		}
	}
	if checked < 150 || len(known) < 15 {
		t.Errorf("%d keys were looked at, %d commands are written down", checked, len(known))
	}
}
