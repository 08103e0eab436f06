package known

import (
	"testing"
)

func TestIdentify(t *testing.T) {
	mysqlGreeting := func(version string) []byte {
		body := append([]byte{10}, version...)
		body = append(body, make([]byte, 60)...)
		return append([]byte{byte(len(body)), 0, 0, 0}, body...)
	}
	for _, c := range []struct {
		name string
		data []byte
		kind string
	}{
		{"mysql", mysqlGreeting("8.4.0"), "mysql"},
		{"mariadb", mysqlGreeting("5.5.5-10.11.19-MariaDB-0"), "mariadb"},
		{"mysql's refusal", append([]byte{24, 0, 0, 0, 0xff, 0x10, 0x04}, "Too many connections"...), "mysql"},
		{"ssh", []byte("SSH-2.0-x\r\n"), "ssh"},
		{"web", []byte("HTTP/1.1 400 Bad Request\r\n"), "http"},
		{"yes to encryption", []byte("S"), "postgres"},
		{"no to encryption", []byte("N"), "postgres"},
		{"postgres' error", []byte("E\x00\x00\x00\x30SFATAL\x00C53300\x00Msorry\x00\x00"), "postgres"},
		{"nothing", nil, ""},
		{"short", []byte{10, 0, 0, 0}, ""},
		{"text", []byte("hello there"), ""},
	} {
		if got := Identify(c.data); got.Kind != c.kind {
			t.Errorf("%s: %q", c.name, got.Kind)
		}
	}
}

// TestLocalFile knows the files of this machine that statements name.
func TestLocalFile(t *testing.T) {
	info, _ := Info("mariadb")
	for statement, want := range map[string]string{
		"load data local infile 'a.tsv' into table t":                       "a.tsv",
		"LOAD DATA LOW_PRIORITY LOCAL INFILE \"b''c\" REPLACE into table t": "b''c",
		"/* x */ load xml local -- y\n infile 'it''s' into table t":         "it's",
		`load data local infile 'a\\b\'c' into table t`:                     `a\b'c`,
		"load data infile 'a' into table t":                                 "", "load data local infile a": "",
		"select 'load data local infile'": "", "load index into cache t": "", "load data local infile": "",
		"load data local infile ('x')": "",
	} {
		if got, is := info.Language.LocalFile(statement); got != want || is != (want != "") {
			t.Errorf("%s: %q", statement, got)
		}
	}
	if info, _ := Info("postgres"); info.Language.Local != nil {
		t.Error("PostgreSQL's statements name files of this machine")
	}
}

// TestCommits knows the statements that end a transaction, may end one, or cannot be in one.
func TestCommits(t *testing.T) {
	for _, c := range []struct{ engine, statement, want string }{
		{"postgres", "insert into t values (1)", ""}, {"postgres", "create table t (n int)", ""},
		{"postgres", "/* x */ COMMIT and chain", "commit"}, {"postgres", "rollback to savepoint a", ""},
		{"postgres", "rollback", "rollback"},
		{"postgres", "create unique index concurrently i on t (n)", "create … concurrently"},
		{"postgres", "create table t (a text default 'concurrently')", ""},
		{"postgres", "refresh materialized view concurrently v", ""},
		{"postgres", "alter table t detach partition p concurrently", "alter … concurrently"},
		{"postgres", "vacuum t", "vacuum"}, {"postgres", "call p()", ""}, {"postgres", "begin", "begin"},
		{"postgres", "end", "end"}, {"postgres", "savepoint a", ""},
		{"postgres", "create database x", "create database"}, {"postgres", "drop table t", ""},
		{"postgres", "set local x = 1", ""},
		{"mariadb", "insert into t values (1)", ""}, {"mariadb", "create table t (n int)", "create"},
		{"mariadb", "create temporary table t (n int)", ""}, {"mariadb", "drop temporary table t", ""},
		{"mariadb", "drop table t", "drop"},
		{"mariadb", "alter table t add n int", "alter"}, {"mariadb", "truncate t", "truncate"},
		{"mariadb", "set @x = 1", ""}, {"mariadb", "set @x = 1, autocommit = 1", "set … autocommit"},
		{"mariadb", "set @@session.autocommit=1", "set … autocommit"},
		{"mariadb", "set @autocommits = 1", ""}, {"mariadb", "/*!50000 drop table t */", "/*!"},
		{"mariadb", "select 1 /*M! , 2 */", "/*M!"}, {"mariadb", "call p()", "call"},
		{"mariadb", "execute p", "execute"}, {"mariadb", "if true then commit; end if", "if"},
		{"mariadb", "begin not atomic commit; end", "begin"}, {"mariadb", "update t set n = 1", ""},
		{"mariadb", "with x as (select 1) select * from x", ""}, {"mariadb", "(select 1)", ""},
	} {
		info, _ := Info(c.engine)
		if got := info.Language.Commits(c.statement); got != c.want {
			t.Errorf("%s: %s: %q instead of %q", c.engine, c.statement, got, c.want)
		}
	}
}
