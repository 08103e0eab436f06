package postgres

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/outside"
)

// hbaRule is a line of the server's access rules (pg_hba.conf): "The pg_hba.conf File" and
// "pg_hba_file_rules", PostgreSQL's manual, of versions 10 to 18.
type hbaRule struct {
	line                                          string
	kind, address, mask, method, mistake, options string
	databases, users                              []string
}

// client is who logs in, as the rules see it.
type client struct {
	engine.Attempt
	from    netip.Addr // not valid where it is not known
	members map[string]bool
}

// Examine implements engine.Examiner.
func (s *session) Examine(ctx context.Context, a engine.Attempt) (engine.Examined, error) {
	var e engine.Examined
	who := client{Attempt: a, members: map[string]bool{}}
	from := a.From
	if from == "" && a.SameWay && !a.Socket {
		if rows, err := s.texts(ctx, "select pg_catalog.host(pg_catalog.inet_client_addr())"); err == nil &&
			len(rows) == 1 && len(rows[0]) == 1 {
			from = string(rows[0][0])
		}
	}
	who.from, _ = netip.ParseAddr(from)
	if e.Client = from; a.Socket {
		e.Client = "the socket"
	}
	rules, err := s.hbaRules(ctx)
	if err != nil {
		return e, err
	}
	rows, err := s.texts(ctx, "select g.rolname from pg_catalog.pg_roles g, pg_catalog.pg_roles u where "+
		"u.rolname = "+literal(a.User)+" and pg_catalog.pg_has_role(u.oid, g.oid, 'member')")
	if err != nil {
		return e, err
	}
	for _, row := range rows {
		who.members[string(row[0])] = true
	}
	for _, r := range rules {
		e.Rules = append(e.Rules, who.judged(r))
	}
	s.readAnew(ctx, &e)
	method := ""
	switch at := e.Decides(); {
	case at >= 0:
		method = rules[at].method
		who.follows(&e, rules[at])
	case !slices.ContainsFunc(e.Rules, func(r engine.Rule) bool { return r.Fits != engine.FitsNot }):
		e.Says = append(e.Says, "no rule fits, so that the server lets this login not in")
		e.Says = append(e.Says, "a line that would fit, to be added to the rules: "+who.line())
	}
	return e, s.accountOf(ctx, a, method, &e)
}

// hbaRules gives the rules, in the order in which the server looks at them.
func (s *session) hbaRules(ctx context.Context) (rules []hbaRule, err error) {
	list := func(column string) string { return "coalesce(pg_catalog.array_to_string(" + column + ", chr(31)), '')" }
	rows, err := s.texts(ctx, "select line_number, coalesce(type, ''), "+list("database")+", "+list("user_name")+", coalesce(address, ''), coalesce(netmask, ''), coalesce(auth_method, ''), "+list("options")+", coalesce(error, '') from pg_catalog.pg_hba_file_rules")
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		if len(row) != 9 {
			return nil, engine.Malformed("a row of another size than was asked for")
		}
		text := func(i int) string { return string(row[i]) }
		several := func(i int) []string { return strings.FieldsFunc(text(i), func(r rune) bool { return r == 31 }) }
		rules = append(rules, hbaRule{line: text(0), kind: text(1), databases: several(2), users: several(3),
			address: text(4), mask: text(5), method: text(6),
			options: strings.Join(withoutSecrets(several(7)), " "), mistake: text(8)})
	}
	return rules, nil
}

// withoutSecrets gives options of a rule without the passwords that some methods have there
// (ldapbindpasswd, radiussecrets).
func withoutSecrets(options []string) []string {
	for i, option := range options {
		name, _, _ := strings.Cut(option, "=")
		if lower := strings.ToLower(name); strings.Contains(lower, "passw") || strings.Contains(lower, "secret") {
			options[i] = name + "=[secret]"
		}
	}
	return options
}

