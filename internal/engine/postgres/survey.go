package postgres

import (
	"context"
	"strings"

	"gentle-harbor/internal/engine"
)

// Survey implements engine.Surveyor. All is from "System Catalogs", "System Views" and "The
// Cumulative Statistics System", PostgreSQL's manual, of versions 12 to 18, and was asked of 15.
func (s *session) Survey(ctx context.Context, list engine.List, scope engine.Scope,
	out engine.Rows) (sight engine.Sight, err error) {
	err = engine.Interruptible(ctx, s.cancel, func(work context.Context) (err error) {
		sight, err = s.survey(work, list, scope, out)
		return err
	})
	return sight, err
}

func (s *session) survey(ctx context.Context, list engine.List, scope engine.Scope,
	out engine.Rows) (engine.Sight, error) {
	me, err := s.me(ctx)
	if err != nil {
		return engine.Sight{}, err
	}
	pooled, err := s.Shared(ctx)
	if err != nil {
		return engine.Sight{}, err
	}
	runner := &alone{session: s, is: pooled}
	ask := func(sight engine.Sight, ways ...engine.Inquiry) (engine.Sight, error) {
		return engine.Inquire(ctx, runner, ways, sight, engine.SeesPart("any of it", "a right on the catalogue", ""), out)
	}
	switch list {
	case engine.ListDatabases:
		return ask(engine.SeesAll(), databasesInquiry(scope, me))
	case engine.ListSchemas:
		return ask(engine.SeesAll(), schemasInquiries(scope)...)
	case engine.ListTables:
		return ask(engine.SeesAll(), tablesInquiries(scope)...)
	case engine.ListColumns:
		return ask(engine.SeesAll(), columnsInquiries(scope)...)
	case engine.ListUsers:
		return ask(engine.SeesAll(), usersInquiries(scope)...)
	case engine.ListRights:
		of := me.name
		if scope.Of != "" {
			of = scope.Of
			if err := s.isUser(ctx, of); err != nil {
				return engine.Sight{}, err
			}
		}
		return ask(engine.SeesAll(), rightsInquiry(scope, of))
	case engine.ListSettings:
		return ask(me.readsAll("pg_read_all_settings",
			"settings that say where the server's files are, and the files that set others"), settingsInquiry())
	case engine.ListSessions:
		return ask(me.readsAll("pg_read_all_stats", "what other users' sessions do"), sessionsInquiry(scope))
	case engine.ListIndexes:
		return ask(engine.SeesAll(), indexesInquiry(scope))
	case engine.ListRefersTo:
		return ask(engine.SeesAll(), keysInquiry(scope, "conrelid", "confrelid", "conkey", "confkey"))
	case engine.ListReferredBy:
		return ask(engine.SeesAll(), keysInquiry(scope, "confrelid", "conrelid", "confkey", "conkey"))
	case engine.ListTriggers:
		return ask(engine.SeesAll(), triggersInquiry(scope))
	}
	return engine.NotKnown("the engine has no such list"), nil
}

// alone runs statements of ours one by one behind a pooler, which may lend a session for one
// statement at a time and let no transaction begin: each is then one of its own, with what the
// profile sets before it.
type alone struct {
	*session
	is bool
}

// Together implements engine.Runner.
func (a *alone) Together(ctx context.Context, onlyReads bool, do func() error) error {
	if a.is {
		return do()
	}
	return a.session.Together(ctx, onlyReads, do)
}

