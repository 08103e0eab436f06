package harbor

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/harbor/worldtest"
	"gentle-harbor/internal/standin"
)

// TestFoundAndAdded finds a server in a container, in a Compose file and in a variable, and makes a
// profile of the container's. No note and no profile has the password.
func TestFoundAndAdded(t *testing.T) {
	s := start(t, standin.Faults{})
	folder, err := os.MkdirTemp("", "ghe") // a socket's path is short
	must(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	e, err := standin.StartEngine(filepath.Join(folder, "e"))
	must(t, err)
	t.Cleanup(e.Close)
	e.Put(standin.Contained{Name: "hutdb", Image: "postgres:16", Published: map[int][]string{5432: {s.Address()}},
		Env: []string{"POSTGRES_USER=warden_app", "POSTGRES_PASSWORD=" + canary, "POSTGRES_DB=bunkhouse"}})
	r, who, notes := newRun(t)
	who.Away = true
	r.Environ = append(r.Environ, "DOCKER_HOST=unix://"+folder+"/e", "ORDERS_URL=mysql://reader:"+canary+"@h/orders")
	if err := os.WriteFile(filepath.Join(r.Dir, "compose.yaml"), []byte("services:\n  ledger:\n    image: mariadb:11\n"+
		"    ports: ['127.0.0.1:3307:3306']\n    environment: {MARIADB_USER: u, MARIADB_PASSWORD: "+canary+"}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	look := Looking{Run: *r, Only: []string{"containers", "compose", "environment"}}
	seen, err := look.Find(t.Context())
	if err != nil || seen.Failed != nil || len(seen.Candidates) != 3 {
		t.Fatalf("%+v %v", seen, err)
	}
	engines := map[string]int{}
	for i, c := range seen.Candidates {
		engines[c.Layer["engine"].Text]++
		if text := fmt.Sprintf("%+v", c); strings.Contains(text, canary) {
			t.Errorf("the candidate %d shows its password", i)
		}
		if c.Layer["container"].Text != "hutdb" {
			continue
		}
		added, err := r.AddFound(t.Context(), c, false)
		if err != nil || added.Report == nil || !added.Report.OK || added.Kept {
			t.Errorf("%+v %v", added, err)
		}
		if text := r.text(t, added.Name); !strings.Contains(text, "secret: container") || strings.Contains(text, canary) {
			t.Errorf("the profile does not say where the password is, or has it")
		}
	}
	if engines["postgres"] != 1 || engines["mariadb"] != 1 || engines["mysql"] != 1 {
		t.Errorf("%v", engines)
	}
	taken := 0
	again, err := look.Find(t.Context())
	for _, c := range again.Candidates {
		if c.Taken == "containers/hutdb" && c.Layer["container"].Text == "hutdb" {
			taken++
		}
	}
	if err != nil || taken != 1 {
		t.Errorf("it is not known that a profile has it: %d, %v", taken, err)
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := (Looking{Run: *r}).Find(over); !errors.Is(err, context.Canceled) {
		t.Errorf("a run that has ended: %v", err)
	}
	if text := strings.Join(append(*notes, seen.Notes...), "\n"); strings.Contains(text, canary) {
		t.Error("a note shows the password")
	}
}

// TestLetIn has a cloud let this machine in, asks before it, and waits until the server greets: one
// that greets before it encrypts, and one that does the other way round. Then it is tested.
func TestLetIn(t *testing.T) {
	authority, err := standin.NewAuthority("a cloud's authority")
	must(t, err)
	encryption, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), "db.fellside.example")
	must(t, err)
	for _, engine := range []string{"postgres", "mongodb"} {
		t.Run(engine, func(t *testing.T) {
			s, err := standin.Start(standin.Config{Engine: engine, TLS: encryption,
				Accounts: map[string]string{"warden_app": canary}})
			must(t, err)
			t.Cleanup(s.Close)
			letIn(t, s, standin.CloudServer{ID: "srv-1", Name: "bunkhouse", Engine: engine, Behind: s.Address(),
				Authority: string(authority.PEM), CertificateName: "db.fellside.example"})
		})
	}
}

func letIn(t *testing.T, s *standin.Server, server standin.CloudServer) {
	r, who, _ := newRun(t)
	c, err := standin.StartCloud(standin.CloudConfig{Who: "keeper@fellside.example", Mark: canary,
		Servers: []standin.CloudServer{server}})
	must(t, err)
	t.Cleanup(c.Close)
	who.Away = true
	now := time.Now()
	r.Clock = func() time.Time { return now }
	r.PassphraseFile = filepath.Join(r.Dir, "phrase")
	must(t, os.WriteFile(r.PassphraseFile, []byte("a phrase for clouds alone\n"), 0o600))
	_, err = r.clouds().AddCloud(t.Context(), "fellside", c.URL(), "", false)
	_, _, err2 := r.clouds().SignIn(t.Context(), "fellside", func(*cloud.Asked) error { c.Confirm(true); return nil }, nil)
	must(t, errors.Join(err, err2))
	r.save(t, "live", "engine: "+server.Engine+
		"\ncloud: fellside/bunkhouse\nuser: warden_app\ndatabase: bunkhouse\nsecret: env:PW\n")
	for _, step := range []struct {
		word, about string
		yes         bool
		in, already bool
	}{
		{"live", "the person says no", false, false, false}, {"live", "yes", true, true, false},
		{"fellside/bunkhouse", "once more, without a profile", true, true, true},
	} {
		asked, progress := 0, 0
		plan, in, err := Admitting{Run: *r, For: time.Hour,
			Meant: func(_ context.Context, p Planned) (bool, error) {
				asked++
				if p.Range.Addr() != p.Caller || p.Server != "fellside/bunkhouse" || len(c.Admissions()) > 0 {
					t.Errorf("%s: %+v, %v", step.about, p, c.Admissions())
				}
				return step.yes, nil
			}, Told: func(string, int) { progress++ }}.LetIn(t.Context(), step.word)
		if err != nil || in != step.in || plan.Already != step.already || (asked == 0) != step.already ||
			len(c.Admissions()) != map[bool]int{true: 1}[step.in] || step.in && !step.already && progress == 0 {
			t.Errorf("%s: %+v %v %v, asked %d times, %v", step.about, plan, in, err, asked, c.Admissions())
		}
	}
	for word, says := range map[string]string{"nobody": "no profile nobody", "fellside/other": "other"} {
		if _, _, err := (Admitting{Run: *r}).LetIn(t.Context(), word); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", word, err)
		}
	}
	to, err := r.Aim(t.Context(), "live", false)
	must(t, err)
	if report, err := r.Test(t.Context(), to, nil); err != nil || !report.OK || !report.Server.Encrypted {
		t.Errorf("let in, and: %+v %v", report, err)
	}
	worldtest.Save(t, r.World, "plain", at(s, ""))
	if _, _, err := (Admitting{Run: *r}).LetIn(t.Context(), "plain"); err == nil {
		t.Error("a server that is in no cloud is let in")
	}
	for _, each := range c.Admissions() {
		c.Withdraw(each.ID)
	}
	over, cancel := context.WithCancel(t.Context())
	began := time.Now()
	if _, _, err := (Admitting{Run: *r, Meant: func(context.Context, Planned) (bool, error) { cancel(); return true, nil },
		Told: func(string, int) {}}).LetIn(over, "live"); err == nil || time.Since(began) > 10*time.Second {
		t.Errorf("Ctrl-C: %v after %s", err, time.Since(began))
	}
}
