package keys

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// TestThePagesAreMadeFromTheTable holds that docs/json.md and docs/schemas are what the table
// says; UPDATE_DOCS=1 writes them.
func TestThePagesAreMadeFromTheTable(t *testing.T) {
	forms, _ := Forms()
	want := map[string]string{"../../../docs/json.md": Page()}
	for _, form := range forms {
		want["../../../docs/schemas/"+form.Name()+".schema.json"] = string(Schema(form))
	}
	if len(want) != len(forms)+1 {
		t.Errorf("%d forms have %d names", len(forms), len(want)-1)
	}
	if os.Getenv("UPDATE_DOCS") != "" {
		_ = os.MkdirAll("../../../docs/schemas", 0o755)
		for path, text := range want {
			must(t, os.WriteFile(path, []byte(text), 0o644))
		}
	}
	for path, text := range want {
		if have, err := os.ReadFile(path); err != nil || string(have) != text {
			t.Errorf("%s is not what the table says: %v", path, err)
		}
	}
	all, _ := filepath.Glob("../../../docs/schemas/*")
	if len(all) != len(forms) {
		t.Errorf("%d schemas for %d forms", len(all), len(forms))
	}
}

// TestSchemasRefuse gives schemas objects that they take and objects that they must refuse.
func TestSchemasRefuse(t *testing.T) {
	forms, _ := Forms()
	byName := map[string]Form{}
	for _, form := range forms {
		byName[form.Name()] = form
	}
	for _, c := range []struct {
		form, value string
		ok          bool
	}{
		{"version", `{"version": "1", "go": "go1", "system": "linux/amd64"}`, true},
		{"version", `{"version": 1, "go": "go1", "system": "linux/amd64"}`, false},
		{"version", `{"version": "1"}`, false},
		{"version", `{"error": "no", "exit": 3}`, true},
		{"list", `{"profiles": []}`, true},
		{"list", `{"profiles": null}`, false},
		{"alias-users", `{"alias": "a", "users": [], "not_looked_into": null}`, true},
		{"alias-show", `{"alias": "a", "owner": "mine", "file": "f", "line": 1, "others": ["g:1"]}`, true},
		{"alias-show", `{"alias": "a", "owner": "mine", "file": "f"}`, false},
		{"cloud-admit", `{"admitted": {"server": "a/b", "range": "1.2.3.4/32", "caller": "1.2.3.4", "until": null, "already": false}, "greets": true}`,
			true},
		{"cloud-admit", `{"finding": {"code": "cloud.silent", "leg": "cloud", "cause": "c", "seen": null, "try": []}, "exit": 5}`,
			true},
		{"cloud-admit", `{"finding": {"code": "cloud.silent"}, "exit": 5}`, false},
	} {
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(Schema(byName[c.form]))))
		must(t, err)
		compiler := jsonschema.NewCompiler()
		must(t, compiler.AddResource("s.json", value))
		schema, err := compiler.Compile("s.json")
		if err != nil {
			t.Fatalf("%s: %v", c.form, err)
		}
		object, err := jsonschema.UnmarshalJSON(strings.NewReader(c.value))
		must(t, err)
		if err := schema.Validate(object); (err == nil) != c.ok {
			t.Errorf("%s: %s: %v", c.form, c.value, err)
		}
	}
	var help strings.Builder
	if Help(&help); !strings.Contains(help.String(), "profiles[].finding.code") {
		t.Errorf("help has no findings:\n%s", &help)
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