// Run implements engine.Runner.
func (a *alone) Run(ctx context.Context, statement engine.Statement, out engine.Rows) (summary engine.Summary,
	err error) {
	if !a.is {
		return a.session.Run(ctx, statement, out)
	}
	text := statement.Text
	if a.local != "" {
		text = a.local + "; " + text // several statements that are sent together are one transaction
	}
	return summary, engine.Interruptible(ctx, a.cancel, func(ctx context.Context) error {
		a.pg.Frontend().SetMaxBodyLen(statement.Most())
		results := a.pg.Exec(ctx, text)
		before := a.local != "" // the result of that
		for results.NextResult() {
			reader := results.ResultReader()
			if before {
				before = false
				for reader.NextRow() {
				}
				continue
			}
			if len(reader.FieldDescriptions()) > 0 {
				if err := out.Columns(nil); err != nil {
					_ = results.Close()
					return err
				}
			}
			for reader.NextRow() {
				cells := make([]engine.Cell, len(reader.Values()))
				for i, value := range reader.Values() {
					cells[i] = engine.Cell{Text: string(value), Null: value == nil}
				}
				if err := out.Row(cells); err != nil {
					_ = results.Close()
					return err
				}
				summary.Rows++
			}
		}
		if err := results.Close(); err != nil {
			return a.failure(ctx, err)
		}
		return nil
	})
}

// asking is who asks.
type asking struct {
	name  string
	reads map[string]bool // roles whose rights it has
	known bool            // the server says which
}

// readsAll is the sight of a list that a role of the server's shows whole ("Predefined Roles").
func (a asking) readsAll(role, hidden string) engine.Sight {
	sight := engine.SeesAll()
	if !a.known {
		sight.Note = engine.RightsUnknown
	}
	if a.reads[role] || !a.known {
		return sight
	}
	return engine.SeesPart(hidden, "the role "+role, "grant "+role+" to "+quote(a.name))
}

// me says who asks.
func (s *session) me(ctx context.Context) (asking, error) {
	a := asking{reads: map[string]bool{}}
	row, _, err := s.row(ctx, "current_user", "pg_catalog.pg_has_role('pg_read_all_settings', 'usage')",
		"pg_catalog.pg_has_role('pg_read_all_stats', 'usage')")
	if err != nil {
		return a, err
	}
	a.name = string(row[0])
	for i, role := range []string{"pg_read_all_settings", "pg_read_all_stats"} {
		is := truth(row[i+1])
		a.known = a.known || is != nil
		a.reads[role] = is != nil && *is
	}
	return a, nil
}

// bytesOf gives a column with a size, and what it means that it is missing.
func bytesOf(by string, hides engine.Sight) engine.Listed {
	size := engine.In("size", engine.Integer, by).As(engine.TypeSize)
	size.Hides = hides
	return size
}

// unless gives a condition, where objects of the system are not wanted.
func unless(scope engine.Scope, condition string) string {
	if scope.System {
		return ""
	}
	return " and " + condition
}

const notOfSystem = "substr(n.nspname, 1, 3) <> 'pg_' and n.nspname <> 'information_schema'"

// databasesInquiry is pg_database; a size is for who may connect, or reads all statistics
// ("Database Object Size Functions").
func databasesInquiry(scope engine.Scope, me asking) engine.Inquiry {
	open := "pg_catalog.has_database_privilege(d.datname, 'CONNECT')"
	size := "pg_catalog.pg_database_size(d.datname)"
	if scope.Names {
		size = "null"
	}
	if !me.reads["pg_read_all_stats"] {
		size = "case when " + open + " then " + size + " end"
	}
	return engine.Inquiry{Columns: []engine.Listed{
		engine.In("database", engine.Text, "d.datname"),
		engine.In("owner", engine.Text, "pg_catalog.pg_get_userbyid(d.datdba)"),
		engine.In("encoding", engine.Text, "pg_catalog.pg_encoding_to_char(d.encoding)"),
		engine.In("sorting", engine.Text, "d.datcollate"),
		bytesOf(size, engine.SeesPart("the size of databases that one may not open",
			"the role pg_read_all_stats", "grant pg_read_all_stats to "+quote(me.name))),
		engine.In("may_open", engine.Boolean, "d.datallowconn and "+open),
		engine.In("open_now", engine.Boolean, "d.datname = pg_catalog.current_database()"),
	}, From: "from pg_catalog.pg_database d where true" + unless(scope, "not d.datistemplate"),
		Order: " order by d.datname"}
}

