//go:build unix

package main

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
)

// loadWorld has an empty table of each type in a real server, and a profile for it.
func loadWorld(t *testing.T, name string) (w *world, p string) {
	t.Helper()
	w, p = ownDatabase(t, name, "loaded")
	types := map[string]string{"postgres": "n int primary key, name text, height numeric(6, 1), ok int not null " +
		"default 1, day date, at timestamp, photo bytea, more json",
		"mariadb": "n int auto_increment primary key, name varchar(40), height decimal(6, 1), ok int not null " +
			"default 1, day date, at datetime, photo blob, more json"}[name]
	w.must(0, "run", p, "create table hut ("+types+")"+map[string]string{"mariadb": " default charset utf8mb4"}[name])
	return w, p
}

// TestLoad puts what run writes into a table again: each form, packed too, comes back as it was.
func TestLoad(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"postgres", "mariadb"} {
		w, p := loadWorld(t, name)
		binary := map[string]string{"postgres": `'\x00ff5c'::bytea`, "mariadb": "x'00ff5c'"}[name]
		w.must(0, "run", p, map[string]string{"postgres": "",
			"mariadb": "set sql_mode = 'no_auto_value_on_zero';"}[name]+"insert into hut values (0, "+
			"'Greystone', 812.5, 1, '2026-02-14', '2026-02-14 18:30:05', "+binary+", '{\"a\":[1,\"x;\"]}'), (1, "+
			"'', null, 2, null, null, null, null)")
		w.must(0, "run", p, "insert into hut (n, name) values (2, {{odd}}), (3, {{more}})",
			"--let", "odd=it's; \"a\" \\N, \\t \t and\r\nü 山 \\", "--let", "more=,")
		was := w.must(0, "run", p, "select * from hut order by n", "--as", "csv").out
		for _, form := range []string{"csv", "tsv", "jsonl"} {
			file := w.write("huts."+form, w.must(0, "run", p, "select * from hut order by n", "--as", form).out)
			r := w.must(0, "load", p, "hut", file, "--empty-first")
			if r.out != "4 rows loaded into hut\n" {
				t.Errorf("%s: %q", form, r.out)
			}
			if is := w.must(0, "run", p, "select * from hut order by n", "--as", "csv").out; is != was {
				t.Errorf("%s, %s: it was\n%s\nand is\n%s", name, form, was, is)
			}
			var packed bytes.Buffer
			z := gzip.NewWriter(&packed)
			_, _ = z.Write([]byte(w.must(0, "run", p, "select * from hut where n < 2", "--as", form).out))
			must(t, z.Close())
			w.must(7, "load", p, "hut", w.write("huts."+form+".gz", packed.String())) // each key is there
			w.must(0, "run", p, "delete from hut where n < 2")
			w.must(0, "load", p, "hut", w.write("huts."+form+".gz", packed.String()))
			w.stdin = w.must(0, "run", p, "select * from hut", "--as", form).out
			w.must(0, "load", p, "hut", "-", "--as", form, "--empty-first", "--json")
			w.stdin = ""
			if is := w.must(0, "run", p, "select * from hut order by n", "--as", "csv").out; is != was {
				t.Errorf("%s, %s: it was\n%s\nand is\n%s", name, form, was, is)
			}
		}
		// The other ways to write a file, and to say which columns it has.
		for _, c := range []struct {
			text string
			args []string
			want string
		}{
			{"\ufeffname;n\r\n\"a;\r\n\"\"b\"\"\";11\r\n", []string{"--between", ";"}, "11\ta;\r\n\"b\"\t\n"},
			{"12,c\n13,NULL\n", []string{"--columns", "n,name", "--no-header", "--null", "NULL"}, "12\tc\t\n13\t\t\n"},
			{"first,second\n14,\"\"\n15,\n", []string{"--columns", "n,name"}, "14\t\t\n15\t\t\n"},
			{"16,d,1.5,2,2026-01-02,2026-01-02 03:04:05,,\n", []string{"--no-header"}, "16\td\t1.5\n"},
			{"n\n17", nil, "17\t\t\n"},
		} {
			w.must(0, append([]string{"load", p, "hut", w.write("more.csv", c.text), "--empty-first"}, c.args...)...)
			if got := w.must(0, "run", p, "select n, name, height from hut order by n", "--as", "bare").out; got != c.want {
				t.Errorf("%s: %q: %q instead of %q", name, c.text, got, c.want)
			}
		}
		w.must(0, "load", p, "hut", w.write("more.jsonl",
			"{\"n\": 21, \"name\": \"x\\ny\", \"more\": {\"a\": [1]}}\n\n{\"name\": null, \"n\": 22}\n"))
		// Nothing in it.
		has(t, w.must(0, "load", p, "hut", w.write("none.csv", "")).err, "none.csv has no rows")
		has(t, w.must(0, "load", p, "hut", w.write("none.csv", "n,name\n")).err, "none.csv has no rows")
		has(t, w.must(3, "load", p, "hut", w.write("none.csv", "n,nmae\n")).err, "did you mean name?")
		w.must(3, "load", "nobody", "hut", w.write("none.csv", ""))
		has(t, w.must(3, "load", p, "hut", w.write("none.csv", "n,name\n"), "--empty-first").err,
			"would leave the table empty: nothing was done")
	}
}

