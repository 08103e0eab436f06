package report

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
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
	p := profile.Resolve(files.World{}, "huts/local", profile.Layer{"engine": {Text: "mysql"}, "host": {Text: "127.0.0.1"}, "user": {Text: "reader"}})
	good := &checkup.Report{Profile: "huts/local", OK: true, MS: 8.6, Legs: []checkup.Leg{{Name: "settings", OK: &yes, Saw: "complete"}, {Name: "login", OK: &yes, MS: 7, Saw: "as reader"}},
		Server: &checkup.Server{Product: "MySQL", Version: "8.4", User: "reader", Account: "reader@%", Superuser: &no}, Notes: []string{"It can be guessed."},
		Expect: []checkup.Expectation{{What: "superuser: false", OK: &yes, Saw: "it is false"}, {What: "tables: x", Saw: "cannot see"}}}
	bad := &checkup.Report{Profile: "huts/#2", Exit: 5, MS: 1, Legs: []checkup.Leg{{Name: "settings", OK: &yes}, {Name: "port", OK: &no, Saw: "refused\x1b[2J"}, {Name: "query"}},
		Attempts: []checkup.Attempt{{Address: "127.0.0.2:1", Legs: []checkup.Leg{{Name: "port", OK: &no, Saw: "refused"}}}, {Address: "127.0.0.1:1"}},
		Finding:  &finding.Finding{Code: "port.refused", Leg: "port", Cause: "Nothing listens.", Seen: []string{"the system said: \u009b31m no"}, Try: []finding.Remedy{{Say: "gharbor test huts/#2 --port 2"}}}}
	return []*Tested{{Word: "huts/local", Profile: p, Report: good}, {Word: "huts/#2", Profile: p, Report: bad}, {Word: "broken", Err: errors.New("broken.yaml:1: it is\nwrong \x1b")}}
}

func TestPrintedForPeople(t *testing.T) {
	var b bytes.Buffer
	all := samples()
	Tests(&Text{To: &b}, all[:1])
	Tests(&Text{To: &b}, all[1:2])
	Tests(&Text{To: &b}, all)
	for _, part := range []string{
		"huts/local  mysql at 127.0.0.1:3306, user reader\n", "  ok      login         7.0 ms  as reader\n", "You are in, after 8.6 ms.", "unseen  tables: x: cannot see", "  note: It can be guessed.",
		"failed: 127.0.0.2:1, at the leg port (refused)", `  FAILED  port          0.0 ms  refused\x1b[2J`, "  -       query                 not reached", "finding port.refused", `· the system said: \u009b31m no`, "1. gharbor test huts/#2 --port 2",
		"3 profiles: 1 connected, 2 failed", "1 profile: Nothing listens.", "try: gharbor test huts/#2 --port 2", "FAILED  broken",
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
		if err := print(&Text{To: &b}, samples()); err != nil {
			t.Fatal(err)
		}
		text := b.String()
		if strings.ContainsAny(text, "\x1b\u009b") {
			t.Errorf("%s has raw words:\n%s", form, text)
		}
		switch form {
		case "json":
			var all struct{ Profiles []checkup.Report }
			if err := json.Unmarshal(b.Bytes(), &all); err != nil || len(all.Profiles) != 3 || all.Profiles[2].Finding.Code != "settings.unreadable" {
				t.Errorf("%v\n%s", err, text)
			}
		case "junit":
			var suite junitSuite
			if err := xml.Unmarshal(b.Bytes(), &suite); err != nil || suite.Tests != 3 || suite.Failures != 2 || suite.Cases[1].Failure.Type != "port.refused" {
				t.Errorf("%v\n%s", err, text)
			}
		case "tap":
			for _, part := range []string{"TAP version 13\n1..3\n", "ok 1 - huts/local\n", "not ok 2 - huts/\\#2\n", "  code: port.refused\n", "not ok 3 - broken\n"} {
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
	columns := []engine.Column{{Name: "name", Kind: engine.Text}, {Name: "height", Kind: engine.Integer}, {Name: "ok", Kind: engine.Boolean}, {Name: "depth", Kind: engine.Float}, {Name: "more", Kind: engine.JSON}, {Name: "photo", Kind: engine.Bytes}}
	cells := [][]engine.Cell{
		{{Text: "Greystone"}, {Text: "812"}, {Text: "true"}, {Text: "1e400"}, {Text: `{"beds": 12345678901234567890}`}, {Text: "\x00\xff"}},
		{{Text: "=1+1\x1b"}, {Null: true}, {Null: true}, {Text: "-Infinity"}, {Text: "{"}, {Null: true}},
	}
	for _, c := range []struct {
		form    string
		escapes bool
		want    string
	}{
		{"csv", false, "name,height,ok,depth,more,photo\nGreystone,812,true,1e400,\"{\"\"beds\"\": 12345678901234567890}\",AP8=\n=1+1\x1b,,,-Infinity,{,\n"},
		{"csv", true, "name,height,ok,depth,more,photo\nGreystone,812,true,1e400,\"{\"\"beds\"\": 12345678901234567890}\",AP8=\n'=1+1\x1b,,,'-Infinity,{,\n"},
		{"json", false, `{"columns":["name","height","ok","depth","more","photo"],"rows":[
  ["Greystone",812,true,1e400,{"beds":12345678901234567890},"AP8="],
  ["=1+1\u001b",null,null,"-Infinity","{",null]
],"types":["text","number","boolean","text","text","base64"]}
`},
	} {
		var out, errs bytes.Buffer
		rows := RowsAs(c.form, &Text{To: &out}, &errs, c.escapes)
		err := rows.Columns(columns)
		for _, row := range cells {
			err = errors.Join(err, rows.Row(row))
		}
		if err = errors.Join(err, rows.Done(engine.Summary{Rows: 2, Affected: -1})); err != nil || out.String() != c.want {
			t.Errorf("%s: %v\n%q", c.form, err, out.String())
		}
	}
	var out, errs bytes.Buffer
	rows := RowsAs("", &Text{To: &out}, &errs, false)
	_ = rows.Columns([]engine.Column{{Name: "x\x1b"}})
	_ = rows.Row([]engine.Cell{{Text: strings.Repeat("é", cellLimit)}})
	for range tableLimit + 5 {
		_ = rows.Row([]engine.Cell{{Text: "a\nb"}})
	}
	if err := rows.Done(engine.Summary{Rows: tableLimit + 6}); err != nil || !strings.Contains(out.String(), `a\nb`) || !strings.Contains(errs.String(), "the first 10000 of 10006 rows") || !strings.Contains(errs.String(), "cells of more than") {
		t.Errorf("%v %s", err, errs.String())
	}
	// A failure in the middle of rows leaves JSON that can be ended.
	out.Reset()
	rows = RowsAs("json", &out, &errs, false)
	_ = rows.Columns([]engine.Column{{Name: "a"}})
	_ = rows.Row([]engine.Cell{{Text: "x"}})
	var begun Cut
	if err := rows.Failed(errors.New("gone")); !errors.As(err, &begun) || begun.Error() != "gone" {
		t.Errorf("%v", err)
	}
	var any any
	if err := json.Unmarshal([]byte(out.String()+"\n]}"), &any); err != nil {
		t.Errorf("%v\n%s", err, out.String())
	}
}
