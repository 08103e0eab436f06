package mysql

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
)

// Survey implements engine.Surveyor. All is from "INFORMATION_SCHEMA Tables", "Performance
// Schema" and "The mysql System Database" in MySQL's manuals of 5.7, 8.0 and 8.4, and
// "Information Schema Tables" and "The mysql Database Tables" in MariaDB's, of 10.4 to 11.8;
// MariaDB 10.11 was asked.
func (s *session) Survey(ctx context.Context, list engine.List, scope engine.Scope,
	out engine.Rows) (sight engine.Sight, err error) {
	s.numbered(ctx)
	err = engine.Interruptible(ctx, func(ctx context.Context) error { return s.kill(ctx, s.process, s.home) },
		func(work context.Context) (err error) {
			sight, err = s.survey(work, list, scope, out)
			return err
		})
	return sight, err
}

func (s *session) survey(ctx context.Context, list engine.List, scope engine.Scope,
	out engine.Rows) (engine.Sight, error) {
	if list == engine.ListSchemas {
		return engine.NotKnown("a schema is a database there, and the list of databases has them"), nil
	}
	a := &asker{session: s, scope: scope, out: out}
	if err := a.me(ctx); err != nil {
		return engine.Sight{}, err
	}
	switch list {
	case engine.ListDatabases:
		return a.databases(ctx)
	case engine.ListTables:
		return a.tables(ctx)
	case engine.ListColumns:
		return a.ask(ctx, a.ofTables("columns"), a.columns())
	case engine.ListUsers:
		return a.ask(ctx, engine.SeesAll(), a.users()...)
	case engine.ListRights:
		return a.rights(ctx)
	case engine.ListSettings:
		return a.ask(ctx, engine.SeesAll(), a.settings()...)
	case engine.ListSessions:
		sight := engine.SeesAll()
		if a.known && !allows(a.grants, "", "process") {
			sight = engine.SeesPart("the sessions of other users", "the right process",
				"grant process on *.* to "+named(a.account))
		}
		return a.ask(ctx, sight, a.sessions()...)
	case engine.ListIndexes:
		return a.ask(ctx, a.ofTables("indexes"), a.indexes())
	case engine.ListRefersTo, engine.ListReferredBy:
		return a.ask(ctx, a.ofTables("foreign keys"), a.keys(list == engine.ListRefersTo))
	case engine.ListTriggers:
		sight := engine.SeesAll()
		if t := scope.Table; a.known && !allows(a.grants, t.Schema, "trigger") {
			sight = engine.SeesPart("triggers of tables on which one has no right to make triggers",
				"the right trigger", "grant trigger on "+quote(t.Schema)+"."+quote(t.Name)+" to "+named(a.account))
		}
		return a.ask(ctx, sight, a.triggers())
	}
	return engine.NotKnown("the engine has no such list"), nil
}

// asker asks for one list.
type asker struct {
	*session
	scope   engine.Scope
	out     engine.Rows
	account string // the session's, USER@HOST
	base    string // the database that is open, "" for none
	grants  []grant
	unread  int
	known   bool // the grants are known: else the server has no rights that it says
}

// me says who asks.
func (a *asker) me(ctx context.Context) error {
	rows, err := a.texts(ctx, "select current_user(), database()")
	if err != nil {
		return stated(err)
	}
	if len(rows) == 1 && len(rows[0]) == 2 {
		a.account, a.base = textIn(rows[0][0]), textIn(rows[0][1])
	}
	a.grants, a.unread, err = a.shownGrants(ctx, "")
	a.known = err == nil
	if engine.Refused(err) {
		err = nil
	}
	return err
}

// textIn gives a text, "" for none.
func textIn(text *string) string {
	if text == nil {
		return ""
	}
	return *text
}

func (a *asker) ask(ctx context.Context, sight engine.Sight, ways ...engine.Inquiry) (engine.Sight, error) {
	if !a.known && sight.Note == "" {
		sight.Note = engine.RightsUnknown
	}
	return engine.Inquire(ctx, a.session, ways, sight,
		engine.SeesPart("any of it", "the right select on the database mysql",
			"grant select on mysql.* to "+named(a.account)), a.out)
}

// sizeOf gives a column with a size.
func sizeOf(by string) engine.Listed {
	return engine.In("size", engine.Integer, by).As(engine.TypeSize)
}

