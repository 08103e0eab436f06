//go:build unix

package main

import (
	"strings"
	"testing"
)

// TestAGiantRow runs statements of real servers whose answer is one row that is larger than it may be, and the same with more allowed.
func TestAGiantRow(t *testing.T) {
	pg, maria := realPostgres(t), realMariaDB(t)
	w := newWorld(t, "PW="+canary)
	owner := "mysql://root@" + strings.ReplaceAll(maria.socket, "/", "%2F")
	w.must(0, "run", owner, "set global max_allowed_packet = 1073741824")
	for _, p := range []string{
		w.save("pg", "postgres", append(pg.at("127.0.0.1"), "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")...),
		w.save("maria", "mariadb", append(maria.at("127.0.0.1"), "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")...),
	} {
		const statement = "select repeat('x', 70000000) as large"
		for _, as := range []string{"csv", "json", "table"} {
			r := w.must(7, "run", p, statement, "--as", as)
			has(t, r.out+r.err, "query.too-large", "larger than 64MB")
			if r.peak > 400<<20 {
				t.Errorf("%s, %s: %d MB of memory", p, as, r.peak>>20)
			}
		}
		if r := w.must(0, "run", p, statement, "--as", "csv", "--largest", "80mb"); len(strings.TrimSpace(r.out)) != len("large\n")+70_000_000 {
			t.Errorf("%s: %d bytes came", p, len(r.out))
		}
		// Many rows are not one row.
		r := w.must(0, "run", p, "select repeat('x', 100000) from (values (1), (2), (3)) v", "--as", "csv", "--largest", "1MB")
		if len(r.out) < 300_000 {
			t.Errorf("%s: %d bytes came", p, len(r.out))
		}
		has(t, w.must(7, "run", p, "select repeat('x', 100000)", "--as", "csv", "--largest", "64KB").err, "larger than 64KB")
	}
	if r := w.must(7, "run", "pg", "select repeat('x', 70000000)"); !strings.Contains(r.err, "--largest 67MB") {
		t.Errorf("%s", r.err)
	}
	for _, wrong := range []string{"0", "-1", "2GB", "much", "1TB", "99999999999999999999GB", ""} {
		has(t, w.must(2, "run", "pg", "select 1", "--largest", wrong).err, "--largest takes a size up to 1GB")
	}
}
