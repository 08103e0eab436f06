//go:build unix

package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/go-sql-driver/mysql"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
)

// ownDatabase has a database of the test's own in a real server, and a profile for its owner.
func ownDatabase(t *testing.T, engine, prefix string) (w *world, p string) {
	t.Helper()
	w = newWorld(t, "PW="+canary)
	s := realServer(t, engine)
	at := map[string][]string{"postgres": {"--socket", s.socket, "--user", "overseer", "--secret", "none"},
		"mariadb": {"--socket", s.socket, "--user", "root", "--secret", "empty"}}[engine]
	owner := w.save("owner", engine, at...)
	database := prefix + strings.ToLower(t.Name())
	w.must(0, "run", owner, "create database "+database)
	return w, w.save("p", engine, append(w.args("owner"), "--database", database)...)
}

// guardedWorld has a table, a function and a procedure of people's in a real server, and a
// profile for it.
func guardedWorld(t *testing.T, name string) (w *world, p string) {
	t.Helper()
	w, p = ownDatabase(t, name, "guarded")
	w.must(0, "run", p, "create table hut (n int primary key, name varchar(40)); insert into hut values (1, "+
		"'Greystone'), (2, 'Larkrise')")
	if name == "postgres" {
		w.must(0, "run", p, `create sequence s; create table parts (n int);
			create function tidy() returns int language sql as 'insert into parts values (1) returning n'; create function "Tidy"(a int) returns int language sql as 'select nextval(''s'')::int';
			create function sweep(h hut) returns int language sql as 'select nextval(''s'')::int'; create function lower(a int) returns int language sql as 'select nextval(''s'')::int';
			create view seen as select * from hut`)
	} else {
		w.must(0, "run", p, "create sequence s; create table parts (n int); create function tidy() returns int "+
			"begin insert into parts values (1); return 1; end; create procedure sweep() insert into parts "+
			"values (2); create view seen as select * from hut")
	}
	return w, p
}

