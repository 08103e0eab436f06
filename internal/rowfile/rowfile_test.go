package rowfile

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"gentle-harbor/internal/engine"
)

// all gives the rows of a text, each field as it is, null as <null>, with the line of each row.
func all(text string, o Options) (rows []string, err error) {
	r, err := New(iotest.HalfReader(strings.NewReader(text)), o)
	if err != nil {
		return nil, err
	}
	for n := int64(1); ; n++ {
		fields, err := r.Next()
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = nil
			}
			return rows, err
		}
		row := fmt.Sprint(r.LineOf(n))
		for _, f := range fields {
			row += "|" + shown(f)
		}
		rows = append(rows, row)
	}
}

func shown(f engine.Field) string {
	if f.Null {
		return "<null>"
	}
	return string(f.Text)
}

// TestRead has a rule of the forms a line.
func TestRead(t *testing.T) {
	null := "NULL"
	for _, c := range []struct {
		o    Options
		text string
		want []string
		err  string
	}{
		{Options{Form: "csv"}, "a,b\n1,2\n", []string{"2|1|2"}, ""},
		{Options{Form: "csv"}, "a,b\r\n1,\r\n,\"\"\r\n", []string{"2|1|<null>", "3|<null>|"}, ""},
		{Options{Form: "csv"}, "\ufeffa,b\n\"x\ny\",\"q\"\"\"\n3,4", []string{"2|x\ny|q\"", "4|3|4"}, ""},
		{Options{Form: "csv", Between: ';'}, "a;b\n1,5;\";\"\n", []string{"2|1,5|;"}, ""},
		{Options{Form: "csv", NoHeader: true}, "1\n\n\"\"\n", []string{"1|1", "2|<null>", "3|"}, ""},
		{Options{Form: "csv", Null: &null}, "a,b\nNULL,\"NULL\"\n,x\n", []string{"2|<null>|NULL", "3||x"}, ""},
		{Options{Form: "csv", Columns: []string{"x", "y"}}, "a,b\n1,2\n", []string{"2|1|2"}, ""},
		{Options{Form: "csv", Columns: []string{"x"}}, "a,b\n1,2\n", nil,
			"line 1: in the header there are 2 fields, and --columns names 1"},
		{Options{Form: "csv"}, "a,b\n1,2,3\n", nil, "line 2: there are 3 fields, and 2 are wanted"},
		{Options{Form: "csv"}, "a,b\n1,2\n\"x\n\",2\n3\n", []string{"2|1|2", "3|x\n|2"},
			"line 5: there is 1 field, and 2 are wanted"},
		{Options{Form: "csv"}, "a\nx\"y\n", nil, "line 2: a quote is in the middle"},
		{Options{Form: "csv"}, "a\n\"x\"y\n", nil, "line 2: behind a field in quotes is 'y' instead of ','"},
		{Options{Form: "csv"}, "a\n1\n\"x\ny\n", []string{"2|1"}, "line 3: a quote is not closed"},
		{Options{Form: "csv"}, "a\nx\xffy\n", nil, "line 2: the byte 2 of the line is no UTF-8 (0xff)"},
		{Options{Form: "csv"}, "a\n\"x\n\xffy\"\n", nil, "line 3: the byte 1 of the line is no UTF-8"},
		{Options{Form: "csv"}, "a,a\n", nil, "line 1: the column a is there twice"},
		{Options{Form: "csv"}, "a,\n", nil, "line 1: the column 2 has no name"},
		{Options{Form: "csv"}, "", nil, "EOF"},
		{Options{Form: "tsv"}, "a\tb\n\\N\t\\\\N\n\\t\\n\\r\\\\\t\n", []string{"2|<null>|\\N", "3|\t\n\r\\|"}, ""},
		{Options{Form: "tsv"}, "a\tb\r\nx\ty\r\n", []string{"2|x|y"}, ""},
		{Options{Form: "tsv", Null: &null}, "a\nNULL\n\\N\n", []string{"2|<null>", "3|N"}, ""},
		{Options{Form: "jsonl"}, "{\"a\": 1, \"b\": \"x\\u00e9\\n\"}\n\n{\"b\": null, \"a\": {\"c\": [1, true]}}\n{}",
			[]string{"1|1|xé\n", "3|{\"c\": [1, true]}|<null>", "4|<null>|<null>"}, ""},
		{Options{Form: "jsonl", Columns: []string{"b"}}, "{\"b\": 12345678901234567890.50}\n",
			[]string{"1|12345678901234567890.50"}, ""},
		{Options{Form: "jsonl"}, "{\"a\": 1}\n{\"b\": 1}\n", []string{"1|1"},
			"line 2: the key b is not among those of the first line (a)"},
		{Options{Form: "jsonl"}, "{\"a\": 1}\n{\"a\": 1, \"a\": 2}\n", []string{"1|1"}, "line 2: the key a is there twice"},
		{Options{Form: "jsonl"}, "[1]\n", nil, "line 1: the line is no JSON object"},
		{Options{Form: "jsonl"}, "{\"a\": 1} {\"a\": 2}\n", nil, "line 1: the line has more than one object"},
		{Options{Form: "jsonl"}, "{\"a\": \"" + strings.Repeat("x", 300_000) + "\"}\n",
			[]string{"1|" + strings.Repeat("x", 300_000)}, ""},
	} {
		got, err := all(c.text, c.o)
		if !slices.Equal(got, c.want) || (err == nil) != (c.err == "") ||
			err != nil && !strings.HasPrefix(err.Error(), c.err) {
			t.Errorf("%+v %.60q: %.200q, %v", c.o, c.text, got, err)
		}
	}
	r, _ := New(io.MultiReader(strings.NewReader("a\n\""), endless{}), Options{Form: "csv"})
	if _, err := r.Next(); err == nil || !strings.Contains(err.Error(), "larger than 64MB") {
		t.Error(err)
	}
}