const ofSystem = "('information_schema', 'performance_schema', 'mysql', 'sys')"

// Rights of which one makes all databases, or all tables of one, be seen ("SHOW DATABASES", "SHOW
// TABLES").
var (
	rightsOfData = []string{"select", "insert", "update", "delete", "create", "drop", "references", "index",
		"alter", "create temporary tables", "lock tables", "execute", "create view", "show view",
		"create routine", "alter routine", "event", "trigger"}
	rightsOfTable = []string{"select", "insert", "update", "delete", "create", "drop", "references", "index",
		"alter", "create view", "show view", "trigger"}
)

// mostSizes is how many tables there may be for the server to look into each of them: MariaDB
// opens a table to say how large it is, which takes a quarter of a millisecond.
const mostSizes = 2000

// databases is information_schema.schemata.
func (a *asker) databases(ctx context.Context) (engine.Sight, error) {
	sight := engine.SeesAll()
	if a.known && !allows(a.grants, "", append([]string{"show databases"}, rightsOfData...)...) {
		sight = engine.SeesPart("databases on which "+a.account+" has no right", "the right show databases",
			"grant show databases on *.* to "+named(a.account))
	}
	where := " where true"
	if !a.scope.System {
		where += " and s.schema_name not in " + ofSystem
	}
	columns := []engine.Listed{engine.In("database", engine.Text, "s.schema_name"),
		engine.In("encoding", engine.Text, "s.default_character_set_name"),
		engine.In("sorting", engine.Text, "s.default_collation_name")}
	from := "from information_schema.schemata s"
	few, err := a.few(ctx, "") // of all tables
	if err != nil {
		return sight, err
	}
	if few && !a.scope.Names {
		columns = append(columns, sizeOf("coalesce(t.size, 0)"))
		from += " left join (select table_schema, sum(data_length + index_length) as size from " +
			"information_schema.tables group by table_schema) t on t.table_schema = s.schema_name"
	} else {
		sight.Note = tooManySizes
	}
	columns = append(columns, engine.In("may_open", engine.Boolean, "1"),
		engine.In("open_now", engine.Boolean, "s.schema_name = database()"))
	order := " order by s.schema_name"
	return a.ask(ctx, sight, engine.Inquiry{Columns: columns, From: from + where, Order: order},
		engine.Inquiry{Columns: slices.DeleteFunc(slices.Clone(columns), func(c engine.Listed) bool {
			return c.Name == "size"
		}), From: "from information_schema.schemata s" + where, Order: order})
}

var tooManySizes = fmt.Sprintf("rows and sizes were not asked for, since there are more than %d tables and the "+
	"server would look into each",
	mostSizes)

// few reports whether there are so few tables that the server can look into each, in a database
// or in all; a server that does not say how many takes all.
func (a *asker) few(ctx context.Context, where string) (bool, error) {
	rows, err := a.texts(ctx, fmt.Sprintf("select count(*) from (select table_name from "+
		"information_schema.tables t where true%s limit %d) x",
		where, mostSizes+1))
	if engine.Refused(err) {
		return true, nil
	}
	return err == nil && len(rows) == 1 && textIn(rows[0][0]) != fmt.Sprint(mostSizes+1), err
}

// inScope is the condition of what is about tables: those of the open database, else of all.
func (a *asker) inScope() string {
	switch t := a.scope.Table; {
	case t.Name != "":
		return " and t.table_schema = " + literal(t.Schema) + " and t.table_name = " + literal(t.Name)
	case a.base != "" && a.scope.System:
		return " and (t.table_schema = " + literal(a.base) + " or t.table_schema in " + ofSystem + ")"
	case a.base != "":
		return " and t.table_schema = " + literal(a.base)
	case a.scope.System:
		return ""
	}
	return " and t.table_schema not in " + ofSystem
}

// ofTables is the sight of what is about tables.
func (a *asker) ofTables(what string) engine.Sight {
	base := a.base
	if a.scope.Table.Schema != "" {
		base = a.scope.Table.Schema
	}
	if !a.known || allows(a.grants, base, rightsOfTable...) {
		return engine.SeesAll()
	}
	what += " of tables on which " + a.account + " has no right"
	if base == "" {
		return engine.SeesPart(what, "the right select on all databases", "grant select on *.* to "+named(a.account))
	}
	return engine.SeesPart(what, "the right select on the database",
		"grant select on "+quote(base)+".* to "+named(a.account))
}

