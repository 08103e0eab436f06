//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"testing"
)

// TestBytesAndDecimals prints bytes and decimals alike for each real engine, in every form.
func TestBytesAndDecimals(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	for name, statements := range map[string][]string{
		"postgres": {`select '\x00ff10'::bytea as photo, 1234567890123456789.50::numeric as height, 'ü' as name, null as nothing`, `select null::bytea as photo`},
		"mariadb":  {`select unhex('00ff10') as photo, cast('1234567890123456789.50' as decimal(30,2)) as height, 'ü' as name, null as nothing`, `select cast(null as binary) as photo`},
	} {
		t.Run(name, func(t *testing.T) {
			w := *w
			w.T = t
			at := realPostgres(t).at("127.0.0.1")
			if name == "mariadb" {
				at = realMariaDB(t).at("127.0.0.1")
			}
			p := w.save(name, name, append(at, "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")...)
			var got struct {
				Columns, Types []string
				Rows           [][]json.RawMessage
			}
			must(t, json.Unmarshal([]byte(w.must(0, "run", p, statements[0], "--json").out), &got))
			if text := fmt.Sprintf("%s %s", got.Types, got.Rows); text != `[base64 number text null] [["AP8Q" 1234567890123456789.50 "ü" null]]` {
				t.Errorf("%s", text)
			}
			r := w.must(0, "run", p, statements[0], "--as", "csv")
			if r.out != "photo,height,name,nothing\nAP8Q,1234567890123456789.50,ü,\n" {
				t.Errorf("%q", r.out)
			}
			has(t, r.err, "the column photo is binary, and is written in base64")
			has(t, w.must(0, "run", p, statements[0]).out, "0x00ff10")
			has(t, w.must(0, "run", p, statements[1], "--json").out, `"types":["null"]`)
		})
	}
}
