package postgres

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/engine"
)

// TestRulesAreJudged holds each part of an access rule against logins that it is about, and that
// it is not.
func TestRulesAreJudged(t *testing.T) {
	at := func(change func(*client)) client {
		c := client{Attempt: engine.Attempt{User: "reader",
			Database: "huts"}, from: netip.MustParseAddr("10.0.0.7"), members: map[string]bool{"wardens": true,
			"huts": true}}
		change(&c)
		return c
	}
	as := func(*client) {}
	rule := func(change func(*hbaRule)) hbaRule {
		r := hbaRule{line: "7", kind: "host", databases: []string{"all"}, users: []string{"all"}, address: "10.0.0.0", mask: "255.255.255.0", method: "md5"}
		change(&r)
		return r
	}
	for _, c := range []struct {
		rule func(*hbaRule)
		who  func(*client)
		fits engine.Fits
		why  string
	}{
		{func(*hbaRule) {}, as, engine.FitsWell, ""},
		{func(r *hbaRule) { r.kind = "local" }, as, engine.FitsNot, "it is about the socket"},
		{func(r *hbaRule) { r.kind = "local" }, func(c *client) { c.Socket = true }, engine.FitsWell, ""},
		{func(*hbaRule) {}, func(c *client) { c.Socket = true }, engine.FitsNot, "it is about the network"},
		{func(r *hbaRule) { r.kind = "hostssl" }, as, engine.FitsNot, "it is about encrypted connections"},
		{func(r *hbaRule) { r.kind = "hostssl" }, func(c *client) { c.Encrypted = true }, engine.FitsWell, ""},
		{func(r *hbaRule) { r.kind = "hostnossl" }, func(c *client) { c.Encrypted = true }, engine.FitsNot,
			"it is about connections without encryption"},
		{func(r *hbaRule) { r.kind = "hostgssenc" }, as, engine.FitsNot, "it is about encryption by GSSAPI"},
		{func(r *hbaRule) { r.kind = "hostnogssenc" }, as, engine.FitsWell, ""},
		{func(r *hbaRule) { r.mistake = "no such method" }, as, engine.FitsNot,
			"the server does not understand it: no such method"},
		{func(r *hbaRule) { r.databases = []string{"bookings"} }, as, engine.FitsNot, "it is about other databases"},
		{func(r *hbaRule) { r.databases = []string{"bookings", "huts"} }, as, engine.FitsWell, ""},
		{func(r *hbaRule) { r.databases = []string{"sameuser"} }, as, engine.FitsNot, "it is about other databases"},
		{func(r *hbaRule) { r.databases = []string{"sameuser"} }, func(c *client) { c.Database = "reader" },
			engine.FitsWell, ""},
		{func(r *hbaRule) { r.databases = []string{"samerole"} }, as, engine.FitsWell, ""},
		{func(r *hbaRule) { r.databases = []string{"replication"} }, as, engine.FitsNot, "it is about other databases"},
		{func(r *hbaRule) { r.databases = []string{"/^h"} }, as, engine.FitsPerhaps, "its databases are a pattern"},
		{func(r *hbaRule) { r.users = []string{"warden"} }, as, engine.FitsNot, "it is about other users"},
		{func(r *hbaRule) { r.users = []string{"+wardens"} }, as, engine.FitsWell, ""},
		{func(r *hbaRule) { r.users = []string{"+others"} }, as, engine.FitsNot, "it is about other users"},
		{func(r *hbaRule) { r.users = []string{"/r.*"} }, as, engine.FitsPerhaps, "its users are a pattern"},
		{func(r *hbaRule) { r.address, r.mask = "10.0.1.0", "255.255.255.0" }, as, engine.FitsNot,
			"it is about other addresses"},
		{func(r *hbaRule) { r.address, r.mask = "all", "" }, as, engine.FitsWell, ""},
		{func(r *hbaRule) { r.address, r.mask = "::1", "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff" }, as,
			engine.FitsNot, "it is about other addresses"},
		{func(r *hbaRule) { r.address, r.mask = "::1", "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff" },
			func(c *client) { c.from = netip.IPv6Loopback() }, engine.FitsWell, ""},
		{func(r *hbaRule) { r.address, r.mask = "db.fellside.example", "" }, as, engine.FitsPerhaps,
			"only the server knows which addresses db.fellside.example stands for"},
		{func(r *hbaRule) { r.address, r.mask = "samenet", "" }, as, engine.FitsPerhaps,
			"only the server knows which addresses samenet stands for"},
		{func(r *hbaRule) { r.address, r.mask = "samehost", "" }, func(c *client) {
			c.from = netip.IPv6Loopback()
		}, engine.FitsWell, ""},
		{func(*hbaRule) {}, func(c *client) { c.from = netip.Addr{} }, engine.FitsPerhaps,
			"the address that the server sees is not known"},
	} {
		r, who := rule(c.rule), at(c.who)
		if got := who.judged(r); got.Fits != c.fits || got.Why != c.why || got.Where != "line 7" {
			t.Errorf("%+v, %+v: %+v", r, who, got)
		}
	}
	// What an option holds for a method of login elsewhere is no one's to see.
	shown := withoutSecrets([]string{"ldapserver=ldap.fellside.example", "ldapbindpasswd=canary",
		`radiussecrets="canary"`, "clientcert=verify-full"})
	if all := strings.Join(shown, " "); strings.Contains(all, "canary") ||
		!slices.Contains(shown, "clientcert=verify-full") || !slices.Contains(shown, "ldapbindpasswd=[secret]") {
		t.Errorf("%s", all)
	}
	for _, c := range []struct {
		who  func(*client)
		line string
	}{
		{as, "host huts reader 10.0.0.7/32 scram-sha-256"},
		{func(c *client) { c.Socket = true }, "local huts reader scram-sha-256"},
		{func(c *client) { c.Encrypted, c.User = true, "a b" }, `hostssl huts "a b" 10.0.0.7/32 scram-sha-256`},
		{func(c *client) { c.from = netip.Addr{}; c.Database = "all" }, `host "all" reader ADDRESS/32 scram-sha-256`},
	} {
		if got := at(c.who).line(); got != c.line {
			t.Errorf("%s, not %s", got, c.line)
		}
	}
}
