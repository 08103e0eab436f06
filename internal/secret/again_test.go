//go:build unix

package secret

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"gentle-harbor/internal/finding"
)

// TestAgain follows references for a further connection: nobody is asked, and what is bound stays bound.
func TestAgain(t *testing.T) {
	folder := t.TempDir()
	credentials := filepath.Join(folder, "credentials")
	if err := os.WriteFile(credentials, []byte(CredentialsHeader+"\nat db:5432\n  warden_app on bunkhouse: "+canary+"\n  reader: "+canary+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	asked := false
	f := Finder{Credentials: credentials, Env: func(string) (string, bool) { return "now another", true }, Ask: func(context.Context, Way) (Secret, error) { asked = true; return New("typed"), nil }}
	way := func(user, database string) Way {
		return Way{User: user, TLS: "verify", Endpoint: Endpoint{Host: "db", Port: 5432, Database: database}}
	}
	for _, c := range []struct {
		name string
		f    Finder
		ref  Reference
		way  Way
		want string // "" for a problem
	}{
		{"bound to the database", f, Reference{}, way("warden_app", "bunkhouse"), canary},
		{"bound to another database", f, Reference{}, way("warden_app", "postgres"), ""},
		{"bound to the server", f, Reference{}, way("reader", "postgres"), canary},
		{"named, bound to another", f, Reference{Kind: Credentials}, way("warden_app", "postgres"), ""},
		{"a variable", f, Reference{Kind: Variable, Of: "X"}, way("warden_app", "postgres"), "as found"},
		{"a program", f, Reference{Kind: Command, Args: []string{"/no/such"}}, way("warden_app", "postgres"), "as found"},
		{"typed", f, Reference{Kind: Ask}, way("warden_app", "postgres"), ""},
	} {
		s, _, err := c.f.Again(c.ref, New("as found")).Find(t.Context(), Want{Ref: c.ref, Way: c.way})
		var p *finding.Problem
		if c.want == "" && !errors.As(err, &p) || c.want != "" && (err != nil || s.Reveal() != c.want) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	if asked {
		t.Error("someone was asked")
	}
}

// TestCommandEnds runs programs that do not want to end.
func TestCommandEnds(t *testing.T) {
	run := func(ctx context.Context, script string) (Secret, time.Duration, error) {
		began := time.Now()
		s, _, err := Finder{}.Find(ctx, Want{Ref: Reference{Kind: Command, Args: []string{"sh", "-c", script}}})
		return s, time.Since(began), err
	}
	if s, took, err := run(t.Context(), "sleep 30 & printf "+canary); err != nil || s.Reveal() != canary || took > 3*time.Second {
		t.Errorf("a child that holds the output: %v after %s", err, took)
	}
	if _, took, err := run(t.Context(), "yes"); err == nil || took > 3*time.Second {
		t.Errorf("endless output: %v after %s", err, took)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	if _, took, err := run(ctx, "trap '' TERM; sleep 30; sleep 30"); !errors.Is(err, context.DeadlineExceeded) || took > 3*time.Second {
		t.Errorf("interrupted: %v after %s", err, took)
	}
}