func schemasInquiries(scope engine.Scope) []engine.Inquiry {
	name := engine.In("schema", engine.Text, "n.nspname")
	end := " where true" + unless(scope, notOfSystem)
	return []engine.Inquiry{
		{Columns: []engine.Listed{
			name, engine.In("owner", engine.Text, "pg_catalog.pg_get_userbyid(n.nspowner)"),
			engine.In("tables", engine.Integer, "coalesce(t.tables, 0)"),
			engine.In("may_use", engine.Boolean, "pg_catalog.has_schema_privilege(n.oid, 'USAGE')"),
			engine.In("may_create", engine.Boolean, "pg_catalog.has_schema_privilege(n.oid, 'CREATE')"),
			engine.In("comment", engine.Text, "coalesce(pg_catalog.obj_description(n.oid, 'pg_namespace'), '')"),
		}, From: "from pg_catalog.pg_namespace n left join (select relnamespace, count(*) as tables from " +
			"pg_catalog.pg_class where relkind in ('r', 'p', 'v', 'm', 'f') group by relnamespace) t on t.relnamespace = n.oid" +
			end, Order: " order by n.nspname"},
	}
}

// locked are the tables that a statement holds, or waits for, for itself alone: a look at one of
// those or of its indexes would wait ("Explicit Locking").
const locked = `(select l.relation from pg_catalog.pg_locks l where l.mode = 'AccessExclusiveLock' and l.relation is not null and l.database = (select oid from pg_catalog.pg_database where datname = pg_catalog.current_database())
	union select i.indrelid from pg_catalog.pg_locks l join pg_catalog.pg_index i on i.indexrelid = l.relation where l.mode = 'AccessExclusiveLock')`

const relationKinds = "case c.relkind when 'r' then 'table' when 'p' then 'partitioned table' when 'v' then " +
	"'view' when 'm' then 'materialized view' when 'f' then 'foreign table' end"

// tablesInquiries are pg_class: how many rows a table has is an estimate of the last vacuum or
// analyze, and none before it.
func tablesInquiries(scope engine.Scope) []engine.Inquiry {
	first := []engine.Listed{engine.In("schema", engine.Text, "n.nspname"),
		engine.In("table", engine.Text, "c.relname"), engine.In("kind", engine.Text, relationKinds)}
	of := "from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace"
	end := " where c.relkind in ('r', 'p', 'v', 'm', 'f')" + unless(scope, notOfSystem)
	order := " order by n.nspname, c.relname"
	names := engine.Inquiry{Columns: first[:3:3], From: of + end, Order: order}
	if scope.Names {
		return []engine.Inquiry{names}
	}
	return []engine.Inquiry{
		{Columns: append(first,
			engine.In("rows_estimate", engine.Integer,
				"case when c.relkind in ('r', 'p', 'm') and c.reltuples >= 0 and (c.reltuples > 0 or c.relpages "+
					"> 0) then cast(c.reltuples as bigint) end"),
			bytesOf("case when c.relkind in ('v', 'f') then 0 when c.relkind in ('r', 'm') and l.relation is "+
				"null then pg_catalog.pg_total_relation_size(c.oid) end",
				engine.Sight{}),
			engine.In("owner", engine.Text, "pg_catalog.pg_get_userbyid(c.relowner)"),
			engine.In("may_read", engine.Boolean,
				"pg_catalog.has_schema_privilege(n.oid, 'USAGE') and pg_catalog.has_table_privilege(c.oid, 'SELECT')"),
			engine.In("comment", engine.Text, "coalesce(d.description, '')"),
		), From: of + " left join pg_catalog.pg_description d on d.objoid = c.oid and d.classoid = 1259 and " +
			"d.objsubid = 0 left join " +
			locked + " l on l.relation = c.oid" + end, Order: order},
		names, // it only speaks the protocol
	}
}

