package harbor

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
)

// records is a name service that has SRV records, and one address for every name.
type records []*net.SRV

func (records) LookupNetIP(context.Context, string, string) ([]netip.Addr, error) {
	return []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1})}, nil
}

func (r records) LookupSRV(context.Context, string, string, string) (string, []*net.SRV, error) {
	return "", r, nil
}

// TestTargetsOfSRVRecords stores a password for an alias whose addresses SRV records say: a target that they did not name then holds it back
// until it is confirmed; one less does not.
func TestTargetsOfSRVRecords(t *testing.T) {
	s, err := standin.Start(standin.Config{Engine: "postgres", Accounts: map[string]string{"warden_app": canary}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	r, _, _ := newRun(t)
	record := func(host string) *net.SRV {
		return &net.SRV{Target: host + ".fellside.example.", Port: uint16(s.Port())}
	}
	r.Resolver = records{record("db1")}
	home, err := r.Home()
	if err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(home, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(home, "aliases.yaml"), []byte("bookings: {engine: postgres, srv: _postgresql._tcp.fellside.example, tls: {mode: 'off'}}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	r.save(t, "p", "alias: bookings\nuser: warden_app\ndatabase: bunkhouse\nsecret: credentials\n")
	to, err := r.Aim(t.Context(), "p", false)
	if err != nil {
		t.Fatal(err)
	}
	if err := r.keepIn(t.Context(), "credentials", to.Effective, secret.New(canary)); err != nil {
		t.Fatal(err)
	}
	tests := func(about string, code finding.Code) {
		t.Helper()
		before := len(s.Opened())
		report, err := r.Test(t.Context(), to, nil)
		if err != nil {
			t.Fatal(err)
		}
		switch {
		case code == "" && !report.OK:
			t.Errorf("%s: %+v", about, report.Finding)
		case code != "" && (report.Finding == nil || report.Finding.Code != code || len(s.Opened()) != before):
			t.Errorf("%s: %+v, %d logins", about, report.Finding, len(s.Opened())-before)
		case code != "" && !strings.Contains(fmt.Sprint(report.Finding.Try), "credentials confirm bookings"):
			t.Errorf("%s: %v", about, report.Finding.Try)
		}
	}
	tests("as it was", "")
	r.Resolver = records{record("db2"), record("db1")}
	tests("one more target", finding.SecretAliasChanged)
	file := filepath.Join(home, "credentials")
	if n, err := r.ConfirmAlias(t.Context(), "bookings", r.WalletAt(filepath.Join(r.Dir, "none")), file); n != 1 || err != nil {
		t.Fatalf("%d confirmed, %v", n, err)
	}
	tests("confirmed", "")
	r.Resolver = records{record("db2")}
	tests("one target less", "")
	r.Resolver = records{record("db3")}
	tests("another target", finding.SecretAliasChanged)
}
