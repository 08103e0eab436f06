package report

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
)

var yes, no = true, false

// samples are a good test, a failed one, and one of a profile that cannot be read.
func samples() []*Tested {
	p := profile.Resolve(files.World{}, "huts/local",
		profile.Layer{"engine": {Text: "mysql"}, "host": {Text: "127.0.0.1"}, "user": {Text: "reader"}})
	good := &checkup.Report{Profile: "huts/local", OK: true, MS: 8.6,
		Legs: []checkup.Leg{{Name: "settings", OK: &yes, Saw: "complete"},
			{Name: "login", OK: &yes, MS: 7, Saw: "as reader"}},
		Server: &checkup.Server{Product: "MySQL", Version: "8.4", User: "reader", Account: "reader@%",
			Superuser: &no}, Notes: []string{"It can be guessed."},
		Expect: []checkup.Expectation{{What: "superuser: false", OK: &yes, Saw: "it is false"},
			{What: "tables: x", Saw: "cannot see"}}}
	bad := &checkup.Report{Profile: "huts/#2", Exit: 5, MS: 1,
		Legs: []checkup.Leg{{Name: "settings", OK: &yes}, {Name: "port", OK: &no, Saw: "refused\x1b[2J"},
			{Name: "query"}},
		Attempts: []checkup.Attempt{{Address: "127.0.0.2:1",
			Legs: []checkup.Leg{{Name: "port", OK: &no, Saw: "refused"}}}, {Address: "127.0.0.1:1"}},
		Finding: &finding.Finding{Code: "port.refused", Leg: "port", Cause: "Nothing listens.",
			Seen: []string{"the system said: \u009b31m no"},
			Try:  []finding.Remedy{{Say: "gharbor test huts/#2 --port 2"}}}}
	return []*Tested{{Word: "huts/local", Profile: p, Report: good}, {Word: "huts/#2", Profile: p, Report: bad},
		{Word: "broken", Err: errors.New("broken.yaml:1: it is\nwrong \x1b")}}
}

func TestPrintedForPeople(t *testing.T) {
	var b bytes.Buffer
	all := samples()
	Tests(&Text{To: &b}, all[:1])
	Tests(&Text{To: &b}, all[1:2])
	Tests(&Text{To: &b}, all)
	for _, part := range []string{
		"huts/local  mysql at 127.0.0.1:3306, user reader\n", "  ok      login         7.0 ms  as reader\n",
		"You are in, after 8.6 ms.", "unseen  tables: x: cannot see", "  note: It can be guessed.",
		"failed: 127.0.0.2:1, at the leg port (refused)", `  FAILED  port          0.0 ms  refused\x1b[2J`,
		"  -       query                 not reached", "finding port.refused",
		`· the system said: \u009b31m no`, "1. gharbor test huts/#2 --port 2",
		"3 profiles: 1 connected, 2 failed", "1 profile: Nothing listens.",
		"try: gharbor test huts/#2 --port 2", "FAILED  broken",
	} {
		if !strings.Contains(b.String(), part) {
			t.Errorf("%q is missing in:\n%s", part, b.String())
		}
	}
	if strings.ContainsAny(b.String(), "\x1b\u009b") {
		t.Error("raw words are printed")
	}
}

func TestPrintedForPrograms(t *testing.T) {
	for form, print := range Forms {
		var b bytes.Buffer
		must(t, print(&Text{To: &b}, samples()))
		text := b.String()
		if strings.ContainsAny(text, "\x1b\u009b") {
			t.Errorf("%s has raw words:\n%s", form, text)
		}
		switch form {
		case "json":
			var all struct{ Profiles []checkup.Report }
			if err := json.Unmarshal(b.Bytes(), &all); err != nil || len(all.Profiles) != 3 ||
				all.Profiles[2].Finding.Code != "settings.unreadable" {
				t.Errorf("%v\n%s", err, text)
			}
		case "junit":
			var suite junitSuite
			if err := xml.Unmarshal(b.Bytes(), &suite); err != nil || suite.Tests != 3 || suite.Failures != 2 ||
				suite.Cases[1].Failure.Type != "port.refused" {
				t.Errorf("%v\n%s", err, text)
			}
		case "tap":
			for _, part := range []string{"TAP version 13\n1..3\n", "ok 1 - huts/local\n",
				"not ok 2 - huts/\\#2\n", "  code: port.refused\n", "not ok 3 - broken\n"} {
				if !strings.Contains(text, part) {
					t.Errorf("%q is missing in:\n%s", part, text)
				}
			}
		}
		if err := print(full{}, samples()); err == nil {
			t.Errorf("%s: a write that fails is a success", form)
		}
	}
}