type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'a'
	}
	return len(p), nil
}

// TestFormOf takes the form from a file's name.
func TestFormOf(t *testing.T) {
	for name, want := range map[string]string{"a.csv": "csv", "a.TSV.gz": "tsv", "/b/c.jsonl": "jsonl",
		"a.gz": "", "csv": "", "-": ""} {
		if got := FormOf(name); got != want {
			t.Errorf("%s: %q", name, got)
		}
	}
}

// FuzzCSV reads what the standard library reads, in the same way, and is as strict: what it
// refuses, that refuses; and lines are where rows begin.
func FuzzCSV(f *testing.F) {
	for _, seed := range []string{"a,b\n1,2\n", "\"x\ny\",\"\"\n", "a\"b\n", "\"a\"b\n", "\r\n", ",,\n", "\"",
		"a\r\n\"b\r\nc\"\r\n", "\xff"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		text = strings.TrimPrefix(text, "\ufeff")
		r, err := New(strings.NewReader(text), Options{Form: "csv", NoHeader: true})
		if err != nil {
			return
		}
		theirs := csv.NewReader(strings.NewReader(text))
		theirs.FieldsPerRecord = -1
		for n := int64(1); ; n++ {
			fields, err := r.Next()
			if err != nil {
				if n > 1 && len(text) > 0 && r.LineOf(n-1) > int64(strings.Count(text, "\n"))+1 {
					t.Fatalf("%q: line %d", text, r.LineOf(n-1))
				}
				return // what is no UTF-8, theirs takes
			}
			if len(fields) == 1 && fields[0].Null { // theirs passes empty lines over
				continue
			}
			record, err := theirs.Read()
			if err != nil {
				t.Fatalf("%q: row %d is read here, and there is %v", text, n, err)
			}
			for i, each := range record {
				ours := strings.ReplaceAll(string(fields[i].Text), "\r\n", "\n") // theirs drops it
				if len(record) != len(fields) || ours != each {
					t.Fatalf("%q: row %d: %q there, %+v here", text, n, record, fields)
				}
			}
		}
	})
}

// FuzzRows reads any text in each form without an end that it should not have.
func FuzzRows(f *testing.F) {
	f.Add("a\tb\n\\N\t\\", byte(1))
	f.Add("{\"a\": [{}]}\n{", byte(2))
	f.Fuzz(func(t *testing.T, text string, form byte) {
		r, err := New(strings.NewReader(text), Options{Form: Forms[int(form)%3]})
		for n := int64(1); err == nil; n++ {
			var fields []engine.Field
			if fields, err = r.Next(); err == nil &&
				(len(fields) != len(r.Columns()) || r.LineOf(n) < 1 || n > int64(len(text))+1) {
				t.Fatalf("%q: %+v", text, fields)
			}
		}
	})
}