// aTable is a condition that something belongs to the table of a scope.
func aTable(scope engine.Scope, id, schema, name string) string {
	switch of := scope.Table; {
	case of.Name == "":
		return ""
	case of.ID != "":
		return " and " + id + " = " + literal(of.ID)
	default:
		return " and " + schema + " = " + literal(of.Schema) + " and " + name + " = " + literal(of.Name)
	}
}

func columnsInquiries(scope engine.Scope) []engine.Inquiry {
	first := []engine.Listed{
		engine.In("schema", engine.Text, "n.nspname"), engine.In("table", engine.Text, "c.relname"),
		engine.In("column", engine.Text, "a.attname"),
		engine.In("type", engine.Text, "pg_catalog.format_type(a.atttypid, a.atttypmod)"),
		engine.In("null", engine.Boolean, "not a.attnotnull"),
	}
	of := "from pg_catalog.pg_attribute a join pg_catalog.pg_class c on c.oid = a.attrelid join " +
		"pg_catalog.pg_namespace n on n.oid = c.relnamespace"
	end := " where a.attnum > 0 and c.relkind in ('r', 'p', 'v', 'm', 'f')" + unless(scope, notOfSystem) +
		aTable(scope, "a.attrelid", "n.nspname", "c.relname")
	if scope.Table.Name != "" {
		end = strings.Replace(end, unless(scope, notOfSystem), "", 1)
	}
	order := " order by n.nspname, c.relname, a.attnum"
	return []engine.Inquiry{
		{Columns: append(first,
			engine.In("default", engine.Text,
				"case when not a.atthasdef then '' when l.relation is null then pg_catalog.pg_get_expr(d.adbin, d.adrelid) end"),
			engine.In("key", engine.Text, "coalesce(k.key, '')"),
			engine.In("comment", engine.Text, "coalesce(t.description, '')"),
		), From: of + ` left join pg_catalog.pg_attrdef d on d.adrelid = a.attrelid and d.adnum = a.attnum
			left join pg_catalog.pg_description t on t.objoid = a.attrelid and t.classoid = 1259 and t.objsubid = a.attnum
			left join (select o.conrelid, p.attnum, string_agg(distinct case o.contype when 'p' then 'primary' when 'u' then 'unique' else 'refers' end, ', ') as key
				from pg_catalog.pg_constraint o cross join lateral unnest(o.conkey) as p(attnum) where o.contype in ('p', 'u', 'f') group by 1, 2) k on k.conrelid = a.attrelid and k.attnum = a.attnum
			left join ` + locked + ` l on l.relation = a.attrelid` + end + " and not a.attisdropped", Order: order},
		{Columns: first[:5:5], From: of + end, Order: order}, // it only speaks the protocol
	}
}

// usersInquiries are pg_roles: this engine has one list of users and groups, and hosts are in a
// file of the server's (pg_hba.conf).
func usersInquiries(scope engine.Scope) []engine.Inquiry {
	end := " where true" + unless(scope, "substr(r.rolname, 1, 3) <> 'pg_'")
	return []engine.Inquiry{{Columns: []engine.Listed{
		engine.In("user", engine.Text, "r.rolname"), engine.In("superuser", engine.Boolean, "r.rolsuper"),
		engine.In("may_log_in", engine.Boolean, "r.rolcanlogin"),
		engine.In("expires", engine.Text, "coalesce(cast(r.rolvaliduntil as text), '')"),
		engine.In("most_sessions", engine.Text,
			"case when r.rolconnlimit < 0 then '' else cast(r.rolconnlimit as text) end"),
		engine.In("member_of", engine.Text,
			"coalesce((select string_agg(g.rolname, ', ' order by g.rolname) from pg_catalog.pg_auth_members m "+
				"join pg_catalog.pg_roles g on g.oid = m.roleid where m.member = r.oid), '')"),
		engine.In("may_also", engine.Text,
			"concat_ws(', ', case when r.rolcreatedb then 'create databases' end, case when r.rolcreaterole "+
				"then 'create users' end, case when r.rolreplication then 'replicate' end, case when "+
				"r.rolbypassrls then 'pass row security' end)"),
	}, From: "from pg_catalog.pg_roles r" + end, Order: " order by r.rolname"}}
}

