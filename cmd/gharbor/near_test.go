//go:build unix

package main

import (
	"strings"
	"testing"
)

// TestWhatWasMeant gives names, groups, flags and commands as people mistype them, or know them
// from elsewhere.
func TestWhatWasMeant(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	for _, name := range []string{"huts/local", "huts/far/live", "archive/ledger", "archive/live"} {
		w.must(0, "add", name, "--engine", "mysql", "--host", "127.0.0.1", "--port", "1", "--user", "u", "--secret", "none")
	}
	for _, c := range []struct {
		code int
		args []string
		says []string
	}{
		{3, []string{"show", "huts/lokal"}, []string{"did you mean huts/local?"}},
		{3, []string{"show", "local"}, []string{"did you mean huts/local?"}},
		{3, []string{"test", "ledgre"}, []string{"did you mean archive/ledger?"}},
		{3, []string{"show", "live"}, []string{"did you mean archive/live or huts/far/live?"}},
		{3, []string{"show", "Local"}, []string{"did you mean huts/local?"}},
		{3, []string{"show", "huts"}, []string{"huts is a group", "huts/ stands for all"}},
		{3, []string{"show", "unlike"}, []string{"gharbor list"}},
		{3, []string{"test", "hust/"}, []string{"did you mean huts/?"}},
		{3, []string{"test", "nothing/"}, []string{"gharbor list"}},
		{2, []string{"test", "huts/local", "--username", "x"}, []string{"the flag is --user"}},
		{2, []string{"test", "huts/local", "--dbname=x"}, []string{"the flag is --database"}},
		{2, []string{"add", "x", "--pass", canary}, []string{"no flag takes a password's text"}},
		{2, []string{"test", "huts/local", "--sslmode", "require"},
			[]string{"the flag is --tls, with off, encrypt or verify"}},
		{2, []string{"test", "huts/local", "-U", "x"}, []string{"flags are whole words"}},
		{2, []string{"test", "--url", "x"}, []string{"written without a flag"}},
		{2, []string{"list", "--username", "x"}, []string{"list has no flag --username"}},
		{2, []string{"connect", "huts/local"}, []string{"gharbor test NAME"}},
		{2, []string{"rm", "x"}, []string{"gharbor remove"}},
		{2, []string{"tset", "x"}, []string{"did you mean test?"}},
		{0, []string{"--help"}, []string{"gharbor COMMAND"}}, {0, []string{"-h"}, []string{"gharbor COMMAND"}},
		{0, []string{"--version"}, []string{"gharbor 0."}},
		{0, []string{"test", "-h"}, []string{"gharbor test NAME"}},
		{0, []string{"test", "--help"}, []string{"gharbor test NAME"}},
	} {
		r := w.must(c.code, c.args...)
		if strings.Contains(r.out+r.err, canary) {
			t.Errorf("%v shows a password", c.args)
		}
		has(t, r.out+r.err, c.says...)
	}
	for name, server := range map[string]*server{"postgres": realPostgres(t), "mariadb": realMariaDB(t)} {
		p := w.save(name, name, server.warden()...)
		for _, statement := range []string{"-- what it is\nselect 7 as n", "/* so */ select 7 as n",
			"--\tx\nselect 7 as n", "select 7 as n; -- done"} {
			if out := w.must(0, "run", p, statement, "--as", "csv").out; out != "n\n7\n" {
				t.Errorf("%q: %q", statement, out)
			}
		}
		ends := w.write("ends.sql", "close-with //\nselect 1; select 2//\n")
		has(t, w.must(7, "run", p, "--from", ends, "--end-word", "close-with").err, "query.several-statements",
			"one statement at a time")
		has(t, w.must(7, "run", p, "selec ';'").err, "query.syntax")
	}
}