// TestGuardReadOnly runs statements under the guard read-only, by themselves and in a
// transaction: what reads is answered, what changes is refused before it is sent, and the server
// is as it was.
func TestGuardReadOnly(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"postgres", "mariadb"} {
		w, p := guardedWorld(t, name)
		sees := map[string]string{
			"postgres": "select (select count(*) from hut), (select count(*) from parts), (select last_value " +
				"from s), (select count(*) from pg_locks where locktype = 'advisory'), (select count(*) from " +
				"pg_largeobject_metadata), (select string_agg(name || setting, ',') from pg_settings where " +
				"source not in ('client', 'session', 'override')), (select count(*) from pg_replication_slots), " +
				"(select count(*) from pg_class)",
			"mariadb": "select (select count(*) from hut), (select count(*) from parts), (select " +
				"next_not_cached_value from s), (select group_concat(concat(variable_name, variable_value)) " +
				"from information_schema.global_variables where variable_name not like '%gtid%'), (select " +
				"count(*) from information_schema.tables)",
		}[name]
		was := w.must(0, "run", p, sees, "--as", "bare").out
		reads := []string{"select name from hut", "select count(*) from hut where name in ('a', 'b')",
			"with a as (select 1) select * from a", "values (1), (2)", "explain select 1",
			"select * from seen", "show search_path", "table hut",
			"begin; select 1; commit", "begin; select 1", "start transaction; select 1; rollback; select 2",
			"select 1; begin; savepoint a; select 2; rollback to savepoint a; commit; select 3",
			"copy hut to stdout", "set work_mem = '5MB'; select 1",
			"select pg_size_pretty(pg_relation_size('hut'))",
			"select random(), now(), gen_random_uuid(), clock_timestamp(), pg_backend_pid()",
			"select 'tidy()', 1 as into_", "select h.name from hut h"}
		changes := []string{"insert into hut values (3, 'x')", "update hut set name = 'x'", "delete from hut",
			"drop table hut", "truncate hut", "create table x (n int)", "select * into copied from hut",
			"select * from hut for update", "select tidy()", "select 1 from hut where tidy() = 1",
			`select "Tidy"(1)`, "select public.tidy()", "select h.sweep from hut h",
			"select (h).sweep from hut h", "select lower(3)", "select nextval('s')",
			"select setval('s', 9)",
			"with a as (insert into hut values (4, 'x') returning *) select * from a",
			"explain analyze delete from hut", "explain (analyze) delete from hut",
			"begin; insert into hut values (3, 'x'); commit", "begin read write; select 1",
			"set default_transaction_read_only = off",
			"set session characteristics as transaction read write",
			"begin; set transaction read write; select tidy()", "do $$ begin insert into parts values (3); end $$",
			"select pg_advisory_lock(5)", "select set_config('work_mem', '5MB', false)",
			"select lo_from_bytea(0, 'a')", "select query_to_xml('select tidy()', true, true, '')",
			"select pg_terminate_backend(pg_backend_pid())", "select pg_reload_conf()",
			"alter system set work_mem = '5MB'", "refresh materialized view x", "call x()",
			"copy hut from stdin", "copy hut to '/tmp/never'", "copy (select tidy()) to stdout", "notify x",
			"select pg_notify('a', 'b')", "prepare x as select tidy()", "lock table hut", "vacuum hut",
			"declare c cursor for select tidy()", `select U&"\0074idy"()`, "select pg_export_snapshot()"}
		if name == "mariadb" {
			reads = []string{"select name from hut", "select count(*) from hut where name in ('a', 'b')",
				"with a (b) as (select 1) select * from a", "values (1), (2)", "explain select 1",
				"describe hut", "show tables", "select * from seen", "begin; select 1; commit", "begin; select 1",
				"begin; begin; select 1",
				"start transaction with consistent snapshot; select 1; rollback; select 2",
				"set sql_mode = ''; select 1", "set @a = 1; select @a",
				"select uuid(), now(), rand(), connection_id(), cast('1' as integer), concat(upper(name), 'x') from hut",
				"select 'tidy()', `name` from hut", "show create table hut"}
			changes = []string{"insert into hut values (3, 'x')", "update hut set name = 'x'",
				"delete from hut", "drop table hut", "truncate hut", "create table x (n int)",
				"create temporary table x (n int)", "select * from hut for update",
				"select * from hut lock in share mode", "select tidy()", "select 1 from hut where tidy() = 1",
				"select `tidy`()",
				"select tidy /* a */ ()", "select 1 into @a", "select 'x' into outfile '/tmp/never'",
				"select nextval(s)", "select next value for s", "select setval(s, 9)",
				"select get_lock('a', 1)", "select load_file('/etc/hostname')", "call sweep()",
				"analyze table hut", "analyze select tidy()", "explain delete from hut",
				"begin; insert into hut values (3, 'x'); commit",
				"start transaction read write; select 1", "set autocommit = 0", "set transaction read write",
				"set session transaction_read_only = 0", "set global max_connections = 100", "do tidy()",
				"set @a = tidy()", "set sql_mode = (select tidy())",
				"/*! insert into hut values (5, 'x') */", "select /*!50000 tidy() */ 1", "kill 1", "flush tables",
				"lock tables hut write", "handler hut open", "prepare x from 'select tidy()'",
				"execute immediate 'select tidy()'", "begin not atomic insert into parts values (1); end",
				"if 1 then insert into parts values (1); end if",
				"load data local infile 'x' into table hut", "with a as (select 1) delete from hut",
				"xa start 'a'", "use mysql; drop table user"}
		}
		// How texts are written can change in the session: what looks like a text is none then.
		changes = append(changes, map[string][]string{"postgres": {},
			"mariadb": {`set sql_mode = 'NO_BACKSLASH_ESCAPES'; select 'x\', tidy(), 'y'`,
				`set @m = 'NO_BACKSLASH_ESCAPES'; set sql_mode = @m; select 'x\', tidy(), 'y'`,
				"set @m = 'ANSI_QUOTES'; set sql_mode = @m; select \"tidy\"()"}}[name]...)
		for _, text := range reads {
			if r := w.run("run", p, text, "--guard", "read-only"); r.code != 0 {
				t.Errorf("%s: %s: exit %d\n%s", name, text, r.code, r.err)
			}
		}
		for _, text := range changes {
			r := w.run("run", p, text, "--guard", "read-only")
			if r.code != 7 || !strings.Contains(r.err, "uard is read-only") {
				t.Errorf("%s: %s: exit %d\n%s", name, text, r.code, r.err)
			}
		}
		if is := w.must(0, "run", p, sees, "--as", "bare").out; is != was {
			t.Errorf("%s: it was\n%s\nand is\n%s", name, was, is)
		}
		// What a view calls is refused by the server, and named as the guard's; a read that takes
		// too long ends, and the next one runs.
		w.must(0, "run", p, "create view hidden as select tidy() as n")
		has(t, w.must(7, "run", p, "select * from hidden", "--guard", "read-only").err, "query.guarded",
			"the server refused it in a transaction that only reads")
		slow := map[string]string{"postgres": "select pg_sleep(20)", "mariadb": "select sleep(20) from hut"}[name]
		var read struct{ Results []struct{ Rows [][]any } }
		must(t, json.Unmarshal([]byte(w.must(7, "run", p, slow+"; select 2", "--guard", "read-only",
			"--for", "300ms", "--keep-going", "--json").out), &read))
		if len(read.Results) != 2 || fmt.Sprint(read.Results[1].Rows) != "[[2]]" {
			t.Errorf("%s: %+v", name, read)
		}
		// All or nothing is one transaction that only reads; a script is refused as a whole, with
		// the place.
		w.must(0, "run", p, "select 1; select name from hut", "--guard", "read-only", "--all-or-nothing")
		file := w.write("mixed.sql", "select 1;\n\n  delete from hut where n = 1;\n")
		r := w.must(7, "run", p, "--from", file, "--guard", "read-only", "--json")
		has(t, r.err, "mixed.sql, line 3, column 3: the guard is read-only, and the statement may change something: delete",
			"    delete from hut where n = 1\n", "--guard none")
		w.stdin = "select 'before'; drop table hut"
		r = w.must(7, "run", p, "--from", "-", "--guard", "read-only", "--as", "jsonl")
		has(t, r.err, "the guard is read-only")
		w.stdin = ""
		w.must(0, "run", p, "select * from hut")
		// A password in a statement is not shown.
		r = w.must(7, "run", p, "alter user x identified by '"+canary+"'", "--guard", "read-only")
		if strings.Contains(r.out+r.err, canary) {
			t.Errorf("%s", r.err)
		}
	}
}

