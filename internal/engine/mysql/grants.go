package mysql

import (
	"context"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
)

// grant is a line of "show grants" ("GRANT" and "REVOKE", the manuals of both).
type grant struct {
	to string // the account or role, USER@HOST or ROLE
	// rights are in small letters, each with the columns that it is about, none for all.
	rights []aRight
	// level is "everything", "database", "table", "routine", "user" or "role"; schema and name
	// are what it is about.
	level, schema, name string
	passes              bool // it may be passed on
	taken               bool // a part that is taken away again
	asDefault           bool // of a role: it is taken on at the login
}

type aRight struct {
	right   string
	columns []string
}

// shown is how grants are written: names in either quotes, by the session's mode.
var shown = engine.Lexical{Quotes: "'\"`", Names: "`\"", Spaced: true}

// part is a word, a name or a mark of a grant.
type part struct {
	text  string
	named bool // in quotes
}

// is reports whether it is one of some words.
func (p part) is(words ...string) bool {
	return !p.named && slices.Contains(words, strings.ToLower(p.text))
}

// partsOf takes a line apart.
func partsOf(line string) []part {
	var parts []part
	for len(line) > 0 {
		n, kind := engine.Token(shown, line, true)
		text := line[:n]
		line = line[n:]
		switch kind {
		case engine.Space, engine.Comment:
		case engine.Quoted:
			quote := text[:1]
			parts = append(parts, part{strings.ReplaceAll(strings.TrimSuffix(text[1:], quote), quote+quote, quote), true})
		default:
			parts = append(parts, part{text, false})
		}
	}
	return parts
}

// grantees takes accounts or roles from the beginning of parts: 'u'@'h', `r`, public, with commas
// between them.
func grantees(parts []part) (names []string, rest []part) {
	for len(parts) > 0 && (parts[0].named || !parts[0].is("(", ",", "@")) {
		name := parts[0].text
		if parts = parts[1:]; len(parts) > 1 && parts[0].is("@") {
			name += "@" + parts[1].text
			parts = parts[2:]
		}
		names = append(names, name)
		if len(parts) == 0 || !parts[0].is(",") {
			break
		}
		parts = parts[1:]
	}
	return names, parts
}

// parseGrants reads a line of "show grants"; ok is false for one that it does not understand.
func parseGrants(line string) (grants []grant, ok bool) {
	parts := partsOf(line)
	if len(parts) < 3 {
		return nil, false
	}
	verb := strings.ToLower(parts[0].text)
	parts = parts[1:]
	switch verb {
	case "set": // set default role r for u@h
		if len(parts) < 4 || !parts[0].is("default") || !parts[1].is("role") {
			return nil, false
		}
		roles, _ := grantees(parts[2:])
		for _, role := range roles {
			grants = append(grants, grant{level: "role", name: role, asDefault: true})
		}
		return grants, len(grants) > 0
	case "grant", "revoke":
	default:
		return nil, false
	}
	on := slices.IndexFunc(parts, func(p part) bool { return p.is("on") })
	to := slices.IndexFunc(parts, func(p part) bool { return p.is("to", "from") })
	if to < 1 || to+1 >= len(parts) {
		return nil, false
	}
	names, rest := grantees(parts[to+1:])
	if len(names) == 0 {
		return nil, false
	}
	g := grant{to: names[0], taken: verb == "revoke"}
	for i, p := range rest {
		g.passes = g.passes || p.is("with") && i+2 < len(rest) && rest[i+1].is("grant", "admin") && rest[i+2].is("option")
	}
	if on < 0 || on > to { // roles
		roles, left := grantees(parts[:to])
		for _, role := range roles {
			one := g
			one.level, one.name = "role", role
			grants = append(grants, one)
		}
		return grants, len(left) == 0 && len(roles) > 0
	}
	if g.rights, ok = rightsOf(parts[:on]); !ok {
		return nil, false
	}
	return []grant{g}, g.about(parts[on+1 : to])
}

// rightsOf reads rights with their columns.
func rightsOf(parts []part) (list []aRight, ok bool) {
	for len(parts) > 0 {
		one := aRight{}
		for len(parts) > 0 && !parts[0].is(",", "(") {
			if parts[0].named || parts[0].is(")", ".", "@", "*") {
				return nil, false
			}
			one.right = strings.TrimSpace(one.right + " " + strings.ToLower(parts[0].text))
			parts = parts[1:]
		}
		if len(parts) > 0 && parts[0].is("(") {
			for parts = parts[1:]; len(parts) > 0 && !parts[0].is(")"); parts = parts[1:] {
				if !parts[0].is(",") {
					one.columns = append(one.columns, parts[0].text)
				}
			}
			if len(parts) == 0 {
				return nil, false
			}
			parts = parts[1:]
		}
		if one.right == "" {
			return nil, false
		}
		list = append(list, one)
		if len(parts) > 0 {
			if !parts[0].is(",") {
				return nil, false
			}
			parts = parts[1:]
		}
	}
	return list, len(list) > 0
}