// TestLoadNamesTheRow has one row that does not fit at the end of a file: it is named, and
// nothing stays, with any mistake in it.
func TestLoadNamesTheRow(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"postgres", "mariadb"} {
		w, p := loadWorld(t, name)
		w.must(0, "run", p, "insert into hut (n, name) values (1, 'there'); create table other (n int primary "+
			"key, height int, constraint few check (height < 3000))")
		good := ""
		for i := range 5000 {
			good += fmt.Sprintf("%d,\"a\nhut\",%d.5,1\n", i+10, i%3000)
		}
		long := strings.Repeat("x", 41)
		type mistake struct {
			row, column, value, wanted string
			code                       int
		}
		cases := []mistake{
			{"9000,a,high,1", "height", "high",
				map[string]string{"postgres": "numeric(6,1)", "mariadb": "decimal(6,1)"}[name], 7},
			{"9000,a,123456789,1", "height", "", "", 7}, {"11,again,1,1", "", "", "", 7},
			{"9000,a,1,", "ok", "", "", 7}, {"nine,a,1,1", "n", "nine", "", 7},
			{"9000,a,1", "", "", "", 3}, {"9000,a,1,1,1", "", "", "", 3}, {"9000,\"a,1,1", "", "", "", 3},
			{"9000,a\"b,1,1", "", "", "", 3}, {"9000,\xff,1,1", "", "", "", 3},
		}
		if name == "mariadb" {
			cases = append(cases, mistake{"9000," + long + ",1,1", "name", long, "varchar(40)", 7},
				mistake{"9000,a,1.26,1", "height", "1.26", "", 7})
		}
		for _, c := range cases {
			file := w.write("huts.csv", "n,name,height,ok\n"+good+c.row+"\n")
			r := w.must(c.code, "load", p, "hut", file)
			has(t, r.err, "huts.csv, line 10002", "Nothing was loaded")
			if c.column != "" {
				has(t, r.err, "the column "+c.column)
			}
			if c.value != "" {
				has(t, r.err, fmt.Sprintf("has %q", c.value))
			}
			if c.wanted != "" {
				has(t, r.err, "its type is "+c.wanted)
			}
			if got := w.must(0, "run", p, "select n, name from hut", "--as", "bare").out; got != "1\tthere\n" {
				t.Fatalf("%s: %s: %.200q", name, c.row, got)
			}
		}
		r := w.must(7, "load", p, "hut", w.write("huts.csv", "n,name,height,ok\n10,b,2,1\n11,c,tall,1\n"),
			"--empty-first", "--json")
		var read struct {
			Rows    int
			Finding struct{ Code string }
			At      struct {
				Line                  int
				Column, Value, Wanted string
			}
		}
		must(t, json.Unmarshal([]byte(r.out), &read))
		if read.At.Line != 3 || read.At.Column != "height" || read.At.Value != "tall" ||
			read.Finding.Code != "query.wrong-type" {
			t.Errorf("%s: %s", name, r.out)
		}
		if got := w.must(0, "run", p, "select n, name from hut", "--as", "bare").out; got != "1\tthere\n" {
			t.Errorf("%s: --empty-first was kept: %q", name, got)
		}
		// A value of each type that is none.
		for column, value := range map[string]string{"day": "2026-02-30", "at": "yesterday noon", "more": "{",
			"n": "1.5", "ok": "99999999999"} {
			file := w.write("types.csv", "ok,"+column+"\n1,\""+value+"\"\n")
			if column == "ok" {
				file = w.write("types.csv", "n,ok\n1000,"+value+"\n")
			}
			r := w.must(7, "load", p, "hut", file)
			has(t, r.err, "types.csv, line 2", "Nothing was loaded")
		}
		has(t, w.must(7, "load", p, "other", w.write("o.csv", "n,height\n1,2\n2,4000\n")).err,
			"o.csv, line 3 was not taken", "query.constraint")
		// Names.
		has(t, w.must(3, "load", p, "hutt", w.write("huts.csv", "n\n1\n")).err,
			"there is no table hutt that this user can see; did you mean hut?")
		has(t, w.must(3, "load", p, "hut", w.write("huts.csv", "n,heigth\n1,1\n")).err,
			"huts.csv, line 1: the table hut has no column heigth; did you mean height?")
		has(t, w.must(3, "load", p, "hut", w.write("huts.csv", "n;name\n1;a\n")).err, "say which: --between \";\"")
		has(t, w.must(3, "load", p, "hut", w.write("huts.csv", "n,n\n1,1\n")).err, "the column n is there twice")
		has(t, w.must(3, "load", p, "hut", w.write("huts.csv", "n,\n1,1\n")).err, "the column 2 has no name")
		has(t, w.must(3, "load", p, "hut", w.write("huts.jsonl", "{\"n\": 1}\n{\"n\": 2, \"nmae\": 3}\n")).err,
			"huts.jsonl, line 2: the key nmae is not among those of the first line (n)")
		has(t, w.must(3, "load", p, "hut", w.write("huts.jsonl", "{\"n\": 1}\n{\"n\": 2\n")).err,
			"huts.jsonl, line 2: the line is no JSON object")
		has(t, w.must(3, "load", p, "hut", "nowhere.csv").err, "could not be read")
		for _, args := range [][]string{{"load", p, "hut", "x.txt"},
			{"load", p, "hut", "x.tsv", "--between", ";"}, {"load", p, "hut", "x.csv", "--between", ";;"},
			{"load", p, "hut", "x.jsonl", "--no-header"}, {"load", p, "hut", "x.csv", "--as", "xml"},
			{"load", p, "hut"}, {"load", p, "hut", "x.csv", "--columns", "a,a"}} {
			w.must(2, args...)
		}
		// The guard.
		file := w.write("huts.csv", "n\n5\n")
		has(t, w.must(7, "load", p, "hut", file, "--guard", "read-only").err, "the guard is read-only")
		has(t, w.must(2, "load", p, "hut", file, "--guard", "confirm", "--port", "1").err, "--yes")
		w.must(0, "load", p, "hut", file, "--guard", "confirm", "--yes")
		q := w.sit("load", p, "hut", file, "--empty-first")
		q.Answers("Run it? (yes, no) [no]", "no")
		if code, _ := q.Ends(); code != 7 || !strings.Contains(q.Screen(), "delete without where, as ") {
			t.Errorf("exit %d\n%s", code, q.Screen())
		}
	}
}