// tables is information_schema.tables.
func (a *asker) tables(ctx context.Context) (engine.Sight, error) {
	sight := a.ofTables("tables")
	if sight.Hidden != "" {
		sight.Hidden = strings.TrimPrefix(sight.Hidden, "tables of ")
	}
	first := []engine.Listed{
		engine.In("database", engine.Text, "t.table_schema"), engine.In("table", engine.Text, "t.table_name"),
		engine.In("kind", engine.Text,
			"case t.table_type when 'BASE TABLE' then 'table' when 'SYSTEM VIEW' then 'view of the system' else "+
				"lower(t.table_type) end"),
	}
	more := []engine.Listed{
		engine.In("rows_estimate", engine.Integer, "t.table_rows"), sizeOf("t.data_length + t.index_length"),
		engine.In("kept_by", engine.Text, "t.engine"),
		engine.In("comment", engine.Text, "case when t.table_type = 'VIEW' then '' else t.table_comment end"),
	}
	order := " order by t.table_schema, t.table_name"
	where := a.inScope()
	if where == "" {
		where = " and true"
	}
	if a.scope.Names {
		return a.ask(ctx, sight, engine.Inquiry{Columns: first,
			From: "from information_schema.tables t where true" + where, Order: order})
	}
	few, err := a.few(ctx, where)
	if err != nil {
		return sight, err
	}
	all := engine.Inquiry{Columns: append(slices.Clone(first), more...),
		From: "from information_schema.tables t where true" + where, Order: order}
	if few {
		return a.ask(ctx, sight, all)
	}
	if wanted, err := a.wantedTables(ctx, all.From, order); err != nil || wanted != nil {
		if err != nil {
			return sight, err
		}
		all.From, all.Order = a.each(all, wanted), " order by 1, 2"
		for i, c := range all.Columns {
			all.Columns[i].By = "t.`" + c.Name + "`"
		}
		return a.ask(ctx, sight, all)
	}
	sight.Note = tooManySizes + "; --like and --limit ask for fewer"
	return a.ask(ctx, sight, engine.Inquiry{Columns: append(first, more[2:]...), From: all.From, Order: order})
}

// mostLooks is how many tables are looked into one by one.
const mostLooks = 200

// wantedTables gives the tables that are wanted of many; nil where those are many, too.
func (a *asker) wantedTables(ctx context.Context, from, order string) (wanted []engine.Relation, err error) {
	if a.scope.Wanted == nil && a.scope.Limit == 0 {
		return nil, nil
	}
	wanted = []engine.Relation{}
	collect := &collected{do: func(row []engine.Cell) error {
		if one := (engine.Relation{Schema: row[0].Text, Name: row[1].Text}); len(wanted) <= mostLooks &&
			a.scope.Takes(one.Name, one.Schema+"."+one.Name) && (a.scope.Limit == 0 || len(wanted) < a.scope.Limit) {
			wanted = append(wanted, one)
		}
		return nil
	}}
	err = a.Together(ctx, true, func() error {
		_, err := a.Run(ctx, engine.Statement{Text: "select t.table_schema, t.table_name " + from + order}, collect)
		return err
	})
	if len(wanted) > mostLooks {
		return nil, nil
	}
	return wanted, err
}

// each gives a source of rows about some tables, each looked up by its name.
func (a *asker) each(of engine.Inquiry, tables []engine.Relation) string {
	columns := make([]string, len(of.Columns))
	for i, c := range of.Columns {
		columns[i] = c.By + " as `" + c.Name + "`"
	}
	selected := "select " + strings.Join(columns, ", ") + " from information_schema.tables t where "
	var parts []string
	for _, t := range tables {
		parts = append(parts, selected+"t.table_schema = "+literal(t.Schema)+" and t.table_name = "+literal(t.Name))
	}
	if len(parts) == 0 {
		parts = []string{selected + "false"}
	}
	return "from (" + strings.Join(parts, " union all ") + ") t"
}

// collected takes rows one by one.
type collected struct{ do func([]engine.Cell) error }

// Columns implements engine.Rows.
func (*collected) Columns([]engine.Column) error { return nil }

// Row implements engine.Rows.
func (c *collected) Row(cells []engine.Cell) error { return c.do(cells) }

// Bytes implements engine.Rows.
func (*collected) Bytes([]byte) error { return engine.Malformed("data instead of rows") }

