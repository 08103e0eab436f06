package mongodb

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/enginetest"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/standin"
)

// TestSort says of commands what they do, and in which way they take a lot away.
func TestSort(t *testing.T) {
	for text, want := range map[string]string{
		`{"find": "a"}`: "reads", ` {"find": {"$gharbor":1}}`: "reads",
		`{"aggregate": "a", "pipeline": [{"$match": {"x": "$out"}}]}`: "reads",
		`{"explain": {"count": "a"}}`:                                 "reads",
		`{"aggregate": "a", "pipeline": [{"$out": "b"}]}`:             "changes by $out",
		`{"\u0066ind": "a", "x": {"\u0024merge": 1}}`:                 "changes by $merge",
		`{"explain": {"update": "a"}}`:                                "changes by explain of update",
		`{"explain": 1, "verbosity": {"find": 1}}`:                    "changes by explain of ",
		`{"explain": [{"find": 1}]}`:                                  "changes by explain of ",
		`{"find": "a"`:                                                "changes by find", `{}`: "changes by ",
		``: "changes by ", `x`: "changes by ",
		`{"drop": "a"}`: "changes by drop, destroys by drop", `{"mapReduce": "a"}`: "changes by mapReduce",
		`{"delete": "a", "deletes": [{"q": {"x": 1}}, {"q": {}}]}`: "changes by delete, destroys by delete of every document",
		`{"delete": "a", "deletes": 1}`:                            "changes by delete",
		`{"update": "a", "updates": [{"q": {}, "multi": true}]}`:   "changes by update, destroys by update of every document",
		`{"update": "a", "updates": [{"q": {}}]}`:                  "changes by update",
	} {
		s := language.Sort(text)
		got := "reads"
		if s.Effect != engine.Reads {
			got = "changes by " + s.Why
		}
		if s.Destroys != "" {
			got += ", destroys by " + s.Destroys
		}
		if got != want {
			t.Errorf("%s: %s instead of %s", text, got, want)
		}
	}
}

