package mysql

import (
	"context"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
)

// rightRow is a line of the list of rights.
type rightRow struct{ user, may, on, from, but string }

// mostRoles bounds the roles of one account, and mostGrants what is kept in memory of the rights
// of all.
const (
	mostRoles  = 1000
	mostGrants = 500_000
)

// rights lists the rights of the session's account, of a user, or of everybody on a table.
func (a *asker) rights(ctx context.Context) (engine.Sight, error) {
	if !a.known {
		return engine.NotKnown("the server does not say who may do what"), nil
	}
	sight := engine.SeesAll()
	all := allows(a.grants, "mysql", "select")
	others := engine.SeesPart("the rights of other users", "the right select on the database mysql",
		"grant select on mysql.* to "+named(a.account))
	var rows []rightRow
	var err error
	switch {
	case a.scope.Everybody && all:
		rows, err = a.everybody(ctx)
	case a.scope.Everybody:
		sight = others
		rows, err = a.of(ctx, a.account, a.grants)
	case a.scope.Of == "" || a.scope.Of == a.account:
		rows, err = a.of(ctx, a.account, a.grants)
	case !all:
		sight = others
		if user, _, _ := account(a.account); user == a.scope.Of {
			rows, err = a.of(ctx, a.account, a.grants)
		}
	default:
		rows, err = a.ofUser(ctx)
	}
	if err != nil {
		return sight, err
	}
	if a.unread > 0 {
		sight.Note = "some of what the server says of rights was not understood, and is left out"
	}
	slices.SortFunc(rows, func(x, y rightRow) int {
		for _, pair := range [][2]string{{x.user, y.user}, {x.on, y.on}, {x.from, y.from}, {x.may, y.may}} {
			if n := strings.Compare(pair[0], pair[1]); n != 0 {
				return n
			}
		}
		return 0
	})
	if err := a.out.Columns([]engine.Column{{Name: "user", Kind: engine.Text}, {Name: "may", Kind: engine.Text},
		{Name: "on", Kind: engine.Text}, {Name: "from", Kind: engine.Text},
		{Name: "but", Kind: engine.Text}}); err != nil {
		return sight, err
	}
	for _, r := range slices.Compact(rows) {
		if err := a.out.Row([]engine.Cell{{Text: r.user}, {Text: r.may}, {Text: r.on}, {Text: r.from},
			{Text: r.but}}); err != nil {
			return sight, err
		}
	}
	return sight, nil
}

// of gives the rights of an account, by its own grants and those of its roles.
func (a *asker) of(ctx context.Context, account string, grants []grant) (rows []rightRow, err error) {
	have, taken := map[string]bool{account: true}, map[string]bool{}
	for _, g := range grants {
		have[g.to] = true
		if g.level == "role" && g.asDefault {
			taken[g.name] = true
		}
	}
	if account == a.account { // what is taken on now counts
		for _, role := range strings.Split(strings.ReplaceAll(a.one(ctx, "select current_role()"), "`", ""), ",") {
			taken[role] = true
		}
	}
	direct := grants
	for i := 0; i < len(grants) && len(have) < mostRoles; i++ {
		g := grants[i]
		if g.level != "role" || g.asDefault || have[g.name] {
			continue
		}
		have[g.name] = true
		more, unread, err := a.shownGrants(ctx, named(g.name))
		if engine.Refused(err) && account == a.account { // MySQL shows them together with the account's own
			if more, unread, err = a.shownGrants(ctx, "current_user() using "+named(g.name)); err == nil {
				more = beside(more, direct, g.name)
			}
		}
		if engine.Refused(err) { // its own rights are hidden; that the account may take it on is not
			continue
		}
		if err != nil {
			return nil, err
		}
		a.unread += unread
		// what follows a role is not the account's own
		if slices.ContainsFunc(more, func(m grant) bool { return m.to == g.to }) {
			more = slices.DeleteFunc(more, func(m grant) bool { return m.to == g.to })
		}
		for _, m := range more {
			if taken[g.name] && m.level == "role" { // roles of a role that is taken on are taken on with it
				taken[m.name] = true
			}
		}
		grants = append(grants[:len(grants):len(grants)], more...)
	}
	if !have["PUBLIC"] && a.scope.Of != "" {
		if more, _, err := a.shownGrants(ctx, "public"); err == nil {
			grants = append(grants[:len(grants):len(grants)], more...)
		} else if !engine.Refused(err) {
			return nil, err
		}
	}
	for _, g := range grants {
		from, but := "directly", ""
		switch {
		case strings.EqualFold(g.to, "public"):
			from = "everybody"
		case g.to != account:
			from = "role " + g.to
			if !taken[g.to] {
				but = "only after: set role " + g.to
			}
		}
		if g.level == "role" {
			if a.scope.Table.Name != "" || g.asDefault {
				continue
			}
			if but == "" && !taken[g.name] {
				but = "its rights only after: set role " + g.name
			}
			rows = append(rows, rightRow{account, "act as " + g.name, "role " + g.name, from, but})
			continue
		}
		rows = append(rows, a.rowsOf(g, account, from, but)...)
	}
	return rows, nil
}