// TestGuardKnowsFunctions goes through the functions of real servers: of PostgreSQL's own each
// that is volatile is known to have effects that outlive a transaction, or to have none; and each
// that is known is refused.
func TestGuardKnowsFunctions(t *testing.T) {
	t.Parallel()
	harmless := strings.Fields(`RI_FKey_cascade_del RI_FKey_cascade_upd RI_FKey_check_ins RI_FKey_check_upd RI_FKey_noaction_del RI_FKey_noaction_upd RI_FKey_restrict_del RI_FKey_restrict_upd RI_FKey_setdefault_del RI_FKey_setdefault_upd
		RI_FKey_setnull_del RI_FKey_setnull_upd amvalidate bernoulli brinhandler bthandler clock_timestamp current_query currtid2 currval dsnowball_init dsnowball_lexize gen_random_uuid ginhandler gisthandler hashhandler heap_tableam_handler lastval
		lo_close lo_get lo_lseek lo_lseek64 lo_tell lo_tell64 loread pg_blocking_pids pg_collation_actual_version pg_control_checkpoint pg_control_init pg_control_recovery pg_control_system pg_current_logfile pg_current_wal_flush_lsn
		pg_current_wal_insert_lsn pg_current_wal_lsn pg_database_collation_actual_version pg_database_size pg_extension_config_dump pg_get_backend_memory_contexts pg_get_multixact_members pg_get_shmem_allocations pg_get_wal_replay_pause_state
		pg_get_wal_resource_managers pg_hba_file_rules pg_ident_file_mappings pg_indexes_size pg_is_in_recovery pg_is_wal_replay_paused pg_isolation_test_session_is_blocked pg_jit_available pg_last_committed_xact pg_last_wal_receive_lsn
		pg_last_wal_replay_lsn pg_last_xact_replay_timestamp pg_lock_status pg_logical_slot_peek_binary_changes pg_logical_slot_peek_changes pg_ls_archive_statusdir pg_ls_dir pg_ls_logdir pg_ls_logicalmapdir pg_ls_logicalsnapdir pg_ls_replslotdir
		pg_ls_tmpdir pg_ls_waldir pg_notification_queue_usage pg_partition_ancestors pg_partition_tree pg_prepared_xact pg_read_binary_file pg_read_file pg_read_file_old pg_relation_size pg_safe_snapshot_blocking_pids pg_sequence_last_value
		pg_show_all_file_settings pg_show_replication_origin_status pg_sleep pg_sleep_for pg_sleep_until pg_stat_clear_snapshot pg_stat_file pg_stat_have_stats pg_table_size pg_tablespace_size pg_tablespace_location pg_total_relation_size
		pg_xact_commit_timestamp pg_xact_commit_timestamp_origin pg_xact_status plpgsql_call_handler plpgsql_inline_handler plpgsql_validator random spghandler suppress_redundant_updates_trigger system timeofday tsvector_update_trigger
		tsvector_update_trigger_column txid_status unique_key_recheck pg_trigger_depth`)
	s := realServer(t, "postgres")
	info, _ := known.Info("postgres")
	rows, err := barePostgres(t, s, "bunkhouse").Exec(t.Context(),
		"select distinct proname from pg_proc where oid < 16384 and provolatile = 'v' and proname !~ "+
			"'^pg_stat_get_'").ReadAll()
	must(t, err)
	for _, row := range rows[0].Rows {
		name := string(row[0])
		refused := info.Language.Sort("select "+name+"()").Why == name
		if refused == slices.Contains(harmless, name) {
			t.Errorf("%s: refused is %v", name, refused)
		}
	}
	w, p := guardedWorld(t, "postgres")
	for _, name := range info.Language.Reading.Outside {
		name = strings.TrimSuffix(name, "*")
		has(t, w.must(7, "run", p, "select "+name+"()", "--guard", "read-only").err,
			"the statement may change something: "+name)
	}
}