// about reads what a grant is about.
func (g *grant) about(parts []part) bool {
	kind := ""
	for len(parts) > 1 && parts[0].is("table", "function", "procedure", "package", "body") {
		if kind == "" {
			kind = strings.ToLower(parts[0].text)
		}
		parts = parts[1:]
	}
	if len(g.rights) == 1 && g.rights[0].right == "proxy" {
		names, rest := grantees(parts)
		if len(names) != 1 || len(rest) > 0 {
			return false
		}
		g.level, g.name = "user", names[0]
		return true
	}
	if len(parts) != 3 || !parts[1].is(".") {
		return false
	}
	schema, name := parts[0], parts[2]
	switch g.schema, g.name = schema.text, name.text; {
	case schema.is("*") && name.is("*"):
		g.level, g.schema, g.name = "everything", "", ""
	case name.is("*"):
		g.level, g.name = "database", ""
	case kind == "" || kind == "table":
		g.level = "table"
	default:
		g.level = "routine"
	}
	return true
}

// Rights on tables, the only ones that count for one table; tableRights has them in the order in
// which they are said.
var tableRights = [][2]string{
	{"select", "read"}, {"insert", "add rows"}, {"update", "change rows"}, {"delete", "delete rows"},
	{"create", "create"}, {"drop", "drop"}, {"references", "refer to"}, {"index", "make indexes"},
	{"alter", "alter"},
	{"create view", "make views"}, {"show view", "see how views are made"}, {"trigger", "make triggers"},
	{"delete history", "delete history"},
}

// word gives a right in plain words.
func word(right string) string {
	for _, each := range tableRights {
		if right == each[0] {
			return each[1]
		}
	}
	switch right {
	case "all", "all privileges":
		return "do everything"
	case "execute":
		return "run routines"
	case "create temporary tables":
		return "make temporary tables"
	case "show databases":
		return "see all databases"
	case "process":
		return "see all sessions"
	case "file":
		return "read and write files of the server"
	case "proxy":
		return "act as"
	}
	return right
}

// onTables reports whether a right is one on a table.
func onTables(right string) bool {
	return strings.HasPrefix(right, "all") ||
		slices.ContainsFunc(tableRights, func(each [2]string) bool { return each[0] == right })
}

// covers reports whether a grant is about a table.
func (g grant) covers(schema, table string) bool {
	switch g.level {
	case "everything":
		return true
	case "database":
		return like(g.schema, schema)
	case "table":
		return g.schema == schema && g.name == table
	}
	return false
}

// like reports whether a name is of a pattern as the names of databases in grants are: % and _
// stand for others, and a backslash before them for themselves.
func like(pattern, name string) bool {
	return engine.Wild{Many: '%', One: '_', Itself: '\\'}.Fits(pattern, name)
}

// allows reports whether grants allow something for all tables of a database, of each database
// for "".
func allows(grants []grant, schema string, rights ...string) bool {
	return slices.ContainsFunc(grants, func(g grant) bool {
		if g.taken || g.level != "everything" && !(g.level == "database" && schema != "" && like(g.schema, schema)) {
			return false
		}
		return slices.ContainsFunc(g.rights, func(each aRight) bool {
			return each.columns == nil && (strings.HasPrefix(each.right, "all") || slices.Contains(rights, each.right))
		})
	})
}

// shownGrants asks for the grants of the session's account, "", or of one or a role; unread is
// how many lines were not understood.
func (s *session) shownGrants(ctx context.Context, of string) (grants []grant, unread int, err error) {
	statement := "show grants"
	if of != "" {
		statement += " for " + of
	}
	rows, err := s.texts(ctx, statement)
	if err != nil {
		return nil, 0, stated(err)
	}
	for _, row := range rows {
		if len(row) != 1 || row[0] == nil {
			return nil, 0, engine.Malformed("a row of another size than was asked for")
		}
		read, ok := parseGrants(*row[0])
		if !ok {
			unread++
		}
		grants = append(grants, read...)
	}
	return grants, unread, nil
}

// named gives an account or a role as a statement names it.
func named(account string) string {
	if user, host, is := strings.Cut(account, "@"); is {
		if at := strings.LastIndexByte(account, '@'); at > 0 {
			user, host = account[:at], account[at+1:]
		}
		return quote(user) + "@" + quote(host)
	}
	return quote(account)
}