// judged says whether a rule is about the login.
func (c client) judged(r hbaRule) engine.Rule {
	at := r.address
	if r.mask != "" {
		if prefix, is := engine.Network(r.address, r.mask); is {
			at = prefix.String()
		}
	}
	says := strings.Join(strings.Fields(strings.Join([]string{r.kind, strings.Join(r.databases, ","),
		strings.Join(r.users, ","), at, r.method, r.options}, " ")), " ")
	rule := engine.Rule{Where: "line " + r.line, Says: outside.Cell(says), Fits: engine.FitsWell}
	not := func(why string) engine.Rule {
		rule.Fits, rule.Why = engine.FitsNot, why
		return rule
	}
	perhaps := func(why string) {
		rule.Fits, rule.Why = engine.FitsPerhaps, why
	}
	switch {
	case r.mistake != "":
		return not("the server does not understand it: " + outside.Cell(r.mistake))
	case r.kind == "local" != c.Socket:
		return not(map[bool]string{true: "it is about the network", false: "it is about the socket"}[c.Socket])
	case r.kind == "hostssl" && !c.Encrypted:
		return not("it is about encrypted connections")
	case r.kind == "hostnossl" && c.Encrypted:
		return not("it is about connections without encryption")
	case r.kind == "hostgssenc":
		return not("it is about encryption by GSSAPI")
	}
	if fits, sure := c.named(r.databases, c.Database, true); !fits {
		return not("it is about other databases")
	} else if !sure {
		perhaps("its databases are a pattern")
	}
	if fits, sure := c.named(r.users, c.User, false); !fits {
		return not("it is about other users")
	} else if !sure {
		perhaps("its users are a pattern")
	}
	if c.Socket {
		return rule
	}
	switch fits, why := c.reached(r); fits {
	case engine.FitsNot:
		return not(why)
	case engine.FitsPerhaps:
		perhaps(why)
	}
	return rule
}

// named reports whether a name is among those of a rule; sure is false where a pattern decides.
func (c client) named(names []string, name string, database bool) (fits, sure bool) {
	for _, each := range names {
		switch group, isGroup := strings.CutPrefix(each, "+"); {
		case each == "all", each == name:
			return true, true
		case database && each == "sameuser" && c.Database == c.User,
			database && (each == "samerole" || each == "samegroup") && c.members[c.Database]:
			return true, true
		case !database && isGroup && c.members[group]:
			return true, true
		case strings.HasPrefix(each, "/"): // a regular expression of the server's own kind
			fits = true
		}
	}
	return fits, false
}

// reached says whether a rule is about the address that the client comes from.
func (c client) reached(r hbaRule) (engine.Fits, string) {
	if r.address == "all" {
		return engine.FitsWell, ""
	}
	prefix, is := engine.Network(r.address, r.mask)
	switch {
	case !c.from.IsValid():
		return engine.FitsPerhaps, "the address that the server sees is not known"
	case is && prefix.Contains(c.from.Unmap()):
		return engine.FitsWell, ""
	case is:
		return engine.FitsNot, "it is about other addresses"
	case r.address == "samehost" && c.from.IsLoopback():
		return engine.FitsWell, ""
	}
	return engine.FitsPerhaps, "only the server knows which addresses " + outside.Cell(r.address) + " stands for"
}

// line gives a line of the rules that would fit.
func (c client) line() string {
	name := func(text string) string {
		if text == "" || strings.ContainsAny(text, " ,#\"/+") || text == "all" {
			return `"` + strings.ReplaceAll(text, `"`, `""`) + `"`
		}
		return text
	}
	kind, at := "host", ""
	switch {
	case c.Socket:
		kind = "local"
	case c.from.IsValid():
		at = fmt.Sprintf(" %s/%d", c.from, c.from.BitLen())
	default:
		at = " ADDRESS/32"
	}
	if c.Encrypted {
		kind = "hostssl"
	}
	return kind + " " + name(c.Database) + " " + name(c.User) + at + " scram-sha-256"
}

// follows says what the rule that decides asks for.
func (c client) follows(e *engine.Examined, r hbaRule) {
	say := func(text string) { e.Says = append(e.Says, "line "+r.line+" decides, and "+text) }
	switch r.method {
	case "reject":
		say("it rejects. A line below it does not count; one that lets this in must be above it: " + c.line())
	case "peer":
		say("it lets in only the operating system's user of a matching name")
	case "ident":
		say("it asks the system of the client who the user is")
	case "cert":
		say("it needs a client certificate for " + c.User)
	case "trust":
		say("it asks for no password")
	default:
		say("it asks for a password by " + outside.Cell(r.method))
	}
	for _, option := range strings.Fields(r.options) {
		if strings.HasPrefix(option, "clientcert=") && !c.Card {
			say("it needs a client certificate beside the password")
		}
	}
}