// columns is information_schema.columns; a column is seen by who has a right on it.
func (a *asker) columns() engine.Inquiry {
	return engine.Inquiry{Columns: []engine.Listed{
		engine.In("database", engine.Text, "t.table_schema"), engine.In("table", engine.Text, "t.table_name"),
		engine.In("column", engine.Text, "t.column_name"), engine.In("type", engine.Text, "t.column_type"),
		engine.In("null", engine.Boolean, "t.is_nullable = 'YES'"),
		engine.In("default", engine.Text,
			"case when t.column_default is null or t.column_default = 'NULL' then '' else t.column_default end"),
		engine.In("key", engine.Text,
			"case t.column_key when 'PRI' then 'primary' when 'UNI' then 'unique' when 'MUL' then 'index' else '' end"),
		engine.In("extra", engine.Text, "t.extra").As(engine.TypeMore),
		engine.In("comment", engine.Text, "t.column_comment"),
	}, From: "from information_schema.columns t where true" +
		a.inScope(), Order: " order by t.table_schema, t.table_name, t.ordinal_position"}
}

// users is mysql.user, in the order in which the server looks for an account that fits a host:
// names without a sign for others first, those with one by how much is before it ("Access
// Control, Stage 1: Connection Verification", MySQL's manual; get_sort in the source of both).
func (a *asker) users() []engine.Inquiry {
	limits := "concat_ws(', ', case when u.max_user_connections > 0 then concat(u.max_user_connections, ' " +
		"sessions') end, case when u.max_connections > 0 then concat(u.max_connections, ' logins an hour') end, " +
		"case when u.max_questions > 0 then concat(u.max_questions, ' statements an hour') end, case when " +
		"u.max_updates > 0 then concat(u.max_updates, ' changes an hour') end)"
	needs := "case u.ssl_type when '' then '' when 'ANY' then 'encryption' when 'X509' then 'a certificate' " +
		"else 'a certain certificate' end"
	columns := func(logsIn, locked, member string) []engine.Listed {
		return []engine.Listed{
			engine.In("user", engine.Text, "u.user"), engine.In("host", engine.Text, "u.host"),
			engine.In("superuser", engine.Boolean, "u.super_priv = 'Y'"),
			engine.In("may_log_in", engine.Boolean, logsIn), engine.In("locked", engine.Boolean, locked),
			engine.In("expired", engine.Boolean, "u.password_expired = 'Y'"),
			engine.In("limits", engine.Text, limits), engine.In("needs", engine.Text, needs),
			engine.In("login", engine.Text, "u.plugin"), engine.In("member_of", engine.Text, member),
		}
	}
	first := func(sign string) string {
		return "case when locate('" + sign + "', u.host) = 0 then 127 else locate('" + sign + "', u.host) end"
	}
	order := " order by case when u.host = '' then 0 else least(127, " + first("%") + ", " + first("_") +
		") end desc, case when u.user = '' then 1 else 0 end, length(u.host) desc, u.host, u.user"
	where := " where true"
	if !a.scope.System {
		where += " and u.user not in ('mariadb.sys', 'mysql.sys', 'mysql.session', 'mysql.infoschema')"
	}
	maria := "coalesce((select group_concat(m.role order by m.role separator ', ') from mysql.roles_mapping m " +
		"where m.user = u.user and m.host = u.host), '')"
	kin := "coalesce((select group_concat(concat(m.from_user, '@', m.from_host) order by m.from_user separator " +
		"', ') from mysql.role_edges m where m.to_user = u.user and m.to_host = u.host), '')"
	ways := []engine.Inquiry{
		// MariaDB 10.4 and later: what is locked is in the document of global_priv.
		{Columns: columns("u.is_role = 'N'",
			"coalesce(json_value(g.priv, '$.account_locked'), '0') in ('1', 'true')", maria),
			From:  "from mysql.user u join mysql.global_priv g on g.user = u.user and g.host = u.host" + where,
			Order: order},
		// MySQL: a role is an account that is locked, and may be unlocked.
		{Columns: columns("u.account_locked = 'N'", "u.account_locked = 'Y'", kin),
			From: "from mysql.user u" + where, Order: order},
	}
	if !strings.Contains(a.wire.product, "MariaDB") {
		slices.Reverse(ways)
	}
	return ways
}