// settingsInquiry is pg_settings.
func settingsInquiry() engine.Inquiry {
	return engine.Inquiry{Columns: []engine.Listed{
		engine.In("setting", engine.Text, "s.name"), engine.In("value", engine.Text, "s.setting"),
		engine.In("unit", engine.Text, "coalesce(s.unit, '')"),
		engine.In("set_by", engine.Text, "s.source || coalesce(' ' || s.sourcefile || ':' || s.sourceline, '')"),
		engine.In("needs_restart", engine.Boolean, "s.context = 'postmaster'"),
		engine.In("waits_for_restart", engine.Boolean, "s.pending_restart").As(engine.TypeMore),
		engine.In("about", engine.Text, "s.short_desc").As(engine.TypeMore),
	}, From: "from pg_catalog.pg_settings s", Order: " order by s.name"}
}

// sessionsInquiry is pg_stat_activity. What others' sessions do is missing in it for who may not
// see it.
func sessionsInquiry(scope engine.Scope) engine.Inquiry {
	return engine.Inquiry{Columns: []engine.Listed{
		engine.In("session", engine.Integer, "a.pid"),
		engine.In("mine", engine.Boolean, "a.pid = pg_catalog.pg_backend_pid()"),
		engine.In("user", engine.Text, "coalesce(a.usename, '')"),
		engine.In("database", engine.Text, "coalesce(a.datname, '')"),
		engine.In("from", engine.Text,
			"case when a.client_addr is not null then pg_catalog.host(a.client_addr) when a.state is null and "+
				"not pg_catalog.pg_has_role('pg_read_all_stats', 'usage') then null when a.backend_type = "+
				"'client backend' then 'the socket' else '' end"),
		engine.In("program", engine.Text, "a.application_name"),
		engine.In("since", engine.TimeWithZone, "date_trunc('second', a.backend_start)"),
		engine.In("does", engine.Text, "a.state"),
		engine.In("does_since", engine.TimeWithZone, "date_trunc('second', a.state_change)").As(engine.TypeMore),
		engine.In("waits_for", engine.Text,
			"case when coalesce(a.wait_event_type, 'Lock') = 'Lock' then "+
				"array_to_string(pg_catalog.pg_blocking_pids(a.pid), ', ') else '' end"),
		engine.In("statement", engine.Text,
			"case when a.pid = pg_catalog.pg_backend_pid() then '(this list)' when a.state is not null then "+
				"a.query end").As(engine.TypeLong),
	}, From: "from pg_catalog.pg_stat_activity a where true" + unless(scope,
		"a.backend_type = 'client backend'"), Order: " order by a.backend_start, a.pid"}
}

func indexesInquiry(scope engine.Scope) engine.Inquiry {
	return engine.Inquiry{Columns: []engine.Listed{
		engine.In("index", engine.Text, "c.relname"), engine.In("columns", engine.Text, `(select string_agg(coalesce(a.attname, '(an expression)'), ', ' order by k.n) from unnest(i.indkey) with ordinality k(attnum, n)
			left join pg_catalog.pg_attribute a on a.attrelid = i.indrelid and a.attnum = k.attnum and k.attnum > 0)`),
		engine.In("unique", engine.Boolean, "i.indisunique"),
		engine.In("primary", engine.Boolean, "i.indisprimary"), engine.In("by", engine.Text, "m.amname"),
		engine.In("valid", engine.Boolean, "i.indisvalid"),
	}, From: "from pg_catalog.pg_index i join pg_catalog.pg_class c on c.oid = i.indexrelid join " +
		"pg_catalog.pg_am m on m.oid = c.relam where true" +
		aTable(scope, "i.indrelid", "''", "''"), Order: " order by c.relname"}
}