// beside gives the grants of a role that are not the account's own already.
func beside(together, own []grant, role string) []grant {
	var list []grant
	for _, g := range together {
		if g.level == "role" {
			continue
		}
		g.rights = slices.DeleteFunc(slices.Clone(g.rights), func(r aRight) bool {
			return slices.ContainsFunc(own, func(o grant) bool {
				return o.level == g.level && o.schema == g.schema && o.name == g.name &&
					slices.ContainsFunc(o.rights, func(each aRight) bool {
						return each.right == r.right && slices.Equal(each.columns, r.columns)
					})
			})
		})
		if g.to = role; len(g.rights) > 0 {
			list = append(list, g)
		}
	}
	return list
}

// rowsOf says what a grant gives.
func (a *asker) rowsOf(g grant, user, from, but string) (rows []rightRow) {
	table := a.scope.Table
	if table.Name != "" && !g.covers(table.Schema, table.Name) {
		return nil
	}
	var whole []string
	columns := map[string][]string{}
	var order []string
	for _, r := range g.rights {
		if r.right == "usage" || table.Name != "" && !onTables(r.right) {
			continue
		}
		may := word(r.right)
		if g.level == "user" { // proxy
			may = "act as " + g.name
		}
		for _, c := range r.columns {
			if columns[c] == nil {
				order = append(order, c)
			}
			columns[c] = append(columns[c], may)
		}
		if r.columns == nil {
			whole = append(whole, may)
		}
	}
	on := g.level
	switch g.level {
	case "database":
		if on = "database " + g.schema; strings.ContainsAny(strings.NewReplacer(`\_`, "", `\%`, "").Replace(g.schema), "_%") {
			on = "databases like " + g.schema
		} else {
			on = strings.NewReplacer(`\_`, "_", `\%`, "%").Replace(on)
		}
	case "table", "routine":
		on += " " + g.schema + "." + g.name
	case "user":
		on += " " + g.name
	}
	say := func(words []string, on string) {
		may := strings.Join(words, ", ")
		if g.taken {
			may = "not: " + may
		}
		if g.passes {
			may = strings.Join(words, " (and pass it on), ") + " (and pass it on)"
		}
		rows = append(rows, rightRow{user, may, on, from, but})
	}
	if len(whole) > 0 {
		say(whole, on)
	}
	for _, c := range order {
		say(columns[c], "column "+c+" of "+g.schema+"."+g.name)
	}
	return rows
}

// ofUser gives the rights of a user's accounts.
func (a *asker) ofUser(ctx context.Context) (rows []rightRow, err error) {
	list, err := a.texts(ctx, "select u.user, u.host from mysql.user u where u.user = "+literal(a.scope.Of)+" or concat(u.user, '@', u.host) = "+literal(a.scope.Of))
	if err != nil {
		return nil, stated(err)
	}
	if len(list) == 0 {
		missing := &engine.NotThere{What: "user", Name: a.scope.Of}
		list, err := a.texts(ctx, "select distinct u.user from mysql.user u where u.user <> '' limit 20000")
		for _, row := range list {
			missing.Near = append(missing.Near, textIn(row[0]))
		}
		if err != nil {
			return nil, stated(err)
		}
		return nil, missing
	}
	for _, row := range list {
		account := accountIn(row[0], row[1])
		grants, unread, err := a.shownGrants(ctx, named(account))
		if engine.Refused(err) && !engine.Denied(err) { // an account for a host by its name, where the server takes no names
			continue
		}
		if err != nil {
			return nil, err
		}
		a.unread += unread
		more, err := a.of(ctx, account, grants)
		if err != nil {
			return nil, err
		}
		rows = append(rows, more...)
	}
	return rows, nil
}

