//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/standin"
)

// surveyList is a list as JSON has it.
type surveyList struct {
	List    string
	Columns []string
	Rows    [][]any
	Sight   struct {
		All                                            bool
		Hidden, Right, Statement, NotKnown, Note, Text string
	}
	Unknown []string
	Since   string
	Lists   []surveyList
	Count   int
	Table   string
}

// survey lists something as JSON.
func (w *world) survey(args ...string) (l surveyList) {
	w.Helper()
	r := w.must(0, append([]string{"survey", "--json"}, args...)...)
	if err := json.Unmarshal([]byte(strings.ReplaceAll(r.out, `"not_known"`, `"notknown"`)), &l); err != nil {
		w.Fatalf("%v: %v\n%s", args, err, r.out)
	}
	return l
}

// column gives a column of a list, as texts, sorted.
func (l surveyList) column(t *testing.T, names ...string) (texts []string) {
	t.Helper()
	for _, row := range l.Rows {
		var parts []string
		for _, name := range names {
			at := slices.Index(l.Columns, name)
			if at < 0 {
				t.Fatalf("there is no column %s in %v", name, l.Columns)
			}
			parts = append(parts, fmt.Sprint(row[at]))
		}
		texts = append(texts, strings.Join(parts, " | "))
	}
	slices.Sort(texts)
	return texts
}

// bare runs a statement and gives its lines, sorted.
func (w *world) bare(profile, statement string, more ...string) []string {
	w.Helper()
	out := strings.TrimSuffix(w.must(0, append([]string{"run", profile, statement, "--as", "bare"}, more...)...).out, "\n")
	if out == "" {
		return nil
	}
	lines := strings.Split(out, "\n")
	for i := range lines {
		lines[i] = strings.ReplaceAll(lines[i], "\t", " | ")
	}
	slices.Sort(lines)
	return lines
}

