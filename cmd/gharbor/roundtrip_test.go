//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// spoilable are values of texts that a form of rows may spoil; null is without quotes.
var spoilable = []string{"null", "", " ", "a", "Greystone", `"`, `""`, ",", ", ", "a,b", "\t", "a\tb", "\n",
	"a\nb", "\r\n", "\r", `\`, `\N`, `\.`, `\n`, "'", "NULL", "null ", " x ", "é", "𝄞 𝒳", "#", "=1+1", "0",
	"\u2028", "{{x}}", "\\x41"}

// roundTypes has, for each engine, the types of columns and values of each, as the engine's
// literals.
var roundTypes = map[string][]struct{ of, values string }{
	"postgres": {
		{"boolean", "null|true|false"},
		{"smallint", "null|-32768|32767"}, {"integer", "null|0|-2147483648"},
		{"bigint", "null|9223372036854775807|-9223372036854775808"},
		{"numeric", "null|0.10|12345678901234567890123456789.012345678901234567890|'NaN'|'Infinity'|'-Infinity'|1e-40"},
		{"numeric(10,2)", "-0.01|99999999.99"},
		{"real", "null|0.1|16777217|'NaN'|'-Infinity'|1e-38"},
		{"double precision", "null|0.1|'-0'|1e-300|1.7976931348623157e308|'NaN'|'Infinity'|123456789.123456789"},
		{"bytea", `null|''|'\x00'|'\x00ff5c2722'|'\\\000'`}, {"uuid", "null|'00000000-0000-4000-8000-0000000000ff'"},
		{"date", "null|'2026-02-14'|'0044-03-15 BC'|'infinity'|'-infinity'|'5874897-12-31'"},
		{"time", "null|'23:59:59.999999'|'24:00'"}, {"timetz", "null|'12:00:00.5+05:45'|'12:00-15:59'"},
		{"timestamp", "null|'2026-02-14 10:00:00.000001'|'0044-03-15 12:00 BC'|'infinity'"},
		{"timestamptz", "null|'2026-02-14 10:00:00+13:45'|'0044-03-15 12:00+00 BC'|'-infinity'|'294276-12-31 " +
			"23:59:59.999999+00'"},
		{"interval", "null|'1 year 2 months -3 days 04:05:06.789'|'-00:00:01'"},
		{"json", `null|'null'|'{"a": [1, {"b": null}], "c": "\u00e9 \" \\ "}'|'1.10'|'"x"'`},
		{"jsonb", `null|'{"a": [1.10, {"b": []}]}'|'12345678901234567890123'`},
		{"integer[]", "null|'{}'|'{1,NULL,3}'|'{{1,2},{3,4}}'|'[2:3]={5,6}'"},
		{"text[]", `null|array['', 'NULL', null, 'a"b', 'c,d', '{}', E'\\', E'e\nf']`},
		{"bytea[]", `array['\x00ff'::bytea, null]`},
		{"timestamptz[]", "array['2026-02-14 10:00+00'::timestamptz]"},
		{"inet", "null|'10.0.0.1/8'|'::1'"}, {"cidr", "'10.0.0.0/8'"}, {"macaddr", "'00:00:5e:00:53:01'"},
		{"point", "null|'(1.5,-2)'"}, {"box", "'(3,4),(1,2)'"}, {"polygon", "'((0,0),(1,1),(1,0))'"},
		{"bit(3)", "null|b'101'"}, {"bit varying(8)", "b''|b'11'"}, {"money", "null|-12.34"}, {"name", "'x'"},
		{"\"char\"", "'x'"}, {"oid", "4294967295"}, {"tsvector", "'a:1 b:2A'"}, {"tsquery", "'a & !b'"},
		{"int4range", "null|'empty'|'[1,5)'|'(,3)'"}, {"tstzrange", "'[2026-02-14 10:00+00,)'"},
		{"int4multirange", "'{[1,3),[5,7)}'"}, {"pg_lsn", "'16/B374D848'"}, {"character(5)", "null|'ab'|'     '"},
	},
	"mariadb": {
		{"tinyint", "null|-128|127"}, {"tinyint(1)", "1"}, {"smallint unsigned", "null|65535"},
		{"mediumint", "-8388608"}, {"int", "null|-2147483648"},
		{"bigint unsigned", "null|18446744073709551615"}, {"bigint", "-9223372036854775808"},
		{"decimal(65,30)", "null|12345678901234567890123456789012345.012345678901234567890123456789|-0.000000000000000000000000000001"},
		{"double", "null|0.1|1e-300|1.7976931348623157e308|123456789.123456789"},
		{"float", "null|0.5|0.1|123456"}, // six digits are all that the server writes of one
		{"bit(8)", "null|b'0'|b'10000001'"},
		{"bit(64)", "b'1111111111111111111111111111111111111111111111111111111111111111'"},
		{"year", "null|2026|1901"},
		{"date", "null|'2026-02-14'|'0000-00-00'|'9999-12-31'|'0001-01-01'"},
		{"time(6)", "null|'-838:59:59.000000'|'00:00:00.000001'"},
		{"datetime(6)", "null|'2026-02-14 10:00:00.000001'|'0000-00-00 00:00:00'|'9999-12-31 23:59:59.999999'"},
		{"timestamp(3) null", "null|'2026-02-14 10:00:00.123'"},
		{"char(5)", "null|'ab'|''"}, {"binary(3)", "null|x'00ff'"},
		{"varbinary(20)", "null|''|x'00ff5c27220a'"}, {"tinyblob", "x'00'"}, {"blob", "null|x''|x'5c4e'"},
		{"longblob", "x'0a0d095c'"},
		{"enum('a','b,c')", "null|'b,c'"}, {"set('a','b','')", "null|'a,b'|''"},
		{"json", `null|'{"a": [1, {"b": null}], "c": "\\u00e9 \\" \\\\ "}'|'1.10'|'"x"'`},
		{"tinytext", "'x'"}, {"mediumtext", "'x'"},
		{"geometry", "null|st_geomfromtext('POINT(1.5 -2)')"}, {"point", "st_geomfromtext('POINT(0 0)')"},
		{"inet6", "null|'::1'|'2001:db8::ff'"}, {"uuid", "null|'00000000-0000-4000-8000-0000000000ff'"},
	},
}

// TestRoundTrips writes a table of every type, takes what was written in again with the engine's
// own means, and compares the two tables in the server.
func TestRoundTrips(t *testing.T) {
	t.Parallel()
	for name, types := range roundTypes {
		w := newWorld(t, "PW="+canary)
		s := realPostgres(t)
		var p string
		if name == "postgres" {
			p = w.save("round", name, s.warden()...)
		} else { // who may have the server read a file
			s = realMariaDB(t)
			w.must(0, "run", "mysql://root@"+strings.ReplaceAll(s.socket, "/", "%2F"),
				"create database roundtrips character set utf8mb4")
			p = w.save("round", name, "--socket", s.socket, "--user", "root", "--database", "roundtrips", "--secret", "empty")
		}
		// A column of each type, and one of texts; the longest list of values gives the number of rows.
		var columns []string
		var cells [][]string
		for i, each := range types {
			columns = append(columns, fmt.Sprintf("c%d %s", i, each.of))
			cells = append(cells, strings.Split(each.values, "|"))
		}
		columns = append(columns, "words "+map[string]string{"postgres": "text", "mariadb": "longtext"}[name])
		var words []string
		for _, text := range spoilable {
			if text != "null" {
				text = "convert(x'" + fmt.Sprintf("%x", text) + "' using utf8mb4)"
				if name == "postgres" {
					text = "convert_from('\\x" + strings.TrimSuffix(strings.TrimPrefix(text, "convert(x'"),
						"' using utf8mb4)") + "', 'utf8')"
				}
			}
			words = append(words, text)
		}
		cells = append(cells, words)
		script := "create table out_of (n int primary key, " + strings.Join(columns, ", ") +
			");\ncreate table into_ (n int primary key, " + strings.Join(columns, ", ") + ");\n"
		if name == "mariadb" {
			script = "set sql_mode = 'STRICT_TRANS_TABLES,ALLOW_INVALID_DATES';\n" + script
		}
		for row := range len(words) {
			line := fmt.Sprint(row)
			for _, list := range cells {
				line += ", " + list[row%len(list)]
			}
			script += "insert into out_of values (" + line + ");\n"
		}
		long := map[string]string{"postgres": "repeat('ab\"', 3500000)", "mariadb": "repeat('ab\"', 3500000)"}[name]
		script += "insert into out_of (n, words) values (1000, " + long + ");\n"
		w.must(0, "run", p, "--from", w.write("make.sql", script))
		form := map[string]string{"postgres": "csv", "mariadb": "tsv"}[name]
		file := filepath.Join(w.home, "rows."+form)
		w.must(0, "run", p, "select * from out_of order by n", "--as", form, "--to", file)
		if name == "postgres" {
			data, err := os.ReadFile(file)
			must(t, err)
			w.stdin = string(data)
			w.must(0, "run", p, "copy into_ from stdin (format csv, header)")
			w.stdin = ""
		} else {
			readable := filepath.Join(s.folder, "rows.tsv") // the server reads it
			data, err := os.ReadFile(file)
			must(t, err)
			must(t, os.WriteFile(readable, data, 0o644))
			var list, sets []string
			for i, each := range types {
				column := fmt.Sprintf("c%d", i)
				if of, _, _ := strings.Cut(each.of,
					"("); slices.Contains([]string{"bit", "binary", "varbinary", "tinyblob", "blob",
					"longblob", "geometry", "point"}, of) {
					sets = append(sets, column+" = unhex(substr(@"+column+", 3))")
					column = "@" + column
				}
				list = append(list, column)
			}
			w.must(0, "run", p, "set sql_mode = 'STRICT_TRANS_TABLES,ALLOW_INVALID_DATES'; load data infile '"+readable+"' into table into_ character set utf8mb4 ignore 1 lines (n, "+strings.Join(list,
				", ")+", words) set "+strings.Join(sets, ", "))
		}
		// Each column is compared as the texts that the server has for both, so that types
		// without a comparison are too.
		for i, each := range append(slices.Clone(types), struct{ of, values string }{"text", ""}) {
			column := fmt.Sprintf("c%d", i)
			if i == len(types) {
				column = "words"
			}
			differs := fmt.Sprintf("a.%[1]s::text is distinct from b.%[1]s::text", column)
			if name == "mariadb" {
				differs = fmt.Sprintf("not (hex(a.%[1]s) <=> hex(b.%[1]s))", column)
			}
			got := w.must(0, "run", p,
				"select count(*), sum(case when "+differs+" then 1 else 0 end), min(case when "+differs+" then a.n end) from out_of a join into_ b on a.n = b.n",
				"--as", "bare").out
			if want := fmt.Sprintf("%d\t0\t\n", len(words)+1); got != want {
				t.Errorf("%s, %s: rows, of them different, the first: %q", name, each.of, got)
			}
		}
		// JSON has each type as what it is, and is whole.
		var read struct {
			Results []struct {
				Rows    [][]any
				Types   []string
				Columns []string
			}
		}
		must(t, json.Unmarshal([]byte(w.must(0, "run", p, "select * from out_of where n < 1000 order by n",
			"--json").out), &read))
		for i, each := range types {
			is, want := read.Results[0].Types[i+1], "text"
			of, _, _ := strings.Cut(each.of, "(")
			switch strings.TrimSuffix(of, " unsigned") {
			case "boolean":
				want = "boolean"
			case "smallint", "integer", "bigint", "numeric", "real", "double precision", "tinyint", "mediumint",
				"int", "decimal", "double", "float", "year", "oid":
				want = "number"
			case "bytea", "bit", "binary", "varbinary", "tinyblob", "blob", "longblob", "geometry", "point":
				want = "bytes"
			case "json", "jsonb":
				want = "json"
			case "integer[]", "text[]", "bytea[]", "timestamptz[]":
				want = "array"
			}
			if name == "postgres" && (of == "bit" || of == "point") {
				want = "text"
			}
			if of == "real" || of == "double precision" || of == "numeric" { // some are NaN
				continue
			}
			if is != want {
				t.Errorf("%s, %s: JSON has %q", name, each.of, is)
			}
		}
	}
}
