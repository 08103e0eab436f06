package harbor

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/route/jump"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
	"gentle-harbor/internal/target"
)

// TestAProjectsAuthorityGetsNoKeptPassword has an agreed project bring an authority of its own,
// and a server that this authority verifies: what is stored for the host is not sent there,
// unless it is stored for that authority.
func TestAProjectsAuthorityGetsNoKeptPassword(t *testing.T) {
	theirs, err := standin.NewAuthority("theirs")
	must(t, err)
	served, err := theirs.Serve(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), "localhost", "127.0.0.1")
	must(t, err)
	s, err := standin.Start(standin.Config{Engine: "postgres",
		Accounts: map[string]string{"warden_app": canary}, TLS: served})
	must(t, err)
	t.Cleanup(s.Close)
	r, who, _ := newRun(t)
	who.Away = true
	r.Dir = t.TempDir()
	pem := string(theirs.PEM)
	profile := "engine: postgres\nhost: 127.0.0.1\nport: " + itoa(s.Port()) +
		"\nuser: warden_app\ndatabase: bunkhouse\ntls: {mode: verify, ca: ../../ca.pem}\n"
	for path, text := range map[string]string{".gentle-harbor/profiles/p.yaml": profile, "ca.pem": pem} {
		path = filepath.Join(r.Dir, path)
		must(t, os.MkdirAll(filepath.Dir(path), 0o755))
		must(t, os.WriteFile(path, []byte(text), 0o644))
	}
	_, terms, err := r.TermsOf("p")
	must(t, err)
	agreements, err := r.Agreements()
	must(t, err)
	must(t, agreements.Agree(t.Context(), terms, testTime))
	file, err := r.CredentialFile("", "")
	must(t, err)
	test := func() *checkup.Report {
		t.Helper()
		to, err := r.Aim(t.Context(), "p", false)
		must(t, err)
		report, err := r.Test(t.Context(), to, nil)
		must(t, err)
		return report
	}
	if _, err := r.AddCredential(t.Context(), file,
		target.Target{User: "warden_app", TLS: "verify", Endpoint: target.Endpoint{Host: "127.0.0.1"}},
		secret.New(canary), true); err != nil {
		t.Fatal(err)
	}
	if report := test(); report.Code() != "secret.bound-elsewhere" ||
		!strings.Contains(report.Finding.Cause, "an authority of a project") {
		t.Errorf("%s: %+v", report.Code(), report.Finding)
	}
	// Your own file of the same bytes is your own trust.
	mine := filepath.Join(r.Dir, "mine.pem")
	must(t, os.WriteFile(mine, []byte(pem), 0o644))
	r.Set = set(t, "tls.ca", mine)
	if report := test(); !report.OK {
		t.Errorf("your own authority: %+v", report.Finding)
	}
	// What is put in for the project's profile is bound to the bytes of its authority.
	r.Set = nil
	to, err := r.Bind(t.Context(), "credentials add", Binding{Profile: "p"})
	if err != nil || !strings.HasPrefix(to.Authority, "sha256:") {
		t.Fatalf("%+v, %v", to, err)
	}
	if _, err := r.AddCredential(t.Context(), file, to, secret.New(canary), true); err != nil {
		t.Fatal(err)
	}
	if report := test(); !report.OK {
		t.Errorf("stored for this authority: %+v", report.Finding)
	}
}

// TestAQuestionForAHostKey shows a person what was given beforehand for another key.
func TestAQuestionForAHostKey(t *testing.T) {
	r, who, _ := newRun(t, [2]string{"Is it the same?", "no"})
	yes, err := r.acceptHostKey(t.Context(),
		jump.HostKey{Hop: "ops@gate", Type: "ssh-ed25519", Fingerprint: "SHA256:shown",
			Given: []string{"SHA256:given"}})
	shown := strings.Join(who.Log, "\n")
	if yes || err != nil || who.Wrong != "" ||
		!strings.Contains(shown, "--accept-host-key was given for another key:\n  SHA256:given") {
		t.Errorf("%t, %v, %s\n%s", yes, err, who.Wrong, shown)
	}
}
