package guard

import (
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
)

// TestSort has what the text of a statement says of it: R reads, C changes, P is about the
// session, B begins a transaction, U is for the guard to say.
func TestSort(t *testing.T) {
	const both = "postgres mariadb"
	for _, c := range []struct{ engines, does, text string }{
		{both, "R", "select 1"}, {both, "R", "(select 1) union (select 2)"},
		{both, "R", "-- c\n/* d */ select name from hut where height > 700"}, {both, "R", "values (1), (2)"},
		{both, "R", "with a as (select 1) select * from a"}, {both, "R", "explain select 1"},
		{"postgres", "R", "explain insert into hut values (1)"},
		{"mariadb", "C", "explain insert into hut values (1)"},
		{"mariadb", "C", "explain format=json delete from hut"},
		{"mariadb", "C", "explain replace hut set a = 1"},
		{"mariadb", "R", "explain select replace(a, 1, 2), (replace(a, 3, 4)) from hut"},
		{"mariadb", "C", "begin not atomic select 1; end"}, {both, "R", "select 'into', 'for update'"},
		{both, "R", "select a.into from (select 1) a"}, {both, "R", "table hut"},
		{both, "R", "select count(*), lower(name), coalesce(a, b) from hut where name in ('a') and exists (select 1)"},
		{both, "C", "select * into copied from hut"}, {both, "C", "select 1 for update"},
		{both, "C", "select 1 FOR/**/UPDATE"}, {both, "C", "select 1 for share"},
		{both, "C", "explain analyze delete from hut"},
		{both, "C", "insert into hut values (1)"}, {both, "C", "update hut set a = 1 where b"},
		{both, "C", "delete from hut where a"}, {both, "C", "create table a (b int)"}, {both, "C", "call tidy()"},
		{both, "C", "grant select on hut to reader"}, {both, "C", "truncate hut"}, {both, "C", "analyze hut"},
		{both, "C", "prepare a as select 1"}, {both, "C", "execute a"}, {both, "C", "lock table hut"},
		{both, "C", ""}, {both, "C", "nonsense"}, {both, "C", "do 1"},
		{both, "B", "begin"}, {both, "B", "start transaction"}, {both, "P", "commit"}, {both, "P", "rollback"},
		{both, "P", "savepoint a"}, {both, "P", "rollback to savepoint a"}, {both, "P", "release savepoint a"},
		{both, "U", "start transaction read write"}, {both, "U", "set transaction read write"},
		{both, "P", "set transaction isolation level read committed"}, {both, "B", "start transaction read only"},
		{both, "U", "set session transaction read write"},
		{both, "C", "set global transaction isolation level serializable"},
		{both, "C", "set role overseer"}, {both, "C", "set password = 'x'"},

		{"postgres", "R", "copy hut to stdout (format csv)"}, {"postgres", "R", "copy (select 1) to stdout"},
		{"postgres", "C", "copy hut from stdin"}, {"postgres", "C", "copy hut to '/tmp/a'"},
		{"postgres", "C", "copy hut to program 'cat'"},
		{"postgres", "C", "copy (delete from hut returning 1) to stdout"},
		{"postgres", "C", "copy hut to \"stdout\""},
		{"postgres", "C", "explain (analyze) select 1"},
		{"postgres", "C", "explain (costs off, analyse on) select 1"},
		{"postgres", "R", "explain (costs off) delete from hut"},
		{"postgres", "C", "with a as (delete from hut returning *) select * from a"},
		{"postgres", "C", "with a as (select 1) insert into hut select * from a"},
		{"postgres", "C", "with a as materialized (update hut set b = 1 returning 1) table a"},
		{"postgres", "C", "with a as (merge into hut using b on true when matched then do nothing) select 1"},
		{"postgres", "C", "select 1 for no key update"}, {"postgres", "C", "select 1 for key share of hut"},
		{"postgres", "C", "select nextval('s')"}, {"postgres", "C", "select NEXTVAL ('s')"},
		{"postgres", "C", `select "nextval"('s')`},
		{"postgres", "C", "select pg_catalog.setval('s', 1)"},
		{"postgres", "C", "select lo_import('/etc/hostname')"},
		{"postgres", "C", "select * from query_to_xml('select 1', true, true, '')"},
		{"postgres", "C", "select set_config('a.b', 'c', false)"},
		{"postgres", "C", "select pg_try_advisory_xact_lock(1)"},
		{"postgres", "C", `select U&"\006eextval"('s')`}, {"postgres", "C", "select u & 'a'"},
		{"postgres", "R", "select pg_size_pretty(pg_database_size('a'))"},
		{"postgres", "R", "show all"}, {"postgres", "P", "set search_path = a, b"},
		{"postgres", "P", "set local work_mem to '4MB'"}, {"postgres", "P", "reset work_mem"},
		{"postgres", "C", "reset all"}, {"postgres", "C", "set log_statement = 'all'"},
		{"postgres", "U", "set default_transaction_read_only = off"},
		{"postgres", "U", "set session characteristics as transaction read write"},
		{"postgres", "U", `set "transaction_read_only" = off`}, {"postgres", "U", "begin read write"},
		{"postgres", "U", "begin isolation level serializable, read write"},
		{"postgres", "C", "commit prepared 'a'"}, {"postgres", "P", "commit and chain"},
		{"postgres", "C", "set session authorization overseer"}, {"postgres", "U", "reset transaction_read_only"},
		{"postgres", "C", "do $$ begin delete from hut; end $$"}, {"postgres", "C", "fetch 1 from c"},
		{"postgres", "C", "notify a"}, {"postgres", "C", "discard all"},
		{"postgres", "C", "refresh materialized view a"}, {"postgres", "B", "begin read only"},

		{"mariadb", "R", "show tables"}, {"mariadb", "R", "describe hut"}, {"mariadb", "R", "desc hut"},
		{"mariadb", "R", "help 'select'"}, {"mariadb", "R", "select @a := 1"},
		{"mariadb", "R", "select @@global.sql_mode"},
		{"mariadb", "R", "select cast(a as char(10)), convert(b, decimal(10, 2)), date_add(c, interval 1 day), " +
			"group_concat(d order by e separator ', ') over (partition by f) from hut use index (g)"},
		{"mariadb", "R", "with a (b, c) as (select 1, 2), d (e) as (select 3) select * from a, d"},
		{"mariadb", "R", "with recursive a (b) as (select 1 union select b + 1 from a where b < 5) select * from a"},
		{"mariadb", "C", "with a (b) as (select 1) select tidy(b) from a"},
		{"mariadb", "C", "with a as (select 1) delete from hut"}, {"mariadb", "C", "select 1 into @a"},
		{"mariadb", "C", "select 1 into outfile '/tmp/a'"},
		{"mariadb", "C", "select 1 lock in share mode"}, {"mariadb", "C", "select get_lock('a', 1)"},
		{"mariadb", "C", "select get_lock /* c */ ('a', 1)"},
		{"mariadb", "C", "select load_file('/etc/hostname')"}, {"mariadb", "C", "select next value for s"},
		{"mariadb", "C", "select tidy()"}, {"mariadb", "C", "select bunkhouse.lower('a')"},
		{"mariadb", "C", "select `lower`('a')"}, {"mariadb", "C", "select /*! tidy() */ 1"},
		{"mariadb", "C", "/*M!100100 delete from hut */"},
		{"mariadb", "C", "analyze select 1"}, {"mariadb", "C", "explain analyze select 1"},
		{"mariadb", "C", "select sys.tidy(1)"}, {"mariadb", "C", "kill 5"},
		{"mariadb", "C", "lock tables hut read"}, {"mariadb", "C", "xa start 'a'"},
		{"mariadb", "P", "use bunkhouse"}, {"mariadb", "P", "set sql_mode = ''"},
		{"mariadb", "P", "set @a = 1, session time_zone = '+00:00'"},
		{"mariadb", "P", "set @@session.sql_mode = 'ansi'"}, {"mariadb", "C", "set @@global.sql_mode = ''"},
		{"mariadb", "C", "set global sql_mode = ''"}, {"mariadb", "C", "set sql_mode = (select tidy())"},
		{"mariadb", "C", "set time_zone = 'x', global max_connections = 1"},
		{"mariadb", "U", "set autocommit = 0"}, {"mariadb", "U", "set @@autocommit = 0"},
		{"mariadb", "U", "set session tx_read_only = 0"}, {"mariadb", "U", "set `transaction_read_only` = 0"},
		{"mariadb", "R", "select trim(both ' ' from a), extract(year from b), position('a' in b)"},
	} {
		for _, name := range strings.Fields(c.engines) {
			info, _ := known.Info(name)
			does := string("CRPBU"[info.Language.Sort(c.text).Effect])
			if does != c.does {
				t.Errorf("%s: %q is %s instead of %s (%+v)", name, c.text, does, c.does, info.Language.Sort(c.text))
			}
		}
	}
}