// everybody gives the rights of all accounts on a table, by the four lists of the information
// schema, which who may read the database mysql sees whole.
func (a *asker) everybody(ctx context.Context) (rows []rightRow, err error) {
	t := a.scope.Table
	schema, table := literal(t.Schema), literal(t.Name)
	names := make([]string, len(tableRights))
	for i, each := range tableRights {
		names[i] = "'" + strings.ToUpper(each[0]) + "'"
	}
	const of = "select p.grantee, p.privilege_type, p.is_grantable, "
	statement := of + "'everything', '', '' from information_schema.user_privileges p where p.privilege_type in (" +
		strings.Join(names, ", ") + ")" +
		" union all " + of + "'database', p.table_schema, '' from information_schema.schema_privileges p where " +
		schema + " like p.table_schema and p.privilege_type in (" + strings.Join(names, ", ") + ")" +
		" union all " + of + "'table', p.table_schema, '' from information_schema.table_privileges p where " +
		"p.table_schema = " +
		schema + " and p.table_name = " + table +
		" union all " + of + "'table', p.table_schema, p.column_name from information_schema.column_privileges " +
		"p where p.table_schema = " +
		schema + " and p.table_name = " + table
	var grants []grant
	err = a.Together(ctx, true, func() error {
		_, err := a.Run(ctx, engine.Statement{Text: statement}, &collected{do: func(row []engine.Cell) error {
			if len(row) != 6 {
				return engine.Malformed("a row of another size than was asked for")
			}
			to, _ := grantees(partsOf(row[0].Text))
			if len(to) != 1 {
				a.unread++
				return nil
			}
			right := aRight{right: strings.ToLower(row[1].Text)}
			if row[5].Text != "" {
				right.columns = []string{row[5].Text}
			}
			if len(grants) == mostGrants {
				return engine.TooMuch("query")
			}
			g := grant{to: strings.TrimSuffix(to[0], "@"), level: row[3].Text, schema: row[4].Text,
				passes: row[2].Text == "YES", rights: []aRight{right}}
			if g.level == "table" {
				g.name = t.Name
			}
			grants = append(grants, g)
			return nil
		}})
		return err
	})
	if err != nil {
		return nil, err
	}
	members, err := a.members(ctx)
	if err != nil {
		return nil, err
	}
	taken, err := a.takenOn(ctx)
	if err != nil {
		return nil, err
	}
	for _, g := range merged(grants) {
		from := "directly"
		if strings.EqualFold(g.to, "public") {
			rows = append(rows, a.rowsOf(g, "everybody", "everybody", "")...)
			continue
		}
		if list := members[g.to]; list != nil {
			for _, user := range list {
				but := ""
				if !taken[[2]string{user, g.to}] {
					but = "only after: set role " + g.to
				}
				rows = append(rows, a.rowsOf(g, user, "role "+g.to, but)...)
			}
			continue
		}
		rows = append(rows, a.rowsOf(g, g.to, from, "")...)
	}
	return rows, nil
}

// merged puts grants to one account about one thing together.
func merged(grants []grant) (list []grant) {
	at := map[[4]string]int{}
	for _, g := range grants {
		key := [4]string{g.to, g.level, g.schema, map[bool]string{true: "passes"}[g.passes]}
		i, is := at[key]
		if !is {
			at[key] = len(list)
			list = append(list, g)
			continue
		}
		list[i].rights = append(list[i].rights, g.rights...)
	}
	for _, g := range list {
		slices.SortStableFunc(g.rights, func(x, y aRight) int { return rank(x.right) - rank(y.right) })
	}
	return list
}

// rank gives the place of a right on tables in what is said.
func rank(right string) int {
	return slices.IndexFunc(tableRights, func(each [2]string) bool { return each[0] == right })
}

// takenOn gives the pairs of an account and a role that it takes on at its login: mysql.user of
// MariaDB, mysql.default_roles of MySQL 8.
func (a *asker) takenOn(ctx context.Context) (map[[2]string]bool, error) {
	rows, err := a.texts(ctx, "select u.user, u.host, u.default_role, '' from mysql.user u where u.default_role <> ''")
	if engine.Refused(err) {
		rows, err = a.texts(ctx, "select d.user, d.host, d.default_role_user, d.default_role_host from mysql.default_roles d")
	}
	if engine.Refused(err) {
		return nil, nil
	}
	taken := map[[2]string]bool{}
	for _, row := range rows {
		if len(row) == 4 {
			taken[[2]string{accountIn(row[0], row[1]), accountIn(row[2], row[3])}] = true
		}
	}
	return taken, err
}

// accountIn gives an account, or a role of MariaDB, which has no host.
func accountIn(user, host *string) string {
	if textIn(host) == "" {
		return textIn(user)
	}
	return textIn(user) + "@" + textIn(host)
}

// members gives the accounts that have each role, by itself or through another one:
// mysql.roles_mapping of MariaDB, mysql.role_edges of MySQL 8.
func (a *asker) members(ctx context.Context) (map[string][]string, error) {
	rows, err := a.texts(ctx, "select m.user, m.host, m.role, '' from mysql.roles_mapping m")
	if engine.Refused(err) {
		rows, err = a.texts(ctx, "select m.to_user, m.to_host, m.from_user, m.from_host from mysql.role_edges m")
	}
	if engine.Refused(err) { // MySQL 5.7 has no roles
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	direct := map[string][]string{}
	for _, row := range rows {
		if len(row) != 4 {
			return nil, engine.Malformed("a row of another size than was asked for")
		}
		role := accountIn(row[2], row[3])
		direct[role] = append(direct[role], accountIn(row[0], row[1]))
	}
	all := map[string][]string{}
	for role := range direct {
		seen := map[string]bool{}
		var add func(string)
		add = func(of string) {
			for _, member := range direct[of] {
				if seen[member] {
					continue
				}
				if seen[member] = true; direct[member] != nil {
					add(member)
				} else {
					all[role] = append(all[role], member)
				}
			}
		}
		add(role)
		if all[role] == nil {
			all[role] = []string{}
		}
	}
	return all, nil
}