// TestLoadOfMariaDB refuses a table that cannot take changes back, and inserts where the server
// reads no local files.
func TestLoadOfMariaDB(t *testing.T) {
	w, p := loadWorld(t, "mariadb")
	w.must(0, "run", p, "create table kept (n int) engine = aria transactional = 0")
	file := w.write("huts.csv", "n,name,photo\n1,a,\\x00ff\n2,\"it's \\ b\",\n")
	has(t, w.must(7, "load", p, "kept", w.write("n.csv", "n\n1\n")).err, "query.not-undoable", "Aria")
	w.must(0, "run", p, "set global local_infile = 0")
	defer w.must(0, "run", p, "set global local_infile = 1")
	w.must(0, "load", p, "hut", file)
	if got := w.must(0, "run", p, "select n, name, hex(photo) from hut order by n",
		"--as", "bare").out; got != "1\ta\t00FF\n2\tit's \\ b\t\n" {
		t.Errorf("%q", got)
	}
	has(t, w.must(7, "load", p, "hut", file).err, "huts.csv, line 2 was not taken", "query.constraint")
	has(t, w.must(7, "load", p, "hut", w.write("huts.csv", "n,height\n8,1\n9,tall\n")).err,
		"huts.csv, line 3 was not taken: the column height has \"tall\", and its type is decimal(6,1)")
}

// TestLoadIsInterrupted has a load wait for more rows at Ctrl-C: it ends, and nothing stays.
func TestLoadIsInterrupted(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"postgres", "mariadb"} {
		w, p := loadWorld(t, name)
		cmd := w.command("load", p, "hut", "-", "--as", "csv")
		in, err := cmd.StdinPipe()
		must(t, err)
		var said buffer
		cmd.Stderr = &said
		must(t, cmd.Start())
		_, err = io.WriteString(in, "n,name\n"+strings.Repeat("1,x\n", 1)+"2,y\n")
		must(t, err)
		for i := 3; i < 200_000; i++ {
			if _, err = fmt.Fprintf(in, "%d,hut\n", i); err != nil {
				t.Fatal(err)
			}
		}
		must(t, cmd.Process.Signal(os.Interrupt))
		_ = cmd.Wait()
		if cmd.ProcessState.ExitCode() != 130 {
			t.Errorf("%s: exit %d\n%s", name, cmd.ProcessState.ExitCode(), said.String())
		}
		has(t, said.String(), "The load was interrupted: nothing of it stays")
		eventually(t, "the server has undone it", func() bool {
			return w.must(0, "run", p, "select count(*) from hut", "--as", "bare").out == "0\n"
		})
		w.must(0, "run", p, "truncate hut") // nobody holds it
	}
}