// readAnew says that the file was changed after the server read it. What this user may not ask is
// passed over.
func (s *session) readAnew(ctx context.Context, e *engine.Examined) {
	rows, err := s.texts(ctx, "select (pg_catalog.pg_stat_file(pg_catalog.current_setting('hba_file'))).modification > pg_catalog.pg_conf_load_time()")
	if err == nil && len(rows) == 1 && len(rows[0]) == 1 && string(rows[0][0]) == "t" {
		e.Says = append(e.Says, "the file of the rules was changed after the server read it: what is listed "+
			"here does not count yet")
		e.Fixes = append(e.Fixes, "select pg_reload_conf()")
	}
}

// accountOf says what of the account, and of the database, keeps the login out. Method is how the
// rule that decides asks for a password, "" for not known. Of the stored password nothing but its
// kind is asked for.
func (s *session) accountOf(ctx context.Context, a engine.Attempt, method string, e *engine.Examined) error {
	say := func(text, fix string) {
		if e.Says = append(e.Says, text); fix != "" {
			e.Fixes = append(e.Fixes, fix)
		}
	}
	user, base := quote(a.User), quote(a.Database)
	rows, err := s.texts(ctx, "select rolcanlogin, rolvaliduntil < now(), rolvaliduntil, rolconnlimit, (select "+
		"count(*) from pg_catalog.pg_stat_activity where usename = rolname) from pg_catalog.pg_roles "+
		"where rolname = "+literal(a.User))
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		say("there is no role "+a.User, "create role "+user+" login password '…'")
	} else if row := rows[0]; len(row) == 5 {
		if string(row[0]) == "f" {
			say("the role "+a.User+" may not log in", "alter role "+user+" login")
		}
		if string(row[1]) == "t" {
			say("the password of "+a.User+" was valid until "+outside.Cell(string(row[2]))+"; the server says nothing of that to who logs in",
				"alter role "+user+" valid until 'infinity'")
		}
		s.full("the role "+a.User, string(row[3]), string(row[4]), "alter role "+user+" connection limit -1", say)
		if kind, err := s.texts(ctx, "select case when rolpassword is null then 'none' when rolpassword like "+
			"'SCRAM-SHA-256$%' then 'scram-sha-256' else 'md5' end from pg_catalog.pg_authid where rolname = "+literal(a.User)); err == nil &&
			len(kind) == 1 {
			switch stored := string(kind[0][0]); {
			case stored == "none" && strings.HasPrefix(method, "scram"),
				stored == "none" && (method == "md5" || method == "password"):
				say("the role "+a.User+" has no password", "alter role "+user+" password '…'")
			case stored == "md5" && method == "scram-sha-256":
				say("the password of "+a.User+" is stored for md5, and the rule asks for scram-sha-256",
					"alter role "+user+" password '…'")
			}
		}
	}
	rows, err = s.texts(ctx, "select datallowconn, datconnlimit, (select count(*) from "+
		"pg_catalog.pg_stat_activity where pg_stat_activity.datname = d.datname), coalesce((select "+
		"pg_catalog.has_database_privilege(oid, d.datname, 'CONNECT') from pg_catalog.pg_roles where rolname = "+literal(a.User)+"), true) from pg_catalog.pg_database d where datname = "+literal(a.Database))
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		say("there is no database "+a.Database, "create database "+base)
		return nil
	}
	if row := rows[0]; len(row) == 4 {
		if string(row[0]) == "f" {
			say("the database "+a.Database+" accepts no connections", "alter database "+base+" allow_connections true")
		}
		if string(row[3]) == "f" {
			say(a.User+" may not open the database "+a.Database, "grant connect on database "+base+" to "+user)
		}
		s.full("the database "+a.Database, string(row[1]), string(row[2]), "alter database "+base+" connection limit -1", say)
	}
	return nil
}

// full says that as many connections are open as there may be.
func (*session) full(what, limit, open, fix string, say func(text, fix string)) {
	var most, are int
	if _, err := fmt.Sscan(limit+" "+open, &most, &are); err == nil && most >= 0 && are >= most {
		say(fmt.Sprintf("%s may have %d connections, and %d are open", what, most, are), fix)
	}
}