// TestGuardConfirm asks before what changes something: once for all statements, with who, where
// and how many. Without a terminal it needs --yes, and connects to nothing.
func TestGuardConfirm(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"postgres", "mariadb"} {
		w, p := guardedWorld(t, name)
		w.must(0, "change", p, "--guard", "confirm")
		count := func() string { return w.must(0, "run", p, "select count(*) from hut", "--as", "bare").out }
		two := []string{"run", p, "select 1; insert into hut values (3, 'x'); update hut set name = 'y' where n = 3"}
		r := w.must(2, append(two, "--host", "127.0.0.1", "--port", "1")...)
		has(t, r.err, "the guard is confirm, and 2 of 3 statements may change something. To go on, add the flag: --yes")
		who := map[string]string{"postgres": "as overseer (superuser) in guarded",
			"mariadb": "as root@localhost (superuser) in guarded"}[name]
		q := w.sit(two...)
		q.Answers("Run them? (yes, no) [no]", "no")
		if code, _ := q.Ends(); code != 7 || !strings.Contains(q.Screen(), "nothing was done") ||
			!strings.Contains(strings.Join(strings.Fields(q.Screen()), " "),
				"The guard of p is confirm, and 2 of 3 statements may change something, "+who) {
			t.Errorf("exit %d\n%s", code, q.Screen())
		}
		if got := count(); got != "2\n" {
			t.Errorf("%q", got)
		}
		q = w.sit(two...)
		q.Answers("Run them?", "yes")
		if code, _ := q.Ends(); code != 0 || strings.Count(q.Screen(), "(yes, no)") != 1 {
			t.Errorf("exit %d\n%s", code, q.Screen())
		}
		if got := count(); got != "3\n" {
			t.Errorf("%q", got)
		}
		w.must(0, "run", p, "begin; delete from hut where n = 3; commit", "--yes")
		w.must(0, "run", p, "insert into hut values (4, 'z'); select count(*) from hut", "--yes", "--all-or-nothing")
		if got := count(); got != "3\n" {
			t.Errorf("%q", got)
		}
		// A function of people's is found at the server, and is counted; without a terminal
		// nothing is done then.
		r = w.must(2, "run", p, "select 1; select tidy()")
		has(t, r.err, "--yes")
		w.must(0, "run", p, "select tidy()", "--yes")
		// What decides over transactions is the guard's, also with --yes; a pipe has no count.
		has(t, w.must(7, "run", p, "start transaction read write; delete from hut", "--yes").err, "leave out")
		w.stdin = "delete from hut where n = 4;"
		has(t, w.must(2, "run", p, "--from", "-").err, "--yes")
		w.must(0, "run", p, "--from", "-", "--yes")
		w.stdin = ""
		if got := count(); got != "2\n" {
			t.Errorf("%q", got)
		}
		// One run can have another guard, which is said.
		has(t, w.must(0, "run", p, "delete from parts where n = 9", "--guard", "none").err,
			"for this run, p has guard none (--guard)")
		w.environ = append(w.environ, "GHARBOR_GUARD=read-only")
		has(t, w.must(7, "run", p, "delete from parts", "--yes").err, "the guard is read-only")
		w.environ = w.environ[:len(w.environ)-1]
	}
}

