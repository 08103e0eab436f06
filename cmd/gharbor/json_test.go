//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"gentle-harbor/internal/report/keys"
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

// TestJSONIsAsItIsWrittenDown holds what commands print against the schema of each, and that
// every key of it is in the table.
func TestJSONIsAsItIsWrittenDown(t *testing.T) {
	t.Parallel()
	forms, shared := keys.Forms()
	known := map[string][]*regexp.Regexp{}
	schemas := map[string]*jsonschema.Schema{}
	var expand func(title, before string, form keys.Form)
	expand = func(title, before string, form keys.Form) {
		for _, key := range form.Keys {
			path := strings.TrimSuffix(before+key.Path, ".")
			if of, is := shared[key.Type]; is {
				expand(title, strings.TrimPrefix(path+".", "."), of)
				continue
			}
			pattern := strings.NewReplacer(`\[\]`, `(\[\])`, `\*`, `.+`).Replace(regexp.QuoteMeta(path))
			known[title] = append(known[title], regexp.MustCompile("^"+pattern+"$"))
		}
	}
	expand("", "", keys.Form{Keys: []keys.Key{{Path: "error"}, {Path: "exit"}, {Path: "finding", Type: "finding"}}})
	for _, form := range forms {
		compiler := jsonschema.NewCompiler()
		schema, err := compiler.Compile("../../docs/schemas/" + form.Name() + ".schema.json")
		must(t, err)
		for title := range strings.SplitSeq(form.Title, ", ") {
			schemas[title] = schema
			expand(title, "", form)
		}
	}
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary, "WEAK=warden_app")
	w.profile("huts/local", s, "--secret", "env:PW", "--label", "season=winter", "--note", "a note",
		"--expect", "superuser=false")
	w.must(0, "add", "huts/base", "--base", "huts/local", "--user", "reader")
	w.profile("huts/weak", s, "--secret", "env:WEAK")
	w.write("gharbor/profiles/broken.yaml", "x")
	pp := w.withWallet("at h:1\n  u: x\nat *.fellside.example\n  none without password\n")
	w.write("gharbor/credentials", credentials.Header+"\nat 127.0.0.1\n  warden_app: "+canary+"\nat h\n  u on d: x\n")
	w.write("gharbor/aliases.yaml", fmt.Sprintf("bookings: {engine: postgres, addresses: [%q, %q], wants: "+
		"primary, note: x}\nother: {same-as: bookings}\nbad: {engine: postgres}\n",
		s.Address(), "127.0.0.1:1"))
	w.must(0, "add", "huts/aliased", "--alias", "bookings", "--user", "warden_app", "--secret", "none")
	inCloud := newClouded(t)
	inCloud.confirming()
	inCloud.signIn()
	inCloud.cloud.Admit("srv-1", "127.0.0.0/8", nil, true)
	inCloud.must(0, "add", "live", "--engine", "postgres", "--cloud", "fellside/bunkhouse",
		"--database", "bunkhouse", "--secret", "cloud")
	loaded := w.write("huts.csv", "id,name,height,valley\n21,High Fold,702,Wether Dale\n")
	checked, seen := 0, map[string]bool{}
	for _, c := range []string{
		"version", "list", "show huts/local", "show huts/base --hidden", "show nothing", "test huts/local",
		"test huts/local --port 1", "test huts/local --expect superuser=true", "test huts/ --parallel 2",
		"test huts/local --repeat 2", "await huts/local --for 1s", "history huts/local",
		"run huts/local select+1+as+a", "run huts/local delete+from+booking+where+id=1",
		"run huts/local selec", "run huts/local select+1 --dry", "run huts/ select+1+as+a",
		"load huts/local hut " + loaded, "load huts/local hut " + loaded, "load huts/local hutt " + loaded,
		"survey huts/local databases", "survey huts/local", "survey huts/local table hut",
		"survey huts/local settings", "survey huts/local rights --since-last",
		"meaning port.refused", "meaning", "meaning --at huts/local", "meaning --at huts/old --yes",
		"agree --list", "wallet list", "wallet list --passphrase-file " + pp,
		"wallet check --passphrase-file " + pp, "wallet list --name none",
		"credentials list", "credentials why huts/local", "credentials why huts/base", "credentials check",
		"audit", "find", "find --only containers --add --all",
		"alias list", "alias show bookings", "alias probe bookings --repeat 2", "alias check",
		"alias users bookings", "hops list", "hops forget gate", "doors", "release huts/local",
		"cloud status", "cloud servers", "cloud show bunkhouse", "cloud show bunkhose",
		"cloud admit live --yes", "cloud admissions", "test live",
	} {
		words := strings.Fields(c)
		for i := range words {
			words[i] = strings.ReplaceAll(words[i], "+", " ")
		}
		title := words[0]
		if len(words) > 1 && schemas[title+" "+words[1]] != nil {
			title += " " + words[1]
		}
		for _, flag := range []string{"--repeat", "--add", "--dry"} {
			if schemas[title+" "+flag] != nil && slices.Contains(words, flag) {
				title += " " + flag
			}
		}
		seen[title] = true
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
		if schemas[title] == nil {
			t.Fatalf("%s has no schema", title)
		}
		if value, err := jsonschema.UnmarshalJSON(strings.NewReader(r.out)); err != nil ||
			schemas[title].Validate(value) != nil {
			t.Errorf("%s: %v\n%s", c, schemas[title].Validate(value), r.out)
		}
		found := map[string]bool{}
		paths(value, "", found)
		for path := range found {
			stands := false
			for _, pattern := range append(known[title], known[""]...) {
				stands = stands || pattern.MatchString(path) ||
					pattern.MatchString(strings.TrimSuffix(path, "[]")) ||
					strings.HasSuffix(path, "[]") && pattern.MatchString(path+"[]")
			}
			if checked++; !stands && !strings.HasSuffix(path, "[]") {
				t.Errorf("%s prints %s, which its table does not have", c, path)
			}
		}
	}
	for title := range schemas {
		if !seen[title] && title != "hold" { // TestDoorsForEveryClient reads what hold prints
			t.Errorf("%s was not run", title)
		}
	}
	if checked < 150 {
		t.Errorf("%d keys were looked at", checked)
	}
}
