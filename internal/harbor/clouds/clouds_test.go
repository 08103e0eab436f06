package clouds

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/harbor/stores"
	"gentle-harbor/internal/harbor/worldtest"
	"gentle-harbor/internal/standin"
)

// practice starts a cloud with a few servers, of which two have one name.
func practice(t *testing.T) *standin.Cloud {
	t.Helper()
	c, err := standin.StartCloud(standin.CloudConfig{Who: "keeper@fellside.example", Mark: worldtest.Canary,
		Servers: []standin.CloudServer{
			{ID: "srv-1", Name: "bunkhouse", Engine: "postgres", ProviderName: "fellside:north:bunkhouse",
				Behind: "127.0.0.1:1", Databases: []string{"bunkhouse"}},
			{ID: "srv-3", Name: "inner", Engine: "postgres", Public: "none", Private: "10.20.0.6:5432"},
			{ID: "srv-4", Name: "twin", Engine: "postgres", Behind: "127.0.0.1:1"},
			{ID: "srv-5", Name: "twin", Engine: "postgres", Behind: "127.0.0.1:1"},
		}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	return c
}

// TestAccount goes from an account that is added to one that is removed: before the sign-in, with
// it, and after it. Neither a key nor a token is noted.
func TestAccount(t *testing.T) {
	const phrase = "the warden keeps the lamp lit"
	w, who, notes := worldtest.New(t, [2]string{"Passphrase for the new wallet", phrase}, [2]string{"Once more", phrase})
	c := practice(t)
	r := func() Clouds { return Clouds{stores.Of(w)} }
	for name, url := range map[string]string{"no cloud": "http://127.0.0.1:1", "no URL": "fellside",
		"no scheme": "ftp://127.0.0.1"} {
		if _, err := r().AddCloud(t.Context(), "fellside", url, "", false); err == nil {
			t.Errorf("%s is added", name)
		}
	}
	a, err := r().AddCloud(t.Context(), "fellside", c.URL(), "", false)
	if err != nil || a.Name != "fellside" {
		t.Fatalf("%+v %v", a, err)
	}
	if _, err := r().AddCloud(t.Context(), "fellside", c.URL(), "", false); err == nil {
		t.Error("a second account of the name is added")
	}
	if _, _, err := r().CloudServers(t.Context(), ""); err == nil || !strings.Contains(err.Error(), "signed in") {
		t.Errorf("nobody is signed in, and: %v", err)
	}
	state, err := r().CloudStatus(t.Context(), true)
	if err != nil || len(state) != 1 || state[0].Signed || state[0].URL != c.URL() {
		t.Errorf("%+v %v", state, err)
	}

	// A person confirms the code at the cloud's page as soon as it is shown.
	in := r()
	signed, where, err := in.SignIn(t.Context(), "", func(asked *cloud.Asked) error {
		if asked.Code == "" || !strings.HasPrefix(asked.Page, c.URL()) || !c.Confirm(true) {
			return fmt.Errorf("%+v", asked)
		}
		return nil
	}, func(cloud.Waiting) {})
	if err != nil || signed.Who != "keeper@fellside.example" || where == "" || who.Wrong != "" {
		t.Fatalf("%+v %q %v, %s", signed, where, err, who.Wrong)
	}

	of, list, err := in.CloudServers(t.Context(), "")
	if err != nil || of.Name != "fellside" || len(list) != 4 || list[0].Name != "bunkhouse" {
		t.Errorf("%+v %+v %v", of, list, err)
	}
	for _, s := range list {
		want := s.Name
		if s.Name == "twin" {
			want = s.ID
		}
		if got := NameOrID(s, list); got != want {
			t.Errorf("%s: %s", s.ID, got)
		}
	}
	for word, want := range map[string]string{"bunkhouse": "srv-1", "fellside/bunkhouse": "srv-1", "srv-4": "srv-4"} {
		_, s, databases, admitted, err := in.CloudServer(t.Context(), word)
		if err != nil || s.ID != want || admitted == nil || want == "srv-1" && len(databases) != 1 {
			t.Errorf("%s: %+v %q %v %v", word, s, databases, admitted, err)
		}
	}
	for _, word := range []string{"twin", "bunkhose", "other/bunkhouse"} {
		if _, _, _, _, err := in.CloudServer(t.Context(), word); err == nil {
			t.Errorf("%s is one server", word)
		}
	}

	// What was let in is told of, and can be taken back.
	until := time.Now().Add(time.Hour)
	id := c.Admit("srv-1", "192.0.2.7/32", &until, true)
	left, err := in.CloudAdmissions(t.Context(), "")
	if err != nil || len(left["fellside"]) != 1 {
		t.Errorf("%+v %v", left, err)
	}
	gone := 0
	if err := in.WithdrawCloud(t.Context(), "fellside", []string{id}, func(string, int) {},
		func(cloud.Admission) { gone++ }); err != nil ||
		gone != 1 || len(c.Admissions()) != 0 {
		t.Errorf("%d %v %v", gone, c.Admissions(), err)
	}

	if err := in.SignOut(t.Context(), ""); err != nil || c.Signed() {
		t.Errorf("signed out: %v", err)
	}
	if _, _, err := in.CloudServers(t.Context(), ""); err == nil {
		t.Error("servers are listed without a sign-in")
	}
	if err := in.RemoveCloud(t.Context(), "fellside"); err != nil {
		t.Error(err)
	}
	if state, err := r().CloudStatus(t.Context(), false); err != nil || len(state) != 0 {
		t.Errorf("%+v %v", state, err)
	}
	for _, token := range append(c.Issued(), phrase) {
		if text := strings.Join(*notes, "\n"); strings.Contains(text, token) {
			t.Error("a note shows a token, or the passphrase")
		}
	}
}

// TestSignInEnds has a person say no, a page that fails, and a context that ends.
func TestSignInEnds(t *testing.T) {
	const phrase = "the warden keeps the lamp lit"
	for name, ends := range map[string]func(c *standin.Cloud, cancel func()) error{
		"no":     func(c *standin.Cloud, _ func()) error { c.Confirm(false); return nil },
		"failed": func(*standin.Cloud, func()) error { return errors.New("the page cannot be shown") },
		"Ctrl-C": func(_ *standin.Cloud, cancel func()) error { cancel(); return nil },
	} {
		w, _, _ := worldtest.New(t, [2]string{"Passphrase for the new wallet", phrase}, [2]string{"Once more", phrase})
		c := practice(t)
		r := Clouds{stores.Of(w)}
		if _, err := r.AddCloud(t.Context(), "fellside", c.URL(), "", false); err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithCancel(t.Context())
		began := time.Now()
		_, _, err := r.SignIn(ctx, "fellside", func(*cloud.Asked) error { return ends(c, cancel) }, func(cloud.Waiting) {})
		cancel()
		if err == nil || c.Signed() || time.Since(began) > 5*time.Second {
			t.Errorf("%s: %v after %s", name, err, time.Since(began))
		}
		if _, _, err := r.CloudServers(t.Context(), ""); err == nil {
			t.Errorf("%s: servers are listed", name)
		}
	}
}

// TestCovers compares ranges of addresses.
func TestCovers(t *testing.T) {
	for _, c := range []struct {
		wide, narrow string
		want         bool
	}{
		{"192.0.2.0/24", "192.0.2.7/32", true}, {"192.0.2.7/32", "192.0.2.0/24", false},
		{"192.0.2.0/24", "192.0.2.0/24", true},
		{"192.0.2.0/24", "198.51.100.7/32", false}, {"::/0", "192.0.2.7/32", false},
		{"2001:db8::/32", "2001:db8::7/128", true},
	} {
		if got := Covers(netip.MustParsePrefix(c.wide), netip.MustParsePrefix(c.narrow)); got != c.want {
			t.Errorf("%s of %s: %v", c.narrow, c.wide, got)
		}
	}
}
