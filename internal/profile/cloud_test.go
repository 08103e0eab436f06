package profile

import (
	"strings"
	"testing"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/target"
)

// clouds is a world with one account.
func clouds(account string) (files.Cloud, string) {
	if account == "fellside" {
		return files.Cloud{URL: "https://cloud.fellside.example", Host: "cloud.fellside.example", Port: 443}, ""
	}
	return files.Cloud{}, "There is no such account."
}

// TestCloud decides profiles of clouds' servers: what they come to, and what does not fit together.
func TestCloud(t *testing.T) {
	for name, each := range map[string]struct {
		layer Layer
		wrong string
	}{
		"a server": {Layer{"cloud": {Text: "fellside/bunkhouse"}}, ""},
		"a map": {Layer{"cloud": {Text: "{account: fellside, server: bunkhouse, replica: reports, address: private}"}},
			""},
		"without a user":    {Layer{"cloud": {Text: "fellside/bunkhouse"}, "user": {}, "secret": {Text: "cloud"}}, ""},
		"a user is missing": {Layer{"cloud": {Text: "fellside/bunkhouse"}, "user": {}}, "user is missing"},
		"a port":            {Layer{"cloud": {Text: "fellside/bunkhouse"}, "port": {Text: "1"}}, "The cloud says the port"},
		"a host": {Layer{"cloud": {Text: "fellside/bunkhouse"}, "host": {Text: "h"}},
			"host and cloud contradict"},
		"unverified": {Layer{"cloud": {Text: "fellside/bunkhouse"}, "tls.mode": {Text: "encrypt"}},
			"always verified"},
		"not encrypted":     {Layer{"cloud": {Text: "fellside/bunkhouse"}, "tls.mode": {Text: "off"}}, "always verified"},
		"another account":   {Layer{"cloud": {Text: "hills/bunkhouse"}}, "no such account"},
		"its own authority": {Layer{"cloud": {Text: "fellside/bunkhouse"}, "tls.ca": {Text: "/ca.pem"}}, ""},
		"behind a jump host": {Layer{"cloud": {Text: "fellside/bunkhouse"},
			"via": ListValue([]string{"gate"}, Origin{})}, ""},
	} {
		below := Layer{"engine": {Text: "postgres"}, "user": {Text: "u"}, "host": {Text: "below"}, "port": {Text: "6000"}}
		e := Resolve(files.World{Cloud: clouds}, "p", each.layer, below)
		var all []string
		for _, p := range e.Problems {
			all = append(all, p.Text)
		}
		if text := strings.Join(all, " "); each.wrong == "" && text != "" || !strings.Contains(text, each.wrong) {
			t.Errorf("%s: %q", name, text)
		}
		if each.wrong != "" {
			continue
		}
		if e.TLS.Mode != "verify" || e.Host != "" || e.Port != 0 || !e.InCloud() ||
			e.CloudAt.URL != "https://cloud.fellside.example" {
			t.Errorf("%s: %+v", name, e)
		}
		// Before the cloud has said which server it is, nothing that is kept serves it; then what
		// is stored for its id does, under any name.
		kept := target.Target{User: e.User,
			Endpoint: target.Endpoint{Cloud: "srv-1@cloud.fellside.example:443"}, Hops: e.Target().Hops, TLS: "verify"}
		if len(kept.Differs(e.Target())) == 0 {
			t.Errorf("%s: a secret serves a server that is not known yet", name)
		}
		at := e.At(Located{ID: "srv-1", Host: "203.0.113.9", Port: 5432})
		if lines := kept.Differs(at.Target()); len(lines) > 0 {
			t.Errorf("%s: %v", name, lines)
		}
		if other := e.At(Located{ID: "srv-2", Host: "203.0.113.9", Port: 5432}); len(kept.Differs(other.Target())) == 0 {
			t.Errorf("%s: a secret serves another server", name)
		}
		outside := at.Outside(Located{ID: "srv-1", Host: "203.0.113.9", Port: 5432}, "/authority.pem", "db.fellside.example")
		if outside.InCloud() || outside.Host != "203.0.113.9" ||
			outside.TLS.ServerName != "db.fellside.example" || outside.Values["cloud"].Text != "" {
			t.Errorf("%s: %+v", name, outside)
		}
	}
}

// FuzzParseCloud reads texts as a cloud's server: what is taken comes back the same.
func FuzzParseCloud(f *testing.F) {
	for _, seed := range []string{"fellside/bunkhouse",
		"{account: fellside, server: bunkhouse, replica: reports, address: private}", "{account: a}", "/",
		"a/b/c", "{", "{account: a, server: b, address: x}"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, err := ParseCloud(text)
		if err != nil {
			return
		}
		if again, err := ParseCloud(CloudText(c)); err != nil || again != c {
			t.Errorf("%q is %+v, and comes back as %+v: %v", text, c, again, err)
		}
	})
}