func TestRows(t *testing.T) {
	columns := []engine.Column{{Name: "name", Kind: engine.Text}, {Name: "height", Kind: engine.Integer},
		{Name: "ok", Kind: engine.Boolean}, {Name: "depth", Kind: engine.Float},
		{Name: "more", Kind: engine.JSON}, {Name: "photo", Kind: engine.Bytes}}
	cells := [][]engine.Cell{
		{{Text: "Greystone"}, {Text: "812"}, {Text: "true"}, {Text: "1e400"},
			{Text: `{"beds": 12345678901234567890}`}, {Text: "\x00\xff"}},
		{{Text: "=1+1\x1b"}, {Null: true}, {Null: true}, {Text: "-Infinity"}, {Text: "{"}, {Null: true}},
	}
	for _, c := range []struct {
		form    string
		escapes bool
		want    string
	}{
		{"csv", false, "name,height,ok,depth,more,photo\nGreystone,812,true,1e400,\"{\"\"beds\"\": " +
			"12345678901234567890}\",\\x00ff\n=1+1\x1b,,,-Infinity,{,\n\"\",,,,\"\\.\",\n"},
		{"csv", true, "name,height,ok,depth,more,photo\nGreystone,812,true,1e400,\"{\"\"beds\"\": " +
			"12345678901234567890}\",\\x00ff\n'=1+1\x1b,,,'-Infinity,{,\n\"\",,,,\"\\.\",\n"},
		{"tsv", false, "name\theight\tok\tdepth\tmore\tphoto\nGreystone\t812\ttrue\t1e400\t{\"beds\": " +
			"12345678901234567890}\t\\\\x00ff\n=1+1\x1b\t\\N\t\\N\t-Infinity\t{\t\\N\n\t\\N\t\\N\t\\N\t\\\\.\t\\N\n"},
		{"bare", false, "Greystone\t812\ttrue\t1e400\t{\"beds\": " +
			"12345678901234567890}\t\\x00ff\n=1+1\x1b\t\t\t-Infinity\t{\t\n\t\t\t\t\\.\t\n"},
		{"jsonl", false, `{"name":"Greystone","height":812,"ok":true,"depth":1e400,"more":{"beds":12345678901234567890},"photo":"\\x00ff"}
{"name":"=1+1\u001b","height":null,"ok":null,"depth":"-Infinity","more":"{","photo":null}
{"name":"","height":null,"ok":null,"depth":null,"more":"\\.","photo":null}
`},
		{"json", false, `{"results":[{"columns":["name","height","ok","depth","more","photo"],"rows":[
  ["Greystone",812,true,1e400,{"beds":12345678901234567890},"\\x00ff"],
  ["=1+1\u001b",null,null,"-Infinity","{",null],
  ["",null,null,null,"\\.",null]
],"types":["text","number","boolean","text","text","bytes"]}]}
`},
	} {
		var out, errs bytes.Buffer
		all := &Results{Form: c.form, Out: &Text{To: &out}, Errs: &errs, Formulas: c.escapes}
		rows := all.Next()
		err := rows.Columns(columns)
		for _, row := range append(slices.Clone(cells),
			[]engine.Cell{{Text: ""}, {Null: true}, {Null: true}, {Null: true}, {Text: `\.`}, {Null: true}}) {
			err = errors.Join(err, rows.Row(row))
		}
		if err = errors.Join(err, rows.Done(engine.Summary{Rows: 3, Affected: -1}),
			all.End(nil, nil)); err != nil || out.String() != c.want {
			t.Errorf("%s: %v\n%q\n%q", c.form, err, out.String(), c.want)
		}
	}
	var out, errs bytes.Buffer
	rows := (&Results{Out: &Text{To: &out}, Errs: &errs}).Next()
	_ = rows.Columns([]engine.Column{{Name: "x\x1b"}})
	_ = rows.Row([]engine.Cell{{Text: strings.Repeat("é", cellLimit)}})
	for range 5 {
		_ = rows.Row([]engine.Cell{{Text: "a\nb"}})
	}
	if err := rows.Done(engine.Summary{Rows: 6}); err != nil || !strings.Contains(out.String(), `a\nb`) ||
		!strings.Contains(errs.String(), "6 rows") || !strings.Contains(errs.String(), "cells of more than") {
		t.Errorf("%v %s", err, errs.String())
	}
	// A failure in the middle of rows, and a second result, stay JSON; a form for one result
	// refuses the second before its first row.
	out.Reset()
	all := &Results{Form: "json", Out: &out, Errs: &errs}
	rows = all.Next()
	_ = rows.Columns([]engine.Column{{Name: "a"}})
	_ = rows.Row([]engine.Cell{{Text: "x"}})
	_ = rows.Done(engine.Summary{Rows: 1, Affected: -1})
	_ = all.Next().Done(engine.Summary{Affected: 4})
	rows = all.Next()
	_ = rows.Columns([]engine.Column{{Name: "b"}})
	_ = rows.Row([]engine.Cell{{Text: "y"}})
	if err := rows.Failed(errors.New("gone")); err == nil || err.Error() != "gone" {
		t.Errorf("%v", err)
	}
	var read struct {
		Results []struct{ Columns []string }
		Finding struct{ Code string }
	}
	if err := all.End(&finding.Finding{Code: "query.closed"}, nil); err != nil ||
		json.Unmarshal(out.Bytes(), &read) != nil || len(read.Results) != 3 || read.Finding.Code != "query.closed" {
		t.Errorf("%v\n%s", err, out.String())
	}
	for _, form := range []string{"csv", "tsv", "bare", "jsonl"} {
		out.Reset()
		errs.Reset()
		all := &Results{Form: form, Out: &out, Errs: &errs, NoHeader: true, Limit: 2}
		first := all.Next()
		_ = all.Next().Done(engine.Summary{Affected: 1})
		_ = first.Columns([]engine.Column{{Name: "a"}, {Name: "a"}})
		for range 5 {
			_ = first.Row([]engine.Cell{{Text: "x"}, {Null: true}})
		}
		_ = first.Done(engine.Summary{Rows: 5, Affected: -1})
		if strings.Count(out.String(), "\n") != 2 ||
			form == "jsonl" && !strings.HasPrefix(out.String(), `{"a":"x","a (2)":null}`) ||
			!strings.Contains(errs.String(), "--limit leaves out 3 rows") {
			t.Errorf("%s: %s%s", form, out.String(), errs.String())
		}
		if err := all.Next().Columns([]engine.Column{{Name: "b"}}); !errors.Is(err, ErrSecondResult) ||
			strings.Count(out.String(), "\n") != 2 {
			t.Errorf("%s: %v %s", form, err, out.String())
		}
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
