package mysql

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/outside"
)

// accountRow is an account, with what decides whether it lets someone in.
type accountRow struct {
	user, host, plugin, needs, sessions  string
	hourly                               string // its limits for an hour, in words
	locked, expired, isRole, hasPassword bool
}

// Examine implements engine.Examiner. The server takes the first account that fits the client's
// host, in the order of [asker.users], and looks at no other one.
func (s *session) Examine(ctx context.Context, a engine.Attempt) (engine.Examined, error) {
	var e engine.Examined
	hosts, err := s.clientHosts(ctx, a)
	if err != nil {
		return e, err
	}
	if e.Client = "not known"; len(hosts) > 0 {
		e.Client = hosts[0]
	}
	rows, err := s.accounts(ctx, a.User)
	if err != nil {
		return e, err
	}
	first := -1
	for i, r := range rows {
		rule := engine.Rule{Where: outside.Cell(accountName(r)), Says: outside.Cell(r.says()), Fits: engine.FitsWell}
		switch {
		case r.isRole:
			rule.Fits, rule.Why = engine.FitsNot, "it is a role, and nobody logs in as it"
		case len(hosts) == 0:
			rule.Fits, rule.Why = engine.FitsPerhaps, "the host that the server sees is not known"
		case !slices.ContainsFunc(hosts, func(host string) bool { return fitsHost(r.host, host) }):
			rule.Fits, rule.Why = engine.FitsNot, "it is for another host"
		}
		if e.Rules = append(e.Rules, rule); rule.Fits == engine.FitsWell && first < 0 && e.Decides() == i {
			first = i
		}
	}
	if first >= 0 {
		s.judge(ctx, rows[first], a, &e)
	} else if !slices.ContainsFunc(e.Rules, func(r engine.Rule) bool { return r.Fits == engine.FitsPerhaps }) {
		say := "there is no account " + a.User
		if len(rows) > 0 {
			say += " for the host " + e.Client
		}
		e.Says = append(e.Says, say)
		if len(hosts) > 0 {
			e.Fixes = append(e.Fixes, "create user "+quote(a.User)+"@"+quote(hosts[0])+" identified by '…'")
		}
	}
	return e, nil
}

// clientHosts gives the names by which the server may know the host that a client comes from, the
// one that it takes first.
func (s *session) clientHosts(ctx context.Context, a engine.Attempt) ([]string, error) {
	if a.Socket {
		return []string{"localhost"}, nil
	}
	resolves := s.one(ctx, "select @@skip_name_resolve") == "0"
	if a.From != "" {
		addr, err := netip.ParseAddr(a.From)
		if err == nil && addr.IsLoopback() && resolves {
			return []string{"localhost", a.From}, nil
		}
		return []string{a.From}, nil
	}
	if !a.SameWay {
		return nil, nil
	}
	rows, err := s.texts(ctx, "select user()")
	if err != nil {
		return nil, stated(err)
	}
	if len(rows) != 1 || len(rows[0]) != 1 {
		return nil, nil
	}
	_, host, is := account(textIn(rows[0][0]))
	if !is || host == "localhost" && !resolves {
		return nil, nil // over a socket
	}
	return []string{host}, nil
}

// fitsHost reports whether an account's host fits a client's: a pattern, or an address with a
// mask ("Specifying Account Names", MySQL's manual).
func fitsHost(pattern, host string) bool {
	if pattern == "" { // any host
		return true
	}
	if address, mask, is := strings.Cut(pattern, "/"); is {
		network, is := engine.Network(address, mask)
		client, err := netip.ParseAddr(host)
		return is && err == nil && network.Contains(client)
	}
	return like(strings.ToLower(pattern), strings.ToLower(host))
}

// accountName gives an account as it is written.
func accountName(r accountRow) string {
	if r.isRole && r.host == "" {
		return r.user
	}
	if r.user == "" {
		return "(any name)@" + r.host
	}
	return r.user + "@" + r.host
}

// says gives what an account is, in words.
func (r accountRow) says() string {
	parts := []string{r.plugin}
	for _, each := range []struct {
		is   bool
		word string
	}{{r.locked, "locked"}, {r.expired, "the password has expired"},
		{!r.hasPassword && r.plugin != "unix_socket" && r.plugin != "auth_socket" && !r.isRole,
			"without a password"}, {r.needs != "", "needs " + r.needs},
		{r.sessions != "0" && r.sessions != "", "at most " + r.sessions + " sessions"}} {
		if each.is {
			parts = append(parts, each.word)
		}
	}
	return strings.Trim(strings.Join(parts, ", "), ", ")
}