// keysInquiry are foreign keys, from the table's side: of is the column of pg_constraint with the
// table, to the one with the other.
func keysInquiry(scope engine.Scope, of, to, ofKey, toKey string) engine.Inquiry {
	names := func(table, key string) string {
		return "(select string_agg(a.attname, ', ' order by k.n) from unnest(o." + key +
			") with ordinality k(attnum, n) join pg_catalog.pg_attribute a on a.attrelid = o." + table +
			" and a.attnum = k.attnum)"
	}
	doing := func(column string) string {
		return "case o." + column + " when 'a' then 'refuse' when 'r' then 'refuse' when 'c' then 'cascade' " +
			"when 'n' then 'set null' when 'd' then 'set default' end"
	}
	return engine.Inquiry{Columns: []engine.Listed{
		engine.In("key", engine.Text, "o.conname"), engine.In("columns", engine.Text, names(of, ofKey)),
		engine.In("table", engine.Text, "n.nspname || '.' || c.relname"),
		engine.In("its_columns", engine.Text, names(to, toKey)),
		engine.In("on_delete", engine.Text, doing("confdeltype")), engine.In("on_update", engine.Text, doing("confupdtype")),
	}, From: "from pg_catalog.pg_constraint o join pg_catalog.pg_class c on c.oid = o." + to +
		" join pg_catalog.pg_namespace n on n.oid = c.relnamespace where o.contype = 'f'" + aTable(scope,
		"o."+of, "''", "''"), Order: " order by o.conname"}
}

// triggersInquiry is pg_trigger; its bits of tgtype are those of "pg_trigger" and of the server's
// catalog/pg_trigger.h.
func triggersInquiry(scope engine.Scope) engine.Inquiry {
	return engine.Inquiry{Columns: []engine.Listed{
		engine.In("trigger", engine.Text, "t.tgname"),
		engine.In("when", engine.Text,
			"case when t.tgtype & 2 <> 0 then 'before' when t.tgtype & 64 <> 0 then 'instead of' else 'after' end"),
		engine.In("on", engine.Text, "concat_ws(', ', case when t.tgtype & 4 <> 0 then 'insert' end, case when "+
			"t.tgtype & 8 <> 0 then 'delete' end, case when t.tgtype & 16 <> 0 then 'update' end, case when "+
			"t.tgtype & 32 <> 0 then 'truncate' end)"),
		engine.In("each", engine.Text, "case when t.tgtype & 1 <> 0 then 'row' else 'statement' end"),
		engine.In("runs", engine.Text, "n.nspname || '.' || p.proname"),
		engine.In("enabled", engine.Boolean, "t.tgenabled <> 'D'"),
	}, From: "from pg_catalog.pg_trigger t join pg_catalog.pg_proc p on p.oid = t.tgfoid join " +
		"pg_catalog.pg_namespace n on n.oid = p.pronamespace where not t.tgisinternal" +
		aTable(scope, "t.tgrelid", "''", "''"), Order: " order by t.tgname"}
}

// Words for rights ("Privileges", PostgreSQL's manual), in the order in which they are said.
var rightWords = [][2]string{
	{"SELECT", "read"}, {"INSERT", "add rows"}, {"UPDATE", "change rows"}, {"DELETE", "delete rows"},
	{"TRUNCATE", "empty"}, {"REFERENCES", "refer to"}, {"TRIGGER", "make triggers"}, {"MAINTAIN", "maintain"},
	{"CONNECT", "connect"}, {"CREATE", "create in"}, {"TEMPORARY", "make temporary tables"}, {"USAGE", "use"},
	{"EXECUTE", "run"}, {"OWNER", "alter and drop"},
}

