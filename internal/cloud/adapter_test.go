package cloud

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/finding"
)

// TestAdapterOfTheGuide builds the adapter that docs/cloud.md shows, runs it, and goes the whole
// way with it.
func TestAdapterOfTheGuide(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../../docs/cloud.md")
	must(t, err)
	_, code, _ := strings.Cut(string(page), "```go\n")
	code, _, found := strings.Cut(code, "```")
	if n := strings.Count(code, "\n"); !found || n > 150 {
		t.Fatalf("it has %d lines", n)
	}
	folder := t.TempDir()
	for name, text := range map[string]string{"main.go": code, "go.mod": "module adapter\n\ngo 1.24\n"} {
		must(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	build := exec.Command("go", "build", "-o", "adapter", ".")
	build.Dir, build.Env = folder, append(os.Environ(), "GOFLAGS=-mod=mod", "GOWORK=off", "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	address := l.Addr().String()
	_ = l.Close()
	adapter := exec.Command(filepath.Join(folder, "adapter"), address)
	must(t, adapter.Start())
	defer func() { _ = adapter.Process.Kill(); _ = adapter.Wait() }()
	origin, err := ParseOrigin("http://" + address)
	must(t, err)
	c, err := NewClient(Account{Name: "adapter", Origin: origin}, nil)
	must(t, err)
	for end := time.Now().Add(20 * time.Second); c.Discover(t.Context()) != nil; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal(c.Discover(t.Context()))
		}
	}
	key, err := NewKey()
	must(t, err)
	c.Session = &Session{File: filepath.Join(folder, "s.json"), Keys: keys{key}}
	asked, err := c.Ask(t.Context())
	must(t, err)
	tokens, err := c.Wait(t.Context(), asked, func(Waiting) {}, func(context.Context, time.Duration) error {
		answer, err := http.PostForm(asked.Page, url.Values{"code": {asked.Code}})
		if err == nil {
			_ = answer.Body.Close()
		}
		return err
	})
	must(t, err)
	signed, err := c.Session.Keep(t.Context(), c, key, tokens)
	if err != nil || signed.Who != "keeper@fellside.example" {
		t.Fatalf("%v %v", signed, err)
	}
	s, err := c.Server(t.Context(), "bunkhouse")
	if err != nil || s.ID != "db-1" {
		t.Fatalf("%v %v", s, err)
	}
	if names, err := c.Databases(t.Context(), s.ID); err != nil || len(names) != 1 {
		t.Errorf("%v %v", names, err)
	}
	if _, err := c.Login(t.Context(), s.ID, "", ""); codeOf(err) != finding.SecretCloudHasNone {
		t.Errorf("%v", err)
	}
	until := time.Now().Add(time.Hour)
	if err := c.Admit(t.Context(), s.ID, netip.MustParsePrefix("127.0.0.1/32"), &until, "", func(int) {}); err != nil {
		t.Error(err)
	}
	if standing, err := c.Standing(t.Context(), s.ID, 4); err != nil || !standing.Admitted() {
		t.Errorf("%+v %v", standing, err)
	} else if err := c.Withdraw(t.Context(), standing.List[0], func(int) {}); err != nil {
		t.Error(err)
	}
	again, err := c.Refresh(t.Context(), c.Session.tokens.Refresh)
	must(t, err)
	if _, err := c.Refresh(t.Context(), c.Session.tokens.Refresh); codeOf(err) != finding.CloudExpired {
		t.Errorf("an old token: %v", err)
	}
	if err := c.Revoke(t.Context(), again.Refresh); err != nil {
		t.Error(err)
	}
	if _, err := c.Refresh(t.Context(), again.Refresh); codeOf(err) != finding.CloudExpired {
		t.Errorf("a revoked token: %v", err)
	}
}