// TestDestroys has what can remove a lot.
func TestDestroys(t *testing.T) {
	for text, want := range map[string]string{
		"drop table hut": "drop table", "DROP /* c */ DATABASE bunkhouse": "drop database",
		"drop schema a cascade": "drop schema", "truncate hut": "truncate",
		"delete from hut": "delete without where", "update hut set a = 1": "update without where",
		"delete from hut where a": "", "update hut set a = (select b from c where d)": "update without where",
		"update hut set a = 'where'":      "update without where",
		"update hut set a = 1 -- where\n": "update without where",
		"update hut set a = 1 WHERE b":    "", "drop view a": "", "select 1": "", "insert into hut values (1)": "",
		"delete from hut using b where hut.a = b.a": "",
	} {
		for _, name := range known.Names() {
			info, _ := known.Info(name)
			if info.Language.Name == "" || info.Language.Objects != nil {
				continue // it has no statements, or none in words
			}
			if got := info.Language.Sort(text).Destroys; got != want {
				t.Errorf("%s: %q: %q instead of %q", name, text, got, want)
			}
		}
	}
}

// TestCalls has the names that the server is asked about: in PostgreSQL a function of one row is
// written like a column, too.
func TestCalls(t *testing.T) {
	info, _ := known.Info("postgres")
	got := info.Language.Sort(`select h.tidy, "Tidy"(1), 'no' from hut h -- c`).Calls
	if want := []string{"Tidy", "from", "h", "hut", "select", "tidy"}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if got := info.Language.Sort("select " + strings.Repeat("a, ", 10_000) + "b").Calls; len(got) != 3 {
		t.Errorf("%q", got)
	}
}

// TestStricter orders the levels.
func TestStricter(t *testing.T) {
	for _, c := range [][3]string{{"none", "confirm", "confirm"}, {"read-only", "confirm", "read-only"},
		{"", "none", "none"}, {"confirm", "", "confirm"}, {"none", "none", "none"}} {
		if got := Stricter(c[0], c[1]); got != c[2] {
			t.Errorf("%q", c)
		}
	}
}

// FuzzSort holds for any text that what is added in front of a statement, or between its words,
// does not make a read of a change.
func FuzzSort(f *testing.F) {
	for _, seed := range []string{"select 1", "select tidy()", "with a as (delete from b) select 1", "select '",
		"/*! a */", "set a = 1", "begin read write", "(((", "select $$a$$", "copy a to stdout"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, name := range known.Names() {
			l, _ := known.Info(name)
			one, two := l.Language.Sort(text), l.Language.Sort("/* c */\n"+text)
			if one.Effect != two.Effect || one.Destroys != two.Destroys {
				t.Errorf("%s: %q: %+v, %+v", name, text, one, two)
			}
			if one.Effect == engine.Changes && one.Why == "" && l.Language.First(text) != "" {
				t.Errorf("%s: %q has no reason", name, text)
			}
		}
	})
}
