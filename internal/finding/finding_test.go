package finding

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestCatalogueIsWhole(t *testing.T) {
	seen := map[string]bool{}
	catchAll := map[string]bool{}
	for _, e := range All() {
		if seen[e.Code] {
			t.Errorf("%s stands twice", e.Code)
		}
		seen[e.Code] = true
		leg := Leg(e.Code)
		if e.Code == leg+".unknown" {
			catchAll[leg] = true
		}
		if e.Cause == "" || len(e.Try) == 0 {
			t.Errorf("%s has no cause or no remedy", e.Code)
		}
		if !strings.HasPrefix(e.Cause, "{") && !strings.HasSuffix(e.Cause, ".") && !strings.HasSuffix(e.Cause, "}") {
			t.Errorf("%s: its cause is no sentence", e.Code)
		}
		for _, text := range append(e.Try, e.Cause) {
			if strings.Count(text, "{") != len(blank().FindAllString(text, -1)) {
				t.Errorf("%s: a place that cannot be filled in %q", e.Code, text)
			}
		}
	}
	for _, leg := range []string{"settings", "secret", "name", "port", "greeting", "tls", "login", "database", "query", "expect"} {
		if !catchAll[leg] {
			t.Errorf("the leg %s has no entry for what none of the others is", leg)
		}
	}
}

func TestMake(t *testing.T) {
	f := Make("database.missing", map[string]string{
		"subject": "huts/local", "database": `bunk"house`, "quote": `"`, "first-database": "postgres", Overrides: "--port 6021\n--database x\n",
	}, "proof")
	if f.Leg != "database" || len(f.Seen) != 1 {
		t.Errorf("%+v", f)
	}
	want := []string{
		"See which there are, by way of one that every server has: gharbor survey huts/local --port 6021 databases --database postgres",
		`Have someone who administers the server make it: create database "bunk""house"`,
	}
	if strings.Join(f.Try, "\n") != strings.Join(want, "\n") {
		t.Errorf("%q", f.Try)
	}
	if f := Make("login.new-in-a-later-version", nil); f.Code != "login.unknown" {
		t.Errorf("an unknown code becomes %s", f.Code)
	}
	if f := Make("elsewhere.strange", nil); f.Code != "query.unknown" {
		t.Errorf("an unknown leg becomes %s", f.Code)
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
