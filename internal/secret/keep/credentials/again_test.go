//go:build unix

package credentials_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/credentials"
	"gentle-harbor/internal/target"
)

const canary = "canary-5b2f"

// TestAgain follows references for a further connection: nobody is asked, and what is bound stays
// bound.
func TestAgain(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "credentials")
	if err := os.WriteFile(path, []byte(credentials.Header+"\nat db:5432\n  warden_app on bunkhouse: "+canary+"\n  reader: "+canary+"\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	asked := false
	f := secret.Finder{CredentialFile: func(string) secret.Keeper { return credentials.File(path) },
		Env: func(string) (string, bool) { return "now another", true },
		Ask: func(context.Context, target.Target) (secret.Secret, error) {
			asked = true
			return secret.New("typed"), nil
		}}
	dest := func(user, database string) target.Target {
		return target.Target{User: user, TLS: "verify", Endpoint: target.Endpoint{Host: "db", Port: 5432, Database: database}}
	}
	for _, c := range []struct {
		name string
		f    secret.Finder
		ref  secret.Reference
		dest target.Target
		want string // "" for a problem
	}{
		{"bound to the database", f, secret.Reference{}, dest("warden_app", "bunkhouse"), canary},
		{"bound to another database", f, secret.Reference{}, dest("warden_app", "postgres"), ""},
		{"bound to the server", f, secret.Reference{}, dest("reader", "postgres"), canary},
		{"named, bound to another", f, secret.Reference{Kind: secret.Credentials}, dest("warden_app", "postgres"), ""},
		{"a variable", f, secret.Reference{Kind: secret.Variable, Of: "X"}, dest("warden_app", "postgres"), "as found"},
		{"a program", f, secret.Reference{Kind: secret.Command, Args: []string{"/no/such"}},
			dest("warden_app", "postgres"), "as found"},
		{"typed", f, secret.Reference{Kind: secret.Ask}, dest("warden_app", "postgres"), ""},
	} {
		s, _, err := c.f.Again(c.ref, secret.New("as found")).Find(t.Context(), secret.Want{Ref: c.ref, Target: c.dest})
		var p *finding.Problem
		if c.want == "" && !errors.As(err, &p) || c.want != "" && (err != nil || s.Reveal() != c.want) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	if asked {
		t.Error("someone was asked")
	}
}
