//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestBytesAndDecimals prints bytes and decimals alike for each real engine, in every form.
func TestBytesAndDecimals(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	for name, statements := range map[string][]string{
		"postgres": {`select '\x00ff10'::bytea as photo, 1234567890123456789.50::numeric as height, 'ü' as name, null as nothing`,
			`select null::bytea as photo`},
		"mariadb": {`select unhex('00ff10') as photo, cast('1234567890123456789.50' as decimal(30,2)) as height, 'ü' as name, null as nothing`,
			`select cast(null as binary) as photo`},
	} {
		t.Run(name, func(t *testing.T) {
			w := *w
			w.T = t
			at := realPostgres(t).at("127.0.0.1")
			if name == "mariadb" {
				at = realMariaDB(t).at("127.0.0.1")
			}
			p := w.save(name, name, append(at, "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")...)
			type one struct {
				Columns, Types []string
				Rows           [][]json.RawMessage
			}
			run := func(statement string) one {
				var all struct{ Results []one }
				must(t, json.Unmarshal([]byte(w.must(0, "run", p, statement, "--json").out), &all))
				return all.Results[0]
			}
			got := run(statements[0])
			if text := fmt.Sprintf("%s %s", got.Types,
				got.Rows); text != `[bytes number text null] [["\\x00ff10" 1234567890123456789.50 "ü" null]]` {
				t.Errorf("%s", text)
			}
			r := w.must(0, "run", p, statements[0], "--as", "csv")
			if r.out != "photo,height,name,nothing\n\\x00ff10,1234567890123456789.50,ü,\n" {
				t.Errorf("%q", r.out)
			}
			has(t, w.must(0, "run", p, statements[0]).out, `\x00ff10`)
			typed := map[string][2]string{
				"postgres": {`select 'NaN'::float8 a, '{"b": 1.10, "n": 12345678901234567890}'::json b, array[1,null] c, date '2026-01-02' d, interval '1 day' e, true f, 9007199254740993 g`,
					`[text json array text text boolean number] [["NaN" {"b":1.10,"n":12345678901234567890} [1,null] "2026-01-02" "1 day" true 9007199254740993]]`},
				"mariadb": {`select 1.5e0 a, 18446744073709551615 b, cast('2026-01-02' as date) c, null d, true e, cast('12:30:00' as time) f`,
					`[number number text null number text] [[1.5 18446744073709551615 "2026-01-02" null 1 "12:30:00"]]`},
			}[name]
			got = run(typed[0])
			if text := fmt.Sprintf("%s %s", got.Types, got.Rows); text != typed[1] {
				t.Errorf("%s", text)
			}
			has(t, w.must(0, "run", p, statements[1], "--json").out, `"types":["null"]`)
		})
	}
}

// TestRefusedBeforeItIsWritten adds and changes a project's profile in ways that a project's file
// may not say: nothing is written.
func TestRefusedBeforeItIsWritten(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	must(t, os.MkdirAll(filepath.Join(w.home, ".gentle-harbor/profiles"), 0o755))
	file := filepath.Join(w.home, ".gentle-harbor/profiles/p.yaml")
	bad := [][]string{{"--secret", "file:/etc/hostname"}, {"--tls-ca", "/etc/hostname"},
		{"--secret", "credentials:/x"}, {"--via", "{host: g, key: /k}"}}
	for _, more := range bad {
		r := w.must(3, append([]string{"add", "p", "--project", "--engine", "postgres", "--host", "h",
			"--user", "u"}, more...)...)
		if _, err := os.Lstat(file); err == nil || strings.Contains(r.out, "Saved") {
			t.Errorf("%v: a file is there: %s%s", more, r.out, r.err)
		}
	}
	w.must(0, "add", "p", "--project", "--engine", "postgres", "--host", "h", "--user", "u")
	before, err := os.ReadFile(file)
	must(t, err)
	for _, more := range bad {
		w.must(3, append([]string{"change", "p"}, more...)...)
		if after, _ := os.ReadFile(file); string(after) != string(before) {
			t.Errorf("%v: the file was changed:\n%s", more, after)
		}
	}
	// A variant of it is quiet where the project is not.
	w.write("gharbor/profiles/p.yaml", "base: project:p\nport: 5433\n")
	has(t, w.must(0, "list").out, "5433")
	cmd := w.command("list")
	cmd.Dir = t.TempDir()
	r := w.finish(cmd)
	if r.code != 0 || r.err != "" {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
	has(t, r.out, "(variant)", "of project:p")
}