// rightsInquiry computes rights as the server does: those of the user, of the roles whose rights
// it has without taking them on, and everybody's. A superuser has one line.
func rightsInquiry(scope engine.Scope, of string) engine.Inquiry {
	who := "r.rolname = " + literal(of)
	if scope.Everybody {
		who = "(r.rolcanlogin or r.rolsuper)"
	}
	words := "case e.priv"
	for _, w := range rightWords {
		words += " when '" + w[0] + "' then '" + w[1] + "'"
	}
	words += " else lower(e.priv) end"
	order := "array_position(array['" + strings.Join(firsts(rightWords), "', '") + "'], e.priv)"
	var objects []string
	add := func(kind, name, schema, owner, acl, letter, from string) {
		objects = append(objects, "select "+kind+" as kind, "+name+" as name, "+schema+" as ns, "+owner+" as owner, coalesce("+acl+", pg_catalog.acldefault('"+letter+"', "+owner+")) as acl "+from)
	}
	relation := "from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace where c.relkind in ("
	outside := unless(scope, notOfSystem)
	extended := func(class, id string) string {
		if scope.System {
			return ""
		}
		return " and not exists (select from pg_catalog.pg_depend x where x.classid = " + class +
			" and x.objid = " + id + " and x.deptype = 'e')"
	}
	tableName := "pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(c.relname)"
	if scope.Table.Name == "" {
		add("'database'", "pg_catalog.quote_ident(d.datname)", "null::oid", "d.datdba", "d.datacl", "d",
			"from pg_catalog.pg_database d where true"+unless(scope, "not d.datistemplate"))
		add("'schema'", "pg_catalog.quote_ident(n.nspname)", "null::oid", "n.nspowner", "n.nspacl", "n",
			"from pg_catalog.pg_namespace n where true"+outside)
		add("'sequence'", tableName, "n.oid", "c.relowner", "c.relacl", "s",
			relation+"'S')"+outside+extended("1259", "c.oid"))
		add("'routine'", "pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(p.proname) || '(' "+
			"|| pg_catalog.pg_get_function_identity_arguments(p.oid) || ')'",
			"n.oid", "p.proowner", "p.proacl", "f",
			"from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace where true"+outside+extended("1255",
				"p.oid"))
	} else {
		outside = ""
	}
	add(relationKinds, tableName, "n.oid", "c.relowner", "c.relacl", "r",
		relation+"'r', 'p', 'v', 'm', 'f')"+outside+aTable(scope, "c.oid", "''", "''"))
	columns := "select 'column', pg_catalog.quote_ident(a.attname) || ' of ' || " + tableName +
		", n.oid, null::oid, a.attacl from pg_catalog.pg_attribute a join pg_catalog.pg_class c on c.oid = " +
		"a.attrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace where a.attacl is not null and not " +
		"a.attisdropped" +
		outside + aTable(scope, "c.oid", "''", "''")
	roles := ""
	if scope.Table.Name == "" {
		roles = ` union all select w.rolname, 'act as ' || g.rolname, 'role ' || pg_catalog.quote_ident(g.rolname), 'directly',
			case when pg_catalog.pg_has_role(w.oid, g.oid, 'USAGE') then '' else 'its rights only after: set role ' || pg_catalog.quote_ident(g.rolname) end
			from who w join pg_catalog.pg_auth_members m on m.member = w.oid join pg_catalog.pg_roles g on g.oid = m.roleid where not w.rolsuper`
	}
	return engine.Inquiry{Columns: []engine.Listed{
		engine.In("user", engine.Text, "x.rolname"), engine.In("may", engine.Text, "x.may"),
		engine.In("on", engine.Text, "x.name"), engine.In("from", engine.Text, "x.source"),
		engine.In("but", engine.Text, "x.but"),
	}, From: `from (with who as (select r.oid, r.rolname, r.rolsuper from pg_catalog.pg_roles r where ` + who + `),
		o as (` + strings.Join(objects, " union all ") + ` union all ` + columns + `),
		e as (select o.kind, o.name, o.ns, o.owner, a.grantee, a.privilege_type as priv, a.is_grantable as passes from o cross join lateral pg_catalog.aclexplode(o.acl) a
			union all select o.kind, o.name, o.ns, o.owner, o.owner, 'OWNER', false from o where o.owner is not null),
		has as (select w.oid, w.rolname, g.grantee from who w cross join (select distinct grantee from e) g where not w.rolsuper and (g.grantee = 0 or pg_catalog.pg_has_role(w.oid, g.grantee, 'USAGE')))
		select h.rolname, string_agg(` + words + ` || case when e.passes and e.grantee is distinct from e.owner then ' (and pass it on)' else '' end, ', ' order by ` + order + `) as may, e.kind || ' ' || e.name as name,
			case when e.grantee = 0 then 'everybody' when e.grantee = h.oid and e.grantee = e.owner then 'owner' when e.grantee = h.oid then 'directly'
				when e.grantee = e.owner then 'owner (role ' || pg_catalog.pg_get_userbyid(e.grantee) || ')' else 'role ' || pg_catalog.pg_get_userbyid(e.grantee) end as source,
			case when e.ns is not null and not pg_catalog.has_schema_privilege(h.oid, e.ns, 'USAGE') then 'may not use the schema' else '' end as but
		from has h join e on e.grantee = h.grantee group by h.rolname, e.kind, e.name, source, but
		union all select w.rolname, 'do everything', 'everything', 'superuser', '' from who w where w.rolsuper` + roles + `) x`,
		Order: " order by x.rolname, x.name, x.source, x.may"}
}