// TestValues has each kind of value as what it becomes, in Extended JSON.
func TestValues(t *testing.T) {
	for _, c := range []struct {
		kind       engine.Kind
		text, want string
	}{
		{engine.Text, `a"}, {"$out": 1`, `"a\"}, {\"$out\": 1"`}, {engine.Integer, "7", `{"$numberInt":"7"}`},
		{engine.Integer, "-3000000000", `{"$numberLong":"-3000000000"}`},
		{engine.Decimal, "2310.50", `{"$numberDecimal":"2310.50"}`}, {engine.Boolean, "true", "true"},
		{engine.Bytes, "\x00\xff", `{"$binary":{"base64":"AP8=","subType":"00"}}`},
		{engine.Date, "2026-11-20", `{"$date":{"$numberLong":"1795132800000"}}`},
		{engine.Timestamp, "2026-11-20 18:30:05.25", `{"$date":{"$numberLong":"1795199405250"}}`},
		{engine.Timestamp, "2026-11-20 18:30+02", `{"$date":{"$numberLong":"1795192200000"}}`},
		{engine.Timestamp, "2026-11-20 18:30:00+02:00", `{"$date":{"$numberLong":"1795192200000"}}`},
		{engine.Null, "", "null"}, {engine.JSON, `{"$oid": "6b0ed46abc3069a0c23e5b15"}`,
			`{"$oid":"6b0ed46abc3069a0c23e5b15"}`},
		{engine.JSON, `[1, {"$gt": 2.5}]`, `[{"$numberInt":"1"},{"$gt":{"$numberDouble":"2.5"}}]`},
		{engine.JSON, `{"a": [{"$merge": 1}]}`, ""}, {engine.JSON, `{"$oid": "no"}`, ""},
		{engine.JSON, `1}, "x": {"y": 1`, ""}, {engine.Integer, strings.Repeat("9", 30), ""},
		{engine.Time, "18:30", ""},
		{engine.JSON, strings.Repeat("[", 300) + strings.Repeat("]", 300), ""},
	} {
		of := engine.Statement{Text: `{"find": "hut", "filter": {"x": ` + language.Place(1) + `}}`,
			Values: []engine.Value{{Name: "x", Kind: c.kind, Text: c.text}}}
		command, err := compose(of)
		if c.want == "" {
			if p := problem(err); p == nil || p.Code != finding.QueryNotSent {
				t.Errorf("%s %s: %v", c.kind, c.text, err)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s %s: %v", c.kind, c.text, err)
			continue
		}
		written, _ := bson.MarshalExtJSON(command, true, false)
		if want := `{"find":"hut","filter":{"x":` + c.want + `}}`; string(written) != want {
			t.Errorf("%s %s: %s instead of %s", c.kind, c.text, written, want)
		}
	}
	for _, text := range []string{"", "{}", `{"ping": 1, "a\u0000b": 1}`, "[]", "1", `{"a": {"$oid": 1}}`,
		`{"a": {"$gharbor": 1}}`,
		strings.Repeat(`{"a":`, 250) + "1" + strings.Repeat("}", 250),
		`{"a": "` + strings.Repeat("x", mostCommand) + `"}`} {
		if _, err := compose(engine.Statement{Text: text, Values: nil}); problem(err) == nil &&
			!strings.Contains(text, engine.PlaceName) {
			t.Errorf("%.40s: %v", text, err)
		}
	}
	if _, err := compose(engine.Statement{Text: `{"$gharbor": 1}`,
		Values: []engine.Value{{Kind: engine.Text, Text: "x"}}}); problem(err) == nil {
		t.Error("a value as a command")
	}
	if _, err := compose(engine.Statement{Text: `{"a": {"$gharbor": 2}}`,
		Values: []engine.Value{{Kind: engine.Null}}}); problem(err) == nil {
		t.Error("a place without a value")
	}
}

// TestMembers takes documents apart.
func TestMembers(t *testing.T) {
	list, err := documents{}.Members(`{"_id":{"$oid":"6b0e"},"a":1,"b":1.5,"c":null,"d":true,"e":"x\"y","f":[1,2],"g":{"h":1},"i":{"$date":"2026-11-20T00:00:00Z"},"j":{"$numberDecimal":"2.50"},"k":{"$date":{"$numberLong":"1"}},"l":1e3}`)
	var got []string
	for _, m := range list {
		got = append(got, fmt.Sprintf("%s %s %s", m.Name, m.Own, m.Text))
	}
	want := []string{"_id text 6b0e", "a integer 1", "b float 1.5", "c null ", "d boolean true", `e text x"y`,
		"f json [1,2]", `g json {"h":1}`, "i time with zone 2026-11-20T00:00:00Z", "j decimal 2.50",
		`k json {"$date":{"$numberLong":"1"}}`, "l float 1e3"}
	if err != nil || !slices.Equal(got, want) || !list[3].Null {
		t.Errorf("%q %v", got, err)
	}
	for _, text := range []string{"", "{", `{"a"`, `{"a":`} {
		if list, err := (documents{}).Members(text); err == nil {
			t.Errorf("%q: %v", text, list)
		}
	}
}

// rows does something at its n-th row.
type rows struct {
	nowhere
	n  int
	at func(n int) error
}

func (r *rows) Row([]engine.Cell) error { r.n++; return r.at(r.n) }

// TestCursorsAreClosed ends a command in the middle, by Ctrl-C and by whoever takes the rows: the
// server is told that no more is wanted, and the session can go on.
func TestCursorsAreClosed(t *testing.T) {
	s := practice(t, standin.Config{})
	for name, ends := range map[string]func(cancel func()) error{"Ctrl-C": func(cancel func()) error {
		cancel()
		return nil
	}, "no more is taken": func(func()) error { return errors.New("no more") }} {
		opened, err := Engine{}.Open(t.Context(), enginetest.On(dial(t, s), enginetest.Given(engine.Line{})),
			usual, func(string, string) {})
		must(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		r := &rows{at: func(n int) error {
			if n == 2 {
				return ends(cancel)
			}
			return nil
		}}
		summary, err := opened.(engine.Runner).Run(ctx, engine.Statement{Text: `{"find": "hut", "batchSize": 1}`}, r)
		if err == nil || r.n != 2 || summary.Rows != 2 || errors.Is(err, engine.ErrGoesOn) {
			t.Errorf("%s: %d rows, %v", name, r.n, err)
		}
		if s.Lists() != 0 {
			t.Errorf("%s: %d cursors are open", name, s.Lists())
		}
		if err := opened.Ask(t.Context()); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		cancel()
		opened.Close()
	}
}

// TestInterrupted ends a command whose server says nothing: newer servers end it, older ones may
// go on.
func TestInterrupted(t *testing.T) {
	for version, goesOn := range map[int32]bool{21: false, 7: true} {
		client, server := net.Pipe()
		defer server.Close()
		go func() { // it takes what it gets
			b := make([]byte, 1<<10)
			for {
				if _, err := server.Read(b); err != nil {
					return
				}
			}
		}()
		s := &session{wire: &wire{conn: client, met: true}, login: usual, greeting: greeting{Newest: version},
			patience: 10 * time.Millisecond}
		ctx, cancel := context.WithCancel(t.Context())
		time.AfterFunc(20*time.Millisecond, cancel)
		began := time.Now()
		_, err := s.Run(ctx, engine.Statement{Text: `{"ping": 1}`}, nowhere{})
		if p := new(finding.Problem); !errors.As(err, &p) || errors.Is(err, engine.ErrGoesOn) != goesOn ||
			time.Since(began) > answered {
			t.Errorf("%d: %v after %s", version, err, time.Since(began))
		}
	}
}

// TestPlaces says in which database a command runs.
func TestPlaces(t *testing.T) {
	for _, c := range []struct{ text, open, accounts, want string }{
		{`{"find": "a"}`, "bunkhouse", "", "bunkhouse"}, {`{"find": "a"}`, "", "", "no database is open"},
		{`{"ping": 1}`, "", "", "admin"}, {`{"ping": 1}`, "bunkhouse", "", "bunkhouse"},
		{`{"listDatabases": 1}`, "bunkhouse", "", "admin"}, {`{"usersInfo": 1}`, "bunkhouse", "keys", "keys"},
		{`{"createUser": "x"}`, "bunkhouse", "", "admin"},
		{`{"find": "a", "$db": "b"}`, "bunkhouse", "", "--database b"},
	} {
		command, err := compose(engine.Statement{Text: c.text})
		must(t, err)
		s := &session{login: engine.Login{Database: c.open}, accounts: c.accounts}
		got, err := s.place(command)
		if p := problem(err); p != nil {
			got = p.Facts[finding.FactWhat]
		}
		if !strings.Contains(got, c.want) || got == "" {
			t.Errorf("%s in %q: %s", c.text, c.open, got)
		}
	}
}

// FuzzCommand has no text of a command, and no value, end in a panic, in another number of
// values, or in a read that writes.
func FuzzCommand(f *testing.F) {
	for _, seed := range []string{`{"find": "hut"}`, `{"a": {"$gharbor": 1}}`,
		`{"a": {"$date": {"$numberLong": "1"}}}`, `{"a": {"$binary": {"base64": "AA==", "subType": "04"}}}`,
		`{"explain": {"find": "a"}}`, `{"aggregate": 1, "pipeline": [{"$out": 1}]}`} {
		f.Add(seed, `{"$oid": "6b0ed46abc3069a0c23e5b15"}`)
	}
	f.Fuzz(func(t *testing.T, text, value string) {
		of := engine.Statement{Text: text}
		if json.Valid([]byte(value)) {
			of.Values = []engine.Value{{Name: "x", Kind: engine.JSON, Text: value}}
		}
		command, err := compose(of)
		if err != nil {
			if problem(err) == nil {
				t.Errorf("%v is no finding", err)
			}
			return
		}
		written, err := bson.MarshalExtJSON(command, true, false)
		if err != nil {
			return // what cannot be written is not sent
		}
		if language.Sort(text).Effect != engine.Reads {
			return
		}
		if names, _, _ := namesIn(string(written)); slices.ContainsFunc(names, func(n string) bool {
			return slices.Contains(writes, n)
		}) {
			t.Errorf("a read writes: %s", written)
		}
		if names, _, _ := namesIn(string(written)); len(names) == 0 || !slices.Contains(reads, names[0]) {
			t.Errorf("another command: %s", written)
		}
	})
}

// TestGreets has the greeting that is written out be the document that it stands for.
func TestGreets(t *testing.T) {
	body, err := bson.Marshal(bson.D{{Key: "hello", Value: 1}, {Key: "$db", Value: "admin"}})
	if err != nil || string(body) != greets {
		t.Errorf("%q instead of %q: %v", greets, body, err)
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
