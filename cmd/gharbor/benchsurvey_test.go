//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestBenchSurvey measures lists of 20,000 tables and of 10,000 users.
func TestBenchSurvey(t *testing.T) {
	measured(t)
	const tables, users = 20_000, 10_000
	for _, name := range []string{"postgres", "mariadb"} {
		w, p := ownDatabase(t, name, "many")
		base := "many" + strings.ToLower(t.Name())
		at := map[string]string{"mariadb": "@localhost"}[name]
		var script strings.Builder
		for n := range tables {
			fmt.Fprintf(&script, "create table hut_%05d (n int primary key, name varchar(40) not null, height int);\n", n)
		}
		for n := range users {
			fmt.Fprintf(&script, "create %s warden_%05d%s;\n",
				map[string]string{"postgres": "role", "mariadb": "user"}[name], n, at)
		}
		fmt.Fprintf(&script, "grant select on hut_00001 to warden_00001%s;\n", at)
		file := filepath.Join(w.home, "many.sql")
		must(t, os.WriteFile(file, []byte(script.String()), 0o600))
		long := func(args ...string) {
			t.Helper()
			if out, err := w.command(args...).CombinedOutput(); err != nil {
				t.Fatalf("%v\n%s", err, out)
			}
		}
		long("run", p, "--from", file)
		for _, c := range []struct {
			what string
			rows int
			args []string
		}{
			{"20,000 tables", tables, []string{"tables"}},
			{"the columns of 20,000 tables", 3 * tables, []string{"columns"}},
			{"10,000 users", users, []string{"users", "--like", "warden_?????"}},
			{"the rights of everybody on one of 20,000 tables, with 10,000 users", -1,
				[]string{"rights", "--on", "hut_00001"}},
			{"the page about a server with 20,000 tables and 10,000 users", -1, nil},
		} {
			args := append([]string{"survey", p, "--json"}, c.args...)
			took, _ := median(3, func() time.Duration { return w.must(0, args...).took }, func() time.Duration { return 0 })
			bar := ""
			if c.rows > 0 && c.rows != 3*tables {
				bar = " (bar: 2 s)"
				if took > 2*time.Second {
					t.Errorf("%s: %s took %s", name, c.what, took)
				}
			}
			if l := w.survey(append([]string{p}, c.args...)...); c.rows > 0 && len(l.Rows) != c.rows {
				t.Errorf("%s: %s has %d rows", name, c.what, len(l.Rows))
			}
			fmt.Printf("`survey` of %s (%s): %s%s\n", c.what, name, took.Round(time.Millisecond), bar)
		}
		script.Reset()
		for n := range users {
			fmt.Fprintf(&script, "drop %s if exists warden_%05d%s;\n",
				map[string]string{"postgres": "role", "mariadb": "user"}[name], n, at)
		}
		must(t, os.WriteFile(file, []byte("revoke select on hut_00001 from warden_00001"+at+";\n"+script.String()), 0o600))
		long("run", p, "--from", file)
		long("run", "owner", "drop database "+base, "--yes")
	}
}