// firsts gives the first ones of pairs.
func firsts(pairs [][2]string) []string {
	var list []string
	for _, p := range pairs {
		list = append(list, p[0])
	}
	return list
}

// isUser reports a user that is not there.
func (s *session) isUser(ctx context.Context, name string) error {
	rows, err := s.texts(ctx, "select rolname from pg_catalog.pg_roles where rolname = "+literal(name))
	if err != nil || len(rows) > 0 {
		return err
	}
	missing := &engine.NotThere{What: "user", Name: name}
	rows, err = s.texts(ctx, "select rolname from pg_catalog.pg_roles order by rolname limit 20000")
	for _, row := range rows {
		missing.Near = append(missing.Near, string(row[0]))
	}
	if err != nil {
		return err
	}
	return missing
}

// Table implements engine.Surveyor.
func (s *session) Table(ctx context.Context, name string) (engine.Relation, error) {
	const of = " from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace where " +
		"c.relkind in ('r', 'p', 'v', 'm', 'f')"
	rows, err := s.texts(ctx, "select n.nspname, c.relname, c.oid, pg_catalog.pg_table_is_visible(c.oid)"+of+" and (c.relname = "+literal(name)+" or n.nspname || '.' || c.relname = "+literal(name)+") order by 1, 2 limit 20")
	if err != nil {
		return engine.Relation{}, err
	}
	var found, seen []engine.Relation
	missing := &engine.NotThere{What: "table", Name: name}
	for _, row := range rows {
		if len(row) != 4 {
			return engine.Relation{}, engine.Malformed("a row of another size than was asked for")
		}
		one := engine.Relation{Schema: string(row[0]), Name: string(row[1]), ID: string(row[2])}
		found = append(found, one)
		if is := truth(row[3]); is != nil && *is {
			seen = append(seen, one)
		}
		missing.Several = append(missing.Several, one.Schema+"."+one.Name)
	}
	switch {
	case len(seen) == 1:
		return seen[0], nil
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		return engine.Relation{}, missing
	}
	rows, err = s.texts(ctx, "select case when pg_catalog.pg_table_is_visible(c.oid) then c.relname else "+
		"n.nspname || '.' || c.relname end"+of+" and "+notOfSystem+" limit 20000")
	for _, row := range rows {
		missing.Near = append(missing.Near, string(row[0]))
	}
	if err != nil {
		return engine.Relation{}, err
	}
	return engine.Relation{}, missing
}