func same(t *testing.T, what string, got, want []string) {
	t.Helper()
	if !slices.Equal(got, want) {
		t.Errorf("%s:\n%s\nand the server says\n%s", what, strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// surveyedWorld has a database with tables, and profiles for five kinds of users, in a real server.
func surveyedWorld(t *testing.T, engine string) (w *world, admin string, users map[string]string, base string) {
	w, admin = ownDatabase(t, engine, "surveyed")
	base = "surveyed" + strings.ToLower(t.Name())
	s := realServer(t, engine)
	users = map[string]string{"": admin}
	name := func(user string) string { return base + "_" + user }
	if engine == "postgres" {
		w.must(0, "run", admin, `create role `+name("roles")+`; create schema cellar; create table hut (n int primary key, name varchar(40) not null default 'x', height int); comment on table hut is 'huts of the fells';
			create table booking (n int primary key, hut int references hut on delete cascade, price numeric(8,2)); create index by_price on booking (price, (lower(price::text))); create table cellar.jam (n int);
			create view high as select * from hut; create sequence numbers; create function height_of(a int) returns int language sql as 'select 1';
			create function noting() returns trigger language plpgsql as 'begin return new; end'; create trigger noted before insert or update on hut for each row execute function noting()`)
		for _, user := range []string{"owner", "one", "roled", "later", "none"} {
			w.must(0, "run", admin, "create role "+name(user)+" login password '"+canary+"'"+map[string]string{"later": " noinherit"}[user])
			users[user] = w.save("by-"+user, engine, "--socket", s.socket, "--user", name(user),
				"--database", base, "--secret", "env:PW")
		}
		w.must(0, "run", admin, "alter table booking owner to "+name("owner")+"; alter schema cellar owner to "+name("owner")+"; grant select on hut to "+name("one")+"; grant update (price) on booking to "+name("one")+"; grant select on cellar.jam to "+name("one")+"; grant select, insert on booking to "+name("roles")+" with grant option; grant "+name("roles")+" to "+name("roled")+", "+name("later"))
		return w, admin, users, base
	}
	w.must(0, "run", admin, "create role "+name("roles")+"; create table hut (n int primary key, name "+
		"varchar(40) not null default 'x', height int) comment 'huts of the fells'; create table booking (n int "+
		"primary key, hut int, price decimal(8,2), foreign key (hut) references hut(n) on delete cascade); "+
		"create index by_price on booking (price, n); create view high as select * from hut; create trigger "+
		"noted before insert on hut for each row set new.height = 1; create database "+name("cellar")+"; create table "+name("cellar")+".jam (n int)")
	for _, user := range []string{"owner", "one", "roled", "later", "none"} {
		w.must(0, "run", admin, "create user "+name(user)+"@localhost identified by '"+canary+"'")
		users[user] = w.save("by-"+user, engine, "--socket", s.socket, "--user", name(user), "--secret", "env:PW")
	}
	w.must(0, "run", admin, "grant all on "+base+".* to "+name("owner")+"@localhost; grant select on hut to "+name("one")+"@localhost with grant option; grant update (price) on booking to "+name("one")+"@localhost; grant select, insert on booking to "+name("roles")+"; grant "+name("roles")+" to "+name("roled")+"@localhost, "+name("later")+"@localhost; set default role "+name("roles")+" for "+name("roled")+"@localhost")
	return w, admin, users, base
}

// TestSurveyPostgres compares each list, for each kind of user, with what the server's catalogue
// and its own functions say to an administrator.
func TestSurveyPostgres(t *testing.T) {
	t.Parallel()
	w, admin, users, base := surveyedWorld(t, "postgres")
	w.must(0, "run", admin, "create table all_settings as select name from pg_settings; grant select on "+
		"all_settings to public; create function may_show(a text) returns boolean language plpgsql as $$ begin "+
		"perform current_setting(a); return true; exception when insufficient_privilege then return false; end $$")
	for kind, p := range users {
		user := base + "_" + kind
		if kind == "" {
			user = "overseer"
		}
		is := func(list string, got, want []string) {
			t.Helper()
			if len(want) == 0 {
				t.Errorf("%s: the server says nothing", list)
			}
			same(t, user+", "+list, got, want)
		}
		l := w.survey(p, "databases", "--like", base)
		is("databases", l.column(t, "database", "owner", "encoding", "sorting", "may_open", "open_now"),
			w.bare(admin, "select datname, pg_get_userbyid(datdba), 'UTF8', datcollate, "+
				"has_database_privilege('"+user+"', oid, 'connect')::text, 'true' from pg_database where datname = '"+base+"'"))
		is("schemas", w.survey(p, "schemas").column(t, "schema", "owner", "may_use", "may_create"),
			w.bare(admin, "select nspname, pg_get_userbyid(nspowner), has_schema_privilege('"+user+"', oid, 'usage')::text, has_schema_privilege('"+user+"', oid, 'create')::text from pg_namespace where nspname in ('public', 'cellar')"))
		is("tables", w.survey(p, "tables").column(t, "schema", "table", "owner", "may_read", "comment"),
			w.bare(admin, "select schemaname, relname, pg_get_userbyid(relowner), (has_schema_privilege('"+user+"', relnamespace, 'usage') and has_table_privilege('"+user+"', c.oid, 'select'))::text, coalesce(obj_description(c.oid), '') from pg_class c join (select schemaname, tablename from pg_tables union select schemaname, viewname from pg_views) x on x.tablename = c.relname and x.schemaname = c.relnamespace::regnamespace::text where schemaname in ('public', 'cellar')"))
		is("columns", w.survey(p, "columns").column(t, "schema", "table", "column", "null"),
			w.bare(admin, "select table_schema, table_name, column_name, case is_nullable when 'YES' then "+
				"'true' else 'false' end from information_schema.columns where table_schema in ('public', 'cellar')"))
		is("users", w.survey(p, "users", "--like", base+"_*").column(t, "user", "superuser", "may_log_in",
			"member_of"), w.bare(admin,
			"select rolname, rolsuper::text, rolcanlogin::text, coalesce((select roleid::regrole::text from "+
				"pg_auth_members where member = r.oid), '') from pg_roles r where rolname like '"+base+"\\_%'"))
		settings := w.survey(p, "settings")
		is("settings", settings.column(t, "setting"),
			w.bare(admin, "set role "+user+"; select name from all_settings where may_show(name)", "--result", "1"))
		if settings.Sight.All != (kind == "") ||
			kind != "" && (settings.Sight.Statement != `grant pg_read_all_settings to "`+user+`"` ||
				settings.Sight.Hidden == "") {
			t.Errorf("%s: %+v", user, settings.Sight)
		}
		sessions := w.survey(p, "sessions")
		if got := sessions.column(t, "mine"); !slices.Contains(got, "true") || sessions.Sight.All != (kind == "") {
			t.Errorf("%s: %v %+v", user, got, sessions.Sight)
		}
		// What each user may do, right by right, by the server's own functions.
		var want []string
		for right, word := range map[string]string{"select": "read", "insert": "add rows",
			"update": "change rows", "delete": "delete rows", "truncate": "empty", "references": "refer to",
			"trigger": "make triggers"} {
			for _, table := range []string{"public.hut", "public.booking", "cellar.jam", "public.high"} {
				if w.bare(admin, "select has_table_privilege('"+user+"', '"+table+"', '"+right+"')::text")[0] == "true" {
					want = append(want, word+" "+table)
				}
			}
		}
		for _, each := range [][3]string{{"has_database_privilege('" + user + "', '" + base + "', 'connect')",
			"connect", base}, {"has_database_privilege('" + user + "', '" + base + "', 'create')", "create in",
			base}, {"has_schema_privilege('" + user + "', 'cellar', 'usage')", "use", "cellar"},
			{"has_column_privilege('" + user + "', 'booking', 'price', 'update')", "change rows",
				"price of public.booking"},
			{"has_function_privilege('" + user + "', 'height_of(int)', 'execute')", "run",
				"public.height_of(a integer)"},
			{"has_sequence_privilege('" + user + "', 'numbers', 'usage')", "use", "public.numbers"}} {
			if w.bare(admin, "select "+each[0]+"::text")[0] == "true" {
				want = append(want, each[1]+" "+each[2])
			}
		}
		for _, by := range [][]string{{p, "rights"}, {admin, "rights", "--of", user}} {
			got := map[string]bool{}
			rights := w.survey(by...)
			for _, row := range rights.Rows {
				for may := range strings.SplitSeq(fmt.Sprint(row[1]), ", ") {
					_, on, _ := strings.Cut(fmt.Sprint(row[2]), " ")
					got[strings.TrimSuffix(may, " (and pass it on)")+" "+on] = true
				}
				if hut := fmt.Sprint(row[2]) == "table cellar.jam"; kind == "one" && hut && row[4] != "may not use the schema" {
					t.Errorf("%v", row)
				}
			}
			if kind == "" {
				if len(rights.Rows) != 1 || rights.Rows[0][1] != "do everything" {
					t.Errorf("%v", rights.Rows)
				}
				continue
			}
			for _, each := range want {
				if column := strings.Contains(each, " of "); !got[each] && !(column && got["change rows public.booking"]) {
					t.Errorf("%s: %s is missing in %v", user, each, slices.Sorted(maps.Keys(got)))
				}
			}
			for each := range got {
				if about := strings.Contains(each, ".hut") || strings.Contains(each, ".booking") ||
					strings.Contains(each, ".jam") ||
					strings.Contains(each, ".high"); about && !slices.Contains(want, each) &&
					!strings.HasPrefix(each, "alter and drop") {
					t.Errorf("%s: %s is not so", user, each)
				}
			}
		}
	}
	// Where a right comes from.
	has(t, strings.Join(w.survey(users["roled"], "rights").column(t, "may", "on", "from", "but"), "\n"),
		"read (and pass it on), add rows (and pass it on) | table public.booking | role "+base+"_roles | ",
		"act as "+base+"_roles | role "+base+"_roles | directly | \n",
		"connect, make temporary tables | database "+base+" | everybody | ")
	has(t, strings.Join(w.survey(users["later"], "rights").column(t, "may", "on", "from", "but"), "\n"),
		"act as "+base+"_roles | role "+base+"_roles | directly | its rights only after: set role "+base+"_roles")
	has(t, strings.Join(w.survey(users["owner"], "rights").column(t, "may", "on", "from", "but"), "\n"),
		"alter and drop | table public.booking | owner | ",
		"create in, use, alter and drop | schema cellar | owner | ")
	same(t, "on booking", w.survey(users["none"], "rights", "--on", "booking").column(t, "user", "may", "from"),
		slices.Sorted(slices.Values([]string{
			base + "_owner | read, add rows, change rows, delete rows, empty, refer to, make triggers, alter and drop | owner",
			base + "_one | change rows | directly",
			base + "_roled | read (and pass it on), add rows (and pass it on) | role " + base + "_roles",
			"overseer | do everything | superuser"})))
	// A size that another holds for itself is not waited for.
	holder := w.sit("run", admin, "begin; lock table hut; select 'held'; select pg_sleep(30)")
	holder.Reads("held")
	l := w.survey(users["none"], "tables", "--like", "hut")
	if at := slices.Index(l.Columns, "size"); len(l.Rows) != 1 || l.Rows[0][at] != nil {
		t.Errorf("%v", l.Rows)
	}
	w.survey(users["none"], "columns", "--on", "hut")
	waits := w.sit("run", users["one"], "select count(*) from hut")
	until(t, "a session that waits", "", func() bool {
		return slices.ContainsFunc(w.survey(admin, "sessions").column(t, "user", "waits_for"),
			func(text string) bool { return strings.HasPrefix(text, base+"_one | ") && text != base+"_one | " })
	})
	holder.Types("\x03")
	waits.Ends()
	// A table's page.
	r := w.must(0, "survey", users["one"], "table", "booking")
	has(t, r.out, "public.booking\n", "by_price", "price, (an expression)",
		"booking_hut_fkey  hut      public.hut  n            cascade    refuse",
		"there are none: referred to by, triggers", "change rows")
	has(t, w.must(0, "survey", users["one"], "table", "hut").out,
		"noted    before  insert, update  row   public.noting  yes", "referred to by\n",
		"booking_hut_fkey  n        public.booking  hut          cascade    refuse")
	page := w.survey(users["one"], "table", "cellar.jam")
	if page.Table != "cellar.jam" || len(page.Lists) != 6 || page.Lists[0].List != "columns" {
		t.Errorf("%+v", page)
	}
}

// TestSurveyMariaDB compares each list, for each kind of user, with what the server says to an
// administrator and what it lets the user do.
func TestSurveyMariaDB(t *testing.T) {
	t.Parallel()
	w, admin, users, base := surveyedWorld(t, "mariadb")
	cellar := base + "_cellar"
	tables := []string{base + ".booking", base + ".high", base + ".hut", cellar + ".jam"}
	for kind, p := range users {
		user := base + "_" + kind + "@localhost"
		if kind == "" {
			user = "root@localhost"
		}
		// What the server shows to the user, thing by thing.
		sees := func(statement string) bool { return w.run("run", p, statement).code == 0 }
		var databases, wantTables, wantColumns, may []string
		for _, each := range []string{base, cellar} {
			if sees("use " + each) {
				databases = append(databases, each)
			}
		}
		for _, table := range tables {
			for _, column := range []string{"n", "hut", "price", "name", "height"} {
				if r := w.run("run", p, "show columns from "+table+" like '"+column+"'",
					"--as", "bare"); r.code == 0 && r.out != "" {
					wantColumns = append(wantColumns, strings.Replace(table, ".", " | ", 1)+" | "+column)
				}
			}
			if sees("show columns from " + table) {
				wantTables = append(wantTables, strings.Replace(table, ".", " | ", 1))
			}
			column := map[string]string{base + ".booking": "price"}[table]
			if column == "" {
				column = "n"
			}
			for word, statement := range map[string]string{"read": "select count(*) from " + table,
				"add rows":    "begin; insert into " + table + " () values (); rollback",
				"delete rows": "begin; delete from " + table + "; rollback",
				"change rows": "begin; update " + table + " set " + column + " = 4 limit 0; rollback"} {
				r := w.run("run", p, statement)
				if r.code == 0 || !strings.Contains(r.err, "query.no-right") {
					may = append(may, word+" "+table)
				}
			}
		}
		slices.Sort(wantColumns)
		l := w.survey(p, "databases", "--like", base)
		same(t, user+", databases", l.column(t, "database"), databases)
		if kind == "" && len(databases) != 2 || l.Sight.All != (kind == "") ||
			kind != "" && (l.Sight.Statement != "grant show databases on *.* to `"+base+"_"+kind+"`@`localhost`") {
			t.Errorf("%s: %v %+v", user, databases, l.Sight)
		}
		l = w.survey(p, "tables", "--like", base+"*.*", "--database", "")
		same(t, user+", tables", l.column(t, "database", "table"), wantTables)
		if l.Sight.All != (kind == "") {
			t.Errorf("%s: %+v", user, l.Sight)
		}
		if kind == "owner" && !w.survey(p, "tables", "--database", base).Sight.All {
			t.Error("the owner sees all tables of the own database")
		}
		var columns []string
		for _, each := range w.survey(p, "columns", "--database", "").column(t, "database", "table", "column") {
			if strings.HasPrefix(each, base) {
				columns = append(columns, each)
			}
		}
		same(t, user+", columns", columns, wantColumns)
		l = w.survey(p, "users", "--like", base+"_*")
		if kind == "" {
			same(t, user+", users", l.column(t, "user", "host", "superuser", "locked"),
				w.bare(admin, "select user, host, case super_priv when 'Y' then 'true' else 'false' end, "+
					"'false' from mysql.user where user like '"+base+"\\_%'"))
		} else if len(l.Rows) != 0 || l.Sight.All || !strings.Contains(l.Sight.Statement, "grant select on mysql.* to") {
			t.Errorf("%s: %v %+v", user, l.Rows, l.Sight)
		}
		same(t, user+", settings", w.survey(p, "settings").column(t, "setting"),
			w.bare(admin, "select lower(variable_name) from information_schema.system_variables"))
		l = w.survey(p, "sessions")
		if mine := l.column(t, "mine", "statement"); !slices.Contains(mine, "true | (this list)") ||
			kind != "" && len(mine) != 1 || l.Sight.All != (kind == "") {
			t.Errorf("%s: %v %+v", user, mine, l.Sight)
		}
		for _, by := range [][]string{{p, "rights"}, {admin, "rights", "--of", strings.TrimSuffix(user, "@localhost")}} {
			got, after := map[string]bool{}, map[string]bool{}
			for _, row := range w.survey(by...).Rows {
				if row[0] != user {
					continue
				}
				for each := range strings.SplitSeq(fmt.Sprint(row[1]), ", ") {
					each = strings.TrimSuffix(each, " (and pass it on)")
					on := strings.TrimPrefix(strings.TrimPrefix(fmt.Sprint(row[2]), "table "), "column price of ")
					for _, table := range tables {
						if on != table && on != "everything" && on != "database "+strings.Split(table, ".")[0] {
							continue
						}
						for _, word := range []string{"read", "add rows", "delete rows", "change rows"} {
							if each == word || each == "do everything" {
								map[bool]map[string]bool{true: got, false: after}[row[4] == ""][word+" "+table] = true
							}
						}
					}
				}
			}
			slices.Sort(may)
			same(t, fmt.Sprint(by, ", rights"), slices.Sorted(maps.Keys(got)), may)
			if kind == "later" && !slices.Equal(slices.Sorted(maps.Keys(after)),
				[]string{"add rows " + base + ".booking", "read " + base + ".booking"}) && by[0] == admin {
				t.Errorf("%v", after)
			}
		}
	}
	same(t, "on booking", w.survey(admin, "rights", "--on", "booking", "--like", "booking").column(t, "user",
		"may", "from", "but"), slices.Sorted(slices.Values([]string{
		base + "_one@localhost | change rows | directly | ",
		base + "_roled@localhost | read, add rows | role " + base + "_roles | ",
		base + "_later@localhost | read, add rows | role " + base + "_roles | only after: set role " +
			base + "_roles", "root@localhost | read, add rows | role " + base +
			"_roles | only after: set role " + base + "_roles"})))
	has(t, fmt.Sprint(w.survey(users["one"], "schemas").Sight.NotKnown), "a schema is a database there")
	l := w.survey(users["none"], "rights", "--of", "root")
	if len(l.Rows) != 0 || l.Sight.All || l.Sight.Hidden != "the rights of other users" {
		t.Errorf("%+v", l)
	}
	r := w.must(0, "survey", admin, "table", "booking")
	has(t, r.out, base+".booking\n", "by_price  price, n",
		"hut      "+base+".hut  n            cascade    refuse", "there are none: referred to by, triggers")
	has(t, w.must(0, "survey", users["one"], "table", base+".hut").err,
		"not shown: triggers of tables on which one has no right to make triggers")
	// Which session waits for which one.
	w.must(0, "run", admin, "insert into hut (n) values (1)")
	holder := w.sit("run", admin, "begin; update hut set height = 2 where n = 1; select 'held'; select sleep(30)")
	holder.Reads("held")
	waits := w.sit("run", users["owner"], "update "+base+".hut set height = 3 where n = 1")
	until(t, "a session that waits", "", func() bool {
		time.Sleep(200 * time.Millisecond) // the server looks anew when nobody has asked for a tenth of a second
		return slices.ContainsFunc(w.survey(admin, "sessions").column(t, "user", "waits_for"), func(text string) bool {
			return strings.HasPrefix(text, base+"_owner | ") && text != base+"_owner | "
		})
	})
	holder.Types("\x03")
	holder.Ends()
	waits.Ends()
}

// TestAccountsInTheServersOrder has accounts of one name for several hosts: the first of the list
// that fits is the one as which the server lets one in.
func TestAccountsInTheServersOrder(t *testing.T) {
	t.Parallel()
	w, admin := ownDatabase(t, "mariadb", "ordered")
	s := realServer(t, "mariadb")
	const user = "surveyed_late"
	hosts := []string{"%", "127.%", "127.0.%", "127.0.0.1", "127.0.0._"}
	for _, host := range hosts {
		w.must(0, "run", admin, "create user "+user+"@'"+host+"' identified by '"+canary+"'")
	}
	p := w.save("late", "mariadb", append(s.at("127.0.0.1"), "--user", user, "--secret", "env:PW")...)
	for range hosts {
		l := w.survey(admin, "users", "--like", user)
		is := w.bare(p, "select current_user()")[0]
		if first := fmt.Sprint(l.Rows[0][0]) + "@" + fmt.Sprint(l.Rows[0][1]); first != is {
			t.Errorf("the list begins with %s, and the server chose %s:\n%v", first, is, l.Rows)
		}
		name, host, _ := strings.Cut(is, "@")
		w.must(0, "run", admin, "drop user "+name+"@'"+host+"'")
	}
}

// TestSurveySinceLast says what was added to a user's rights, and what was taken, since they were
// listed.
func TestSurveySinceLast(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mariadb"} {
		w, admin, users, base := surveyedWorld(t, engine)
		user, at := base+"_one", map[string]string{"mariadb": "@localhost"}[engine]
		since := func() (surveyList, string) {
			t.Helper()
			r := w.must(0, "survey", admin, "rights", "--of", user, "--since-last", "--json")
			var l surveyList
			must(t, json.Unmarshal([]byte(r.out), &l))
			return l, r.err
		}
		if l, said := since(); len(l.Rows) != 0 || l.Since != "" ||
			!strings.Contains(said, "there is no earlier list of these rights; they are remembered now") {
			t.Errorf("%s: %+v\n%s", engine, l, said)
		}
		if l, said := since(); len(l.Rows) != 0 || l.Since == "" ||
			!strings.Contains(said, "nothing was added or taken since") {
			t.Errorf("%s: %+v\n%s", engine, l, said)
		}
		w.must(0, "run", admin, "grant insert on hut to "+user+at+"; revoke update (price) on booking from "+user+at+"; grant "+base+"_roles to "+user+at)
		l, said := since()
		got := strings.Join(l.column(t, "change", "may", "on", "from"), "\n")
		has(t, got, "added | act as "+base+"_roles | role "+base+"_roles | directly", "added | add rows",
			"taken | change rows | column price of ", "role "+base+"_roles")
		if strings.Contains(got, "connect") || !strings.Contains(said, "compared with") {
			t.Errorf("%s: %s\n%s", engine, got, said)
		}
		// What another user is shown is remembered apart, and a list without --since-last is
		// remembered, too. Names are stored, and no more.
		has(t, w.must(0, "survey", users["one"], "rights", "--since-last").err, "there is no earlier list")
		w.must(0, "run", admin, "revoke insert on hut from "+user+at)
		w.must(0, "survey", admin, "rights", "--of", user)
		if l, _ := since(); len(l.Rows) != 0 {
			t.Errorf("%s: %v", engine, l.Rows)
		}
		w.must(0, "survey", admin, "rights", "--of", user, "--like", "hut")
		if l, _ := since(); len(l.Rows) != 0 { // a part of the list is not remembered
			t.Errorf("%s: %v", engine, l.Rows)
		}
	}
}

// TestSurveySecrets has names, texts and statements with the secret in them, which no list shows.
func TestSurveySecrets(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mariadb"} {
		w, admin, users, base := surveyedWorld(t, engine)
		quote := map[string]string{"postgres": `"`, "mariadb": "`"}[engine]
		named := quote + "x_" + canary + quote
		at := map[string]string{"mariadb": "@localhost"}[engine]
		w.must(0, "run", admin, "create table "+named+" ("+named+" int, b varchar(40) default '"+canary+"'); grant select on "+named+" to "+base+"_one"+at+"; create table odd (n int)")
		if engine == "postgres" {
			w.must(0, "run", admin, "comment on table odd is 'pw "+canary+"'; alter role "+base+"_one set app.jwt_secret = 'other-secret-words'; alter system set primary_conninfo = 'host=a password=other-secret-words'; select pg_reload_conf()")
			t.Cleanup(func() { w.run("run", "owner", "alter system reset primary_conninfo; select pg_reload_conf()") })
		}
		w.must(0, "run", admin, "create table ctl (n int); "+map[string]string{"postgres": "create index on ctl (n)",
			"mariadb": "create view seen as select 1"}[engine])
		quiet := w.sit("run", admin, map[string]string{"postgres": "select pg_sleep(25), 'identified by other-secret-words'",
			"mariadb": "select sleep(25), 'identified by other-secret-words'"}[engine])
		until(t, "the other session", "", func() bool {
			return slices.ContainsFunc(w.survey(admin, "sessions").column(t, "statement"),
				func(text string) bool { return strings.Contains(text, "not shown, since a password may be in it") })
		})
		odd := string(rune(27)) + "]0;x" + string(rune(7))
		w.must(0, "run", admin, "create table "+quote+"a"+odd+quote+" (n int)")
		for _, p := range []string{admin, users["one"]} {
			for _, args := range [][]string{{}, {"databases"}, {"tables"}, {"columns"}, {"users"}, {"rights"},
				{"settings"}, {"sessions"}, {"rights", "--on", "hut"}, {"table", base + ".hut"},
				{"tables", "--as", "csv"}, {"columns", "--json"}, {"sessions", "--json"},
				{"table", "x_" + canary[:len(canary)-1]}, {"table", "x_" + canary},
				{"table", "x_" + canary, "--json"}, {"columns", "--on", "x_" + canary, "--like", "nothing"},
				{"rights", "--since-last", "--json"}, {"settings", "--like", "secret", "--json"},
				{"settings", "--like", "conninfo"}} {
				args = append([]string{"survey", p}, append(args, "--database", base)...)
				r := w.run(args...)
				all := r.out + r.err
				if p != admin && strings.Contains(all, canary) || strings.Contains(all, "other-secret") ||
					!slices.Contains(args, "csv") && strings.Contains(all, odd) {
					t.Errorf("%s: gharbor %s\n%s", engine, strings.Join(args, " "), all)
				}
			}
		}
		has(t, w.must(0, "survey", users["one"], "tables", "--database", base).out, "[secret]")
		quiet.Types("\x03")
		quiet.Ends()
	}
}

// TestSurveyWords refuses what a list has no use for, with the fix, and finds what was meant.
func TestSurveyWords(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	s := practice(t, standin.Config{Engine: "postgres"})
	p := w.save("huts/local", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()),
		"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{2, "survey needs a profile's name", nil},
		{2, "did you mean tables? For example: gharbor survey huts/local tables", []string{p, "tabels"}},
		{2, "there are columns, databases, rights, schemas, sessions, settings, table, tables, users",
			[]string{p, "everything"}},
		{2, "survey NAME table needs the name of one table", []string{p, "table"}},
		{2, "survey lists one thing at a time", []string{p, "tables", "users"}},
		{2, "CSV has room for one", []string{p, "--as", "csv"}},
		{2, "CSV has room for one", []string{p, "table", "hut", "--as", "csv"}},
		{2, "the list of tables does not use --of", []string{p, "tables", "--of", "x"}},
		{2, "the list of users does not use --on", []string{p, "users", "--on", "x"}},
		{2, "the list of settings does not use --system", []string{p, "settings", "--system"}},
		{2, "the page about a server does not use --like", []string{p, "--like", "x"}},
		{2, "the page about a table does not use --limit", []string{p, "table", "hut", "--limit", "3"}},
		{2, "the list of tables does not use --since-last", []string{p, "tables", "--since-last"}},
		{2, "--since-last compares all rights", []string{p, "rights", "--since-last", "--limit", "3"}},
		{2, "--since-last compares all rights", []string{p, "rights", "--since-last", "--on", "hut"}},
		{3, "there is no table huut that this user can see; did you mean hut?", []string{p, "table", "huut"}},
		{3, "did you mean hut?", []string{p, "columns", "--on", "huut"}},
		{3, "there is no table elsewhere that this user can see",
			[]string{p, "columns", "--on", "elsewhere", "--json"}},
		{3, "there is no user wardn_app that this user can see; did you mean warden_app?",
			[]string{p, "rights", "--of", "wardn_app"}},
	} {
		r := w.must(c.code, append([]string{"survey"}, c.args...)...)
		has(t, r.err, c.says)
	}
	// A practice server answers from its store, and says what it does not have.
	r := w.must(0, "survey", p)
	has(t, r.out, "warden_app in bunkhouse at 127.0.0.1:", "tables            4",
		"users             2  1 superuser", "settings                               not known here")
	r = w.must(0, "survey", p, "columns", "--like", "HEIGHT")
	has(t, r.out, "public  hut    height  integer  no")
	has(t, w.must(0, "survey", p, "databases").err, "not known by this server: sorting, size")
	r = w.must(0, "survey", p, "settings")
	if r.out != "" {
		t.Errorf("%s", r.out)
	}
	has(t, r.err, "not known here: this server does not have this list")
	has(t, w.must(0, "survey", p, "tables", "--like", "nothing").err,
		"there are no tables that fit nothing in the database bunkhouse")
	r = w.must(0, "survey", p, "tables", "--limit", "1", "--as", "csv")
	has(t, r.out, "schema,table,kind\npublic,booking,table\n")
	has(t, r.err, "--limit leaves out 3 rows")
	// GHARBOR_PROFILE stands for the name.
	w.environ = append(w.environ, "GHARBOR_PROFILE="+p)
	has(t, w.must(0, "survey", "tables").out, "snow_depth")
	has(t, w.must(0, "survey").out, "in bunkhouse at")
	has(t, w.must(0, "survey", "table", "hut").out, "public.hut\n")
	// It only reads, with any guard, and after the profile's expectations.
	for _, level := range []string{"none", "confirm", "read-only"} {
		has(t, w.must(0, "survey", p, "tables", "--guard", level).out, "booking")
	}
	w.must(8, "survey", p, "tables", "--expect", "user=other")
}
