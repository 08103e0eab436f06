package harbor

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestAuditLeavesStrangersAlone has a project name a file of the user's: its mode is not changed
// for a project that nobody agreed to.
func TestAuditLeavesStrangersAlone(t *testing.T) {
	r, who, _ := newRun(t)
	r.Dir = t.TempDir()
	for _, folder := range []string{".gentle-harbor/profiles"} {
		must(t, os.MkdirAll(filepath.Join(r.Dir, folder), 0o755))
	}
	key := filepath.Join(r.Dir, "deploy.key")
	profile := "engine: postgres\nhost: h\nuser: u\nsecret: env:PW\ntls: {mode: verify, cert: ../../deploy.key, " +
		"key: ../../deploy.key}\n"
	for path, text := range map[string]string{filepath.Join(r.Dir, ".gentle-harbor/profiles/p.yaml"): profile, key: "x"} {
		must(t, os.WriteFile(path, []byte(text), 0o644))
	}
	mode := func() os.FileMode {
		info, err := os.Stat(key)
		must(t, err)
		return info.Mode().Perm()
	}
	must(t, os.Chmod(key, 0o644))
	a, err := r.Audit(t.Context(), true, false)
	if err != nil || mode() != 0o644 || a.Fixed != 0 || len(who.Log) > 0 {
		t.Errorf("%v, mode %o, %+v, asked %q", err, mode(), a, who.Log)
	}
	if said := strings.Contains(a.Findings[len(a.Findings)-1].What, "was not agreed to"); !said {
		t.Errorf("%+v", a.Findings)
	}
	stack, terms, err := r.TermsOf("p")
	must(t, err)
	agreements, err := r.Agreements()
	must(t, err)
	must(t, agreements.Agree(t.Context(), terms, testTime))
	if a, err = r.Audit(t.Context(), true, false); err != nil || mode() != 0o600 || a.Fixed != 1 {
		t.Errorf("%s is agreed to: %v, mode %o, %+v", stack.Name, err, mode(), a)
	}
}