// accounts gives those of a name and those of any name, in the server's order. Of a stored
// password nothing is asked for but whether there is one.
func (s *session) accounts(ctx context.Context, user string) (list []accountRow, err error) {
	var kept []accountRow
	out := &collected{do: func(cells []engine.Cell) error {
		text := func(i int) string { return cells[i].Text }
		is := func(i int) bool { return cells[i].Text == "true" }
		kept = append(kept, accountRow{user: text(0), host: text(1), plugin: text(2), needs: text(3),
			sessions: text(4), locked: is(5), expired: is(6), isRole: is(7), hasPassword: is(8), hourly: text(9)})
		return nil
	}}
	a := &asker{session: s, scope: engine.Scope{System: true}, out: out}
	ways := a.users()
	for i, way := range ways {
		locked := way.Columns[4].By
		where := " where (u.user = " + literal(user) + " or u.user = '')"
		ways[i] = engine.Inquiry{From: strings.TrimSuffix(way.From, " where true") + where, Order: way.Order,
			Columns: []engine.Listed{
				engine.In("user", engine.Text, "u.user"), engine.In("host", engine.Text, "u.host"),
				engine.In("login", engine.Text, "u.plugin"),
				engine.In("needs", engine.Text, way.Columns[7].By),
				engine.In("sessions", engine.Text, "u.max_user_connections"),
				engine.In("locked", engine.Boolean, locked),
				engine.In("expired", engine.Boolean, "u.password_expired = 'Y'"),
				engine.In("is_role", engine.Boolean, "u.is_role = 'Y'"),
				engine.In("has_password", engine.Boolean, "u.authentication_string <> ''"),
				engine.In("hourly", engine.Text,
					"concat_ws(', ', case when u.max_connections > 0 then concat(u.max_connections, ' logins') "+
						"end, case when u.max_questions > 0 then concat(u.max_questions, ' statements') end, "+
						"case when u.max_updates > 0 then concat(u.max_updates, ' changes') end)"),
			}}
	}
	sight, err := engine.Inquire(ctx, s, ways, engine.SeesAll(),
		engine.SeesPart("the accounts", "the right select on the database mysql",
			"grant select on mysql.* to "+named(s.one(ctx, "select current_user()"))), out)
	if err == nil && !sight.All() {
		return nil, engine.Cannot(string(engine.Examines))
	}
	return kept, err
}

// judge says what of the account that decides keeps the login out.
func (s *session) judge(ctx context.Context, r accountRow, a engine.Attempt, e *engine.Examined) {
	say := func(text, fix string) {
		if e.Says = append(e.Says, text); fix != "" {
			e.Fixes = append(e.Fixes, fix)
		}
	}
	name := quote(r.user) + "@" + quote(r.host)
	whole := accountName(r)
	if r.user != a.User {
		say(fmt.Sprintf("the account %s decides, since its host is named more closely than that of any account %s",
			whole, a.User), "")
		if r.user == "" {
			e.Fixes = append(e.Fixes, "drop user ''@"+quote(r.host))
		}
		return
	}
	say("the account "+whole+" decides", "")
	if r.locked {
		say("it is locked", "alter user "+name+" account unlock")
	}
	if r.expired {
		say("its password has expired", "alter user "+name+" identified by '…'")
	}
	switch {
	case r.plugin == "unix_socket" || r.plugin == "auth_socket":
		say("it logs in by the socket alone, as the operating system's user of a matching name",
			"alter user "+name+" identified by '…'")
	case r.plugin == "mysql_old_password":
		say("its password is stored in the old form", "alter user "+name+" identified by '…'")
	case !r.hasPassword && (r.plugin == "mysql_native_password" || r.plugin == ""):
		say("it has no password: any that is sent is refused", "")
		e.Flags = append(e.Flags, []string{"--secret", "empty"})
	}
	if everybody := s.one(ctx, "select @@global.require_secure_transport"); !a.Encrypted && !a.Socket &&
		(everybody == "1" || strings.EqualFold(everybody, "on")) {
		say("the server takes encrypted connections alone (require_secure_transport), and the login was not encrypted", "")
		e.Flags = append(e.Flags, []string{"--tls", "encrypt"})
	} else if r.needs != "" && !a.Encrypted {
		say("it needs "+r.needs+", and the login was not encrypted", "")
		if r.needs == "encryption" {
			e.Flags = append(e.Flags, []string{"--tls", "encrypt"})
		}
	} else if strings.Contains(r.needs, "certificate") && !a.Card {
		say("it needs "+r.needs+" of the client, and none was sent: add --tls-cert FILE and --tls-key FILE", "")
	}
	if r.hourly != "" {
		say("in an hour it may do: "+r.hourly,
			"alter user "+name+" with max_connections_per_hour 0 max_queries_per_hour 0 max_updates_per_hour 0")
	}
	if r.sessions != "" && r.sessions != "0" {
		var most, are int
		if _, err := fmt.Sscan(r.sessions+" "+s.one(ctx,
			"select count(*) from information_schema.processlist where user = "+literal(r.user)), &most,
			&are); err == nil && are >= most {
			say(fmt.Sprintf("it may have %d sessions, and %d are open", most, are),
				"alter user "+name+" with max_user_connections 0")
		}
	}
}