// TestWhatTakesMuchAway asks at a terminal before a table, a database or all rows go, without a
// guard too; without a terminal it does not.
func TestWhatTakesMuchAway(t *testing.T) {
	t.Parallel()
	w, p := guardedWorld(t, "postgres")
	for _, c := range []struct{ text, about string }{{"delete from hut", "delete without where"},
		{"update hut set name = 'x'", "update without where"}, {"truncate hut", "truncate"},
		{"select 1; drop table hut", "drop table"}} {
		q := w.sit("run", p, c.text)
		q.Answers("(yes, no) [no]", "")
		if code, _ := q.Ends(); code != 7 || !strings.Contains(q.Screen(), c.about+", as overseer (superuser) in guarded") {
			t.Errorf("%s: exit %d\n%s", c.text, code, q.Screen())
		}
	}
	if got := w.must(0, "run", p, "select count(*) from hut", "--as", "bare").out; got != "2\n" {
		t.Errorf("%q", got)
	}
	// A line says as which user and where the first change is done; a read has none.
	q := w.sit("run", p, "select 1; update hut set name = 'x' where n = 1; delete from hut where n = 2")
	if code, _ := q.Ends(); code != 0 || strings.Count(q.Screen(), "as overseer (superuser) in guarded") != 1 ||
		strings.Contains(q.Screen(), "(yes, no)") {
		t.Errorf("exit %d\n%s", code, q.Screen())
	}
	q = w.sit("run", p, "select 1")
	if code, _ := q.Ends(); code != 0 || strings.Contains(q.Screen(), "superuser") {
		t.Errorf("exit %d\n%s", code, q.Screen())
	}
	q = w.sit("run", p, "delete from hut", "--yes")
	if code, _ := q.Ends(); code != 0 || strings.Contains(q.Screen(), "(yes, no)") {
		t.Errorf("exit %d\n%s", code, q.Screen())
	}
	w.must(0, "run", p, "drop table hut cascade")
}

// TestGuardOfOpening has the statements of on-open under the guard too, and says that it does not
// hold behind a door.
func TestGuardOfOpening(t *testing.T) {
	t.Parallel()
	w, p := guardedWorld(t, "postgres")
	w.must(0, "change", p, "--guard", "read-only", "--on-open", "set search_path = public",
		"--on-open", "insert into hut values (5, 'x')")
	for _, args := range [][]string{{"run", p, "select 1"}, {"test", p}} {
		r := w.must(7, args...)
		has(t, r.out+r.err, "database.guarded", "on-open", "may change something: insert")
	}
	w.must(0, "change", p, "--on-open", "set search_path = public")
	w.must(0, "run", p, "select 1")
	w.must(0, "change", p, "--on-open", "select tidy()")
	has(t, w.must(7, "run", p, "select 1").err, "database.guarded", "tidy")
	w.must(0, "change", p, "--on-open", "")
	has(t, w.must(0, "with", p, "--", "true").err, "the guard of p (read-only) does not hold behind a door")
}

// TestGuardAndAnotherServer asks before anything is done where another server answers than last
// time; --yes is no answer to that.
func TestGuardAndAnotherServer(t *testing.T) {
	t.Parallel()
	w, p := guardedWorld(t, "postgres")
	w.must(0, "change", p, "--guard", "confirm", "--on-open", "select 1")
	w.must(0, "test", p)
	was := w.report(p).Server.Identity
	files, err := filepath.Glob(filepath.Join(w.home, "gharbor/state/history/*.jsonl"))
	must(t, err)
	for _, file := range files {
		data, err := os.ReadFile(file)
		must(t, err)
		must(t, os.WriteFile(file, bytes.ReplaceAll(data, []byte(was), []byte("7000000000000000001")), 0o600))
	}
	var read struct{ Finding struct{ Code string } }
	must(t, json.Unmarshal([]byte(w.must(8, "run", p, "insert into hut values (6, 'x')", "--yes", "--json").out), &read))
	if read.Finding.Code != "expect.other-identity" {
		t.Errorf("%+v", read)
	}
	has(t, w.must(8, "run", p, "select 1").err, "This is another server than at the last good test",
		"The guard is confirm, so nothing was done there")
	q := w.sit("run", p, "insert into hut values (6, 'x')", "--yes")
	q.Answers("Go on there? (yes, no) [no]", "no")
	if code, _ := q.Ends(); code != 8 {
		t.Errorf("exit %d\n%s", code, q.Screen())
	}
	q = w.sit("run", p, "insert into hut values (6, 'x')")
	q.Answers("Go on there?", "yes")
	q.Answers("Run it?", "yes")
	if code, _ := q.Ends(); code != 0 {
		t.Errorf("exit %d\n%s", code, q.Screen())
	}
	has(t, w.must(0, "run", p, "select 1", "--guard", "none").err, "another server")
	w.must(0, "survey", p, "databases", "--guard", "none")
	w.must(8, "survey", p, "databases")
}

