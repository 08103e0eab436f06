package harbor

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/worldtest"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
)

// bookings is an alias whose servers are named by SRV records.
const bookings = "bookings: {engine: postgres, srv: _postgresql._tcp.fellside.example, tls: {mode: 'off'}}\n"

// aliases writes the file of your own aliases.
func (r Run) aliases(t *testing.T, text string) (home string) {
	t.Helper()
	home, err := r.Home()
	must(t, err)
	must(t, os.MkdirAll(home, 0o700))
	must(t, os.WriteFile(filepath.Join(home, "aliases.yaml"), []byte(text), 0o600))
	return home
}

// TestTargetsOfSRVRecords stores a password for an alias whose addresses SRV records say: a
// target that they did not name then holds it back until it is confirmed; one less does not.
func TestTargetsOfSRVRecords(t *testing.T) {
	s, err := standin.Start(standin.Config{Engine: "postgres", Accounts: map[string]string{"warden_app": canary}})
	must(t, err)
	defer s.Close()
	r, _, _ := newRun(t)
	record := func(host string) *net.SRV {
		return &net.SRV{Target: host + ".fellside.example.", Port: uint16(s.Port())}
	}
	r.Resolver = worldtest.Records{record("db1")}
	home := r.aliases(t, bookings)
	r.save(t, "p", "alias: bookings\nuser: warden_app\ndatabase: bunkhouse\nsecret: credentials\n")
	to, err := r.Aim(t.Context(), "p", false)
	must(t, err)
	must(t, r.keepIn(t.Context(), "credentials", to.Effective, secret.New(canary)))
	tests := func(about string, code finding.Code) {
		t.Helper()
		before := len(s.Opened())
		report, err := r.Test(t.Context(), to, nil)
		must(t, err)
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
	r.Resolver = worldtest.Records{record("db2"), record("db1")}
	tests("one more target", finding.SecretAliasChanged)
	file := filepath.Join(home, "credentials")
	if n, err := r.ConfirmAlias(t.Context(), "bookings", r.WalletAt(filepath.Join(r.Dir, "none")),
		file); n != 1 || err != nil {
		t.Fatalf("%d confirmed, %v", n, err)
	}
	tests("confirmed", "")
	r.Resolver = worldtest.Records{record("db2")}
	tests("one target less", "")
	r.Resolver = worldtest.Records{record("db3")}
	tests("another target", finding.SecretAliasChanged)
}

// TestTextsBesideRecords has a TXT record say options: those on the list count where the profile says
// none, and others hold all back. What a server names to its clients is noted where they cannot get
// there.
func TestTextsBesideRecords(t *testing.T) {
	s, err := standin.Start(standin.Config{Engine: "mongodb", Accounts: map[string]string{"warden_app": canary},
		Faults: standin.Faults{Members: slices.Repeat([]string{"lost\x07\u202e.fellside.example:27017"}, 500)}})
	must(t, err)
	defer s.Close()
	r, _, _ := newRun(t)
	r.Environ = append(r.Environ, "PW="+canary)
	r.aliases(t, "snow: {engine: mongodb, srv: _mongodb._tcp.snow.fellside.example, tls: {mode: 'off'}}\n")
	for i, each := range []struct {
		texts   []string
		options string
		code    finding.Code
	}{
		{[]string{"authSource=admin&replicaSet=fellside"}, "", ""}, {nil, "", ""},
		{[]string{"authSource=huts"}, "", finding.LoginAnotherDatabase},
		{[]string{"authSource=huts"}, "options: {auth: admin, direct: 'true'}\n", ""},
		{[]string{"replicaSet=uplands"}, "", finding.GreetingAnotherSet},
		{[]string{"replicaSet=fellside&tls=false"}, "", finding.AliasOptionsRefused},
		{[]string{"authSource=admin", "replicaSet=fellside"}, "", finding.AliasOptionsRefused},
	} {
		r.Resolver = worldtest.Texts{Records: worldtest.Records{{Target: "db1.fellside.example.", Port: uint16(s.Port())}},
			TXT: each.texts}
		name := fmt.Sprint("snow", i)
		r.save(t, name, "alias: snow\nuser: warden_app\ndatabase: bunkhouse\nsecret: 'env:PW'\n"+each.options)
		to, err := r.Aim(t.Context(), name, false)
		must(t, err)
		before := len(s.Opened())
		report, err := r.Test(t.Context(), to, nil)
		must(t, err)
		if code := codeOf(report); code != each.code || code == finding.AliasOptionsRefused && len(s.Opened()) != before {
			t.Errorf("%v %s: %+v", each.texts, each.options, report.Finding)
		}
		notes := strings.Join(report.Notes, " ")
		told := strings.Contains(notes, "--option direct=true")
		if want := each.code == "" && each.options == ""; told != want || strings.ContainsAny(notes, "\x07\u202e") {
			t.Errorf("%v %s: %v", each.texts, each.options, report.Notes)
		}
	}
}

func codeOf(r *checkup.Report) finding.Code {
	if r.Finding == nil {
		return ""
	}
	return r.Finding.Code
}

// silentNames is a name service that says nothing of names with "silent" in them, until the
// question is given up, and has SRV records to link-local addresses.
type silentNames struct{ worldtest.Records }

func (s silentNames) LookupNetIP(ctx context.Context, network, host string) ([]netip.Addr, error) {
	switch {
	case strings.Contains(host, "silent"):
		<-ctx.Done()
		return nil, ctx.Err()
	case strings.Contains(host, "meta"):
		return []netip.Addr{netip.MustParseAddr("169.254.169.254")}, nil
	case strings.Contains(host, "mapped"):
		return []netip.Addr{netip.MustParseAddr("64:ff9b::a9fe:a9fe")}, nil
	}
	return s.Records.LookupNetIP(ctx, network, host)
}

// TestEachNameHasItsTime has names of an alias be silent, before one that serves and after it:
// each has a leg's time of its own, and what serves is found.
func TestEachNameHasItsTime(t *testing.T) {
	s, err := standin.Start(standin.Config{Engine: "postgres", Accounts: map[string]string{"warden_app": canary}})
	must(t, err)
	defer s.Close()
	r, _, _ := newRun(t)
	r.Resolver = silentNames{}
	r.Environ = append(r.Environ, "PW="+canary)
	cases := []struct {
		names []string
		code  finding.Code
		tries int
	}{
		{[]string{"db1"}, "", 1}, {[]string{"silent1", "db1"}, "", 2},
		{[]string{"silent1", "silent2", "db1"}, "", 3}, {[]string{"db1", "silent1"}, "", 1},
		{[]string{"silent1", "silent2"}, finding.AliasAllFailed, 2},
	}
	aliases := ""
	for i, each := range cases {
		var addresses []string
		for _, name := range each.names {
			addresses = append(addresses, fmt.Sprintf("'%s.fellside.example:%d'", name, s.Port()))
		}
		aliases += fmt.Sprintf("bookings%d: {engine: postgres, addresses: [%s], tls: {mode: 'off'}}\n", i,
			strings.Join(addresses, ", "))
	}
	r.aliases(t, aliases)
	for i, each := range cases {
		name := fmt.Sprint("p", i)
		r.save(t, name, fmt.Sprintf("alias: bookings%d\nuser: warden_app\ndatabase: bunkhouse\nsecret: "+
			"'env:PW'\ntimeout: {leg: 800ms, total: 20s}\n",
			i))
		to, err := r.Aim(t.Context(), name, false)
		must(t, err)
		report, err := r.Test(t.Context(), to, nil)
		if err != nil || report.Code() != each.code || len(report.Attempts) != each.tries {
			t.Errorf("%v: %s after %d attempts, %v, %+v", each.names, report.Code(), len(report.Attempts), err, report.Finding)
		}
		for j, attempt := range report.Attempts {
			if name := attempt.Legs[0]; strings.HasPrefix(each.names[j], "silent") &&
				(name.Name != "name" || name.OK == nil || *name.OK || name.MS < 700 || name.MS > 4000) {
				t.Errorf("%v: attempt %d: %+v", each.names, j, name)
			}
		}
	}
}

// TestSRVLeadsToNoLinkLocalAddress has SRV records lead to names whose addresses are of this
// machine's own network, in each form.
func TestSRVLeadsToNoLinkLocalAddress(t *testing.T) {
	r, _, _ := newRun(t)
	r.aliases(t, bookings)
	r.save(t, "p", "alias: bookings\nuser: warden_app\ndatabase: bunkhouse\nsecret: none\ntimeout: {leg: 500ms}\n")
	for _, host := range []string{"meta", "mapped"} {
		r.Resolver = silentNames{worldtest.Records{{Target: host + ".fellside.example.", Port: 80}}}
		to, err := r.Aim(t.Context(), "p", false)
		must(t, err)
		if report, err := r.Test(t.Context(), to, nil); err != nil ||
			report.Code() != finding.AliasAddressRefused ||
			!strings.Contains(report.Finding.Cause, host+".fellside.example") {
			t.Errorf("%s: %v, %+v", host, err, report.Finding)
		}
	}
}