// settings are information_schema.system_variables of MariaDB, and the performance schema's of
// MySQL. No unit is said by either, and whether a restart is needed by MariaDB alone.
func (a *asker) settings() []engine.Inquiry {
	return []engine.Inquiry{
		{Columns: []engine.Listed{
			engine.In("setting", engine.Text, "lower(v.variable_name)"),
			engine.In("value", engine.Text, "coalesce(v.session_value, v.global_value, '')"),
			engine.In("set_by", engine.Text,
				"concat_ws(' ', lower(v.global_value_origin), v.global_value_path)"),
			engine.In("needs_restart", engine.Boolean, "v.read_only = 'YES'"),
			engine.In("about", engine.Text, "v.variable_comment").As(engine.TypeMore),
		}, From: "from information_schema.system_variables v", Order: " order by 1"},
		{Columns: []engine.Listed{
			engine.In("setting", engine.Text, "v.variable_name"),
			engine.In("value", engine.Text, "v.variable_value"),
			engine.In("set_by", engine.Text, "concat_ws(' ', lower(i.variable_source), i.variable_path)"),
		}, From: "from performance_schema.session_variables v left join performance_schema.variables_info i on " +
			"i.variable_name = v.variable_name",
			Order: " order by v.variable_name"},
		{Columns: []engine.Listed{engine.In("setting", engine.Text, "v.variable_name"),
			engine.In("value", engine.Text, "v.variable_value")},
			From: "from performance_schema.session_variables v", Order: " order by v.variable_name"},
	}
}

// sessions is information_schema.processlist, and for which session one waits is from InnoDB.
// When a session began is not said.
func (a *asker) sessions() []engine.Inquiry {
	columns := func(waits string) []engine.Listed {
		list := []engine.Listed{
			engine.In("session", engine.Integer, "p.id"),
			engine.In("mine", engine.Boolean, "p.id = connection_id()"),
			engine.In("user", engine.Text, "p.user"),
			engine.In("database", engine.Text, "coalesce(p.db, '')"), engine.In("from", engine.Text, "p.host"),
			engine.In("does", engine.Text, "lower(concat_ws(': ', p.command, nullif(p.state, '')))"),
			engine.In("does_since", engine.Time, "now() - interval p.time second"),
		}
		if waits != "" {
			list = append(list, engine.In("waits_for", engine.Text, waits))
		}
		return append(list, engine.In("statement", engine.Text,
			"case when p.id = connection_id() then '(this list)' else coalesce(p.info, '') end").As(engine.TypeLong))
	}
	where := " where true"
	if !a.scope.System {
		where += " and p.command <> 'Daemon'"
	}
	const of, order = "from information_schema.processlist p", " order by p.id"
	waiting := func(from string) string {
		return of + " left join (select r.trx_mysql_thread_id as waiting, group_concat(distinct " +
			"b.trx_mysql_thread_id separator ', ') as holders " +
			from + " group by r.trx_mysql_thread_id) w on w.waiting = p.id" + where
	}
	return []engine.Inquiry{
		// MariaDB, and MySQL 5.7.
		{Columns: columns("coalesce(w.holders, '')"),
			From: waiting("from information_schema.innodb_lock_waits l join information_schema.innodb_trx r on " +
				"r.trx_id = l.requesting_trx_id join information_schema.innodb_trx b on b.trx_id = l.blocking_trx_id"),
			Order: order},
		// MySQL 8.0.
		{Columns: columns("coalesce(w.holders, '')"),
			From: waiting("from performance_schema.data_lock_waits l join information_schema.innodb_trx r on " +
				"r.trx_id = l.requesting_engine_transaction_id join information_schema.innodb_trx b on b.trx_id " +
				"= l.blocking_engine_transaction_id"),
			Order: order},
		{Columns: columns(""), From: of + where, Order: order}, // for who may not see it
	}
}

// indexes is information_schema.statistics.
func (a *asker) indexes() engine.Inquiry {
	return engine.Inquiry{Columns: []engine.Listed{
		engine.In("index", engine.Text, "t.index_name"),
		engine.In("columns", engine.Text,
			"group_concat(coalesce(t.column_name, '(an expression)') order by t.seq_in_index separator ', ')"),
		engine.In("unique", engine.Boolean, "min(t.non_unique) = 0"),
		engine.In("primary", engine.Boolean, "t.index_name = 'PRIMARY'"),
		engine.In("by", engine.Text, "lower(min(t.index_type))"),
	}, From: "from information_schema.statistics t where true" + a.inScope() + " group by t.index_name",
		Order: " order by t.index_name"}
}