// TestGuardOfAProject has a profile of your own start from a project's: what the project says
// only makes the guard stricter.
func TestGuardOfAProject(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for i, c := range []struct{ own, theirs, want string }{{"confirm", "none", "confirm"},
		{"confirm", "read-only", "read-only"}, {"none", "confirm", "confirm"}, {"read-only", "", "read-only"},
		{"", "confirm", "confirm"}} {
		theirs, own := fmt.Sprintf("theirs%d", i), fmt.Sprintf("own%d", i)
		w.must(0, "add", "--project", theirs, "--engine", "postgres", "--user", "warden_app",
			"--secret", "none", "--guard", c.theirs)
		w.must(0, "add", own, "--base", "project:"+theirs)
		if c.own != "" {
			w.must(0, "change", own, "--guard", c.own)
		}
		out := w.must(0, "show", own).out
		if !regexp.MustCompile(`(?m)^\s*guard\s+` + c.want + `\s`).MatchString(out) {
			t.Errorf("%+v:\n%s", c, out)
		}
	}
}

// TestGuardKnowsWords makes a function of people's for each word that the guard takes for
// MariaDB's own: a call by that word is refused, since a space before the bracket calls that one;
// without such a function it is the server's own.
func TestGuardKnowsWords(t *testing.T) {
	t.Parallel()
	w, p := guardedWorld(t, "mariadb")
	s := realServer(t, "mariadb")
	db := bareMariaDB(t, s, func(c *mysql.Config) {
		c.User, c.Passwd, c.Net, c.Addr, c.DBName = "root", "", "unix", s.socket, "guardedtestguardknowswords"
	})
	info, _ := known.Info("mariadb")
	words := slices.Sorted(maps.Keys(info.Language.Reading.Native))
	made := []string{}
	for _, word := range words {
		if _, err := db.ExecContext(t.Context(),
			"create function `"+word+"`(a int) returns int begin insert into parts values (1); return 1; end"); err == nil {
			made = append(made, word)
		}
	}
	if len(made) < 300 {
		t.Errorf("%d functions were made", len(made))
	}
	called := 0
	for _, word := range made {
		text := "select " + word + " (1)"
		sorted := info.Language.Sort(text)
		if sorted.Effect == engine.Reads && !slices.Contains(sorted.Calls, word) {
			t.Errorf("%s: nothing is asked about it", word)
		}
		if _, err := db.ExecContext(t.Context(), "set statement max_statement_time = 1 for "+text); err == nil {
			called++
		}
	}
	var n int
	must(t, db.QueryRowContext(t.Context(), "select count(*) from parts").Scan(&n))
	if n < 20 || called < n {
		t.Errorf("%d of them are called with a space before the bracket, of %d", n, called)
	}
	has(t, w.must(7, "run", p, "select now (1)", "--guard", "read-only").err, "query.guarded",
		"now, a function that is not the engine's own")
	for _, word := range made {
		_, err := db.ExecContext(t.Context(), "drop function `"+word+"`")
		must(t, err)
	}
	// Another database that is opened on the way has its own ones.
	w.must(0, "run", p, "create database elsewhere_guarded; create function elsewhere_guarded.now(a int) "+
		"returns int begin insert into elsewhere_guarded.parts values (1); return 1; end")
	has(t, w.must(7, "run", p, "select now(); use elsewhere_guarded; select now (1)",
		"--guard", "read-only").err, "query.guarded", "may change something: now")
	w.must(0, "run", p, "select now(), lower('A'), count(*), substring('abc', 2) from hut", "--guard", "read-only")
}