// keys are foreign keys, from the table or to it.
func (a *asker) keys(from bool) engine.Inquiry {
	mine, others := "k.column_name", "k.referenced_column_name"
	schema, table := "k.referenced_table_schema", "k.referenced_table_name"
	where := "k.table_schema = " + literal(a.scope.Table.Schema) + " and k.table_name = " + literal(a.scope.Table.Name)
	if !from {
		mine, others, schema, table = others, mine, "k.table_schema", "k.table_name"
		where = "k.referenced_table_schema = " + literal(a.scope.Table.Schema) +
			" and k.referenced_table_name = " + literal(a.scope.Table.Name)
	}
	list := func(column string) string {
		return "group_concat(" + column + " order by k.ordinal_position separator ', ')"
	}
	doing := func(rule string) string {
		return "case min(r." + rule +
			") when 'RESTRICT' then 'refuse' when 'NO ACTION' then 'refuse' else lower(min(r." + rule + ")) end"
	}
	return engine.Inquiry{Columns: []engine.Listed{
		engine.In("key", engine.Text, "k.constraint_name"), engine.In("columns", engine.Text, list(mine)),
		engine.In("table", engine.Text, "concat(min("+schema+"), '.', min("+table+"))"),
		engine.In("its_columns", engine.Text, list(others)),
		engine.In("on_delete", engine.Text, doing("delete_rule")), engine.In("on_update", engine.Text, doing("update_rule")),
	}, From: "from information_schema.key_column_usage k join information_schema.referential_constraints r on " +
		"r.constraint_schema = k.constraint_schema and r.constraint_name = k.constraint_name and r.table_name = " +
		"k.table_name where k.referenced_table_name is not null and " +
		where +
		" group by k.constraint_schema, k.constraint_name", Order: " order by k.constraint_name"}
}

// triggers is information_schema.triggers.
func (a *asker) triggers() engine.Inquiry {
	t := a.scope.Table
	return engine.Inquiry{Columns: []engine.Listed{
		engine.In("trigger", engine.Text, "g.trigger_name"),
		engine.In("when", engine.Text, "lower(g.action_timing)"),
		engine.In("on", engine.Text, "lower(g.event_manipulation)"),
		engine.In("each", engine.Text, "lower(g.action_orientation)"),
		engine.In("runs_as", engine.Text, "g.definer"),
	}, From: "from information_schema.triggers g where g.event_object_schema = " + literal(t.Schema) +
		" and g.event_object_table = " + literal(t.Name), Order: " order by g.trigger_name"}
}

// Table implements engine.Surveyor.
func (s *session) Table(ctx context.Context, name string) (engine.Relation, error) {
	base := s.one(ctx, "select database()")
	missing := &engine.NotThere{What: "table", Name: name}
	where := "t.table_name = " + literal(name)
	if base != "" {
		where += " and t.table_schema = " + literal(base)
	}
	schema, table, cut := strings.Cut(name, ".")
	if cut {
		where = "(" + where + ") or (t.table_schema = " + literal(schema) + " and t.table_name = " + literal(table) + ")"
	}
	rows, err := s.texts(ctx, "select t.table_schema, t.table_name from information_schema.tables t where "+where+" limit 20")
	if err != nil {
		return engine.Relation{}, stated(err)
	}
	for _, row := range rows {
		if len(row) != 2 {
			return engine.Relation{}, engine.Malformed("a row of another size than was asked for")
		}
		missing.Several = append(missing.Several, textIn(row[0])+"."+textIn(row[1]))
	}
	if len(rows) == 1 {
		return engine.Relation{Schema: textIn(rows[0][0]), Name: textIn(rows[0][1])}, nil
	}
	if len(rows) > 1 {
		return engine.Relation{}, missing
	}
	rows, err = s.texts(ctx, "select case when t.table_schema = database() then t.table_name else "+
		"concat(t.table_schema, '.', t.table_name) end from information_schema.tables t where "+
		"t.table_schema not in "+ofSystem+" limit 20000")
	for _, row := range rows {
		missing.Near = append(missing.Near, textIn(row[0]))
	}
	if err != nil {
		return engine.Relation{}, stated(err)
	}
	return engine.Relation{}, missing
}
