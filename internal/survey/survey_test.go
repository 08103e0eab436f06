package survey

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/engine"
)

// shelf is a server with rows for each list.
type shelf struct {
	columns []engine.Column
	rows    [][]string // "-" is a missing value
	scope   engine.Scope
	sight   engine.Sight
	err     error
}

func (s *shelf) Table(context.Context, string) (engine.Relation, error) {
	return engine.Relation{}, nil
}

func (s *shelf) Survey(_ context.Context, _ engine.List, scope engine.Scope, out engine.Rows) (engine.Sight, error) {
	s.scope = scope
	if s.columns != nil {
		if err := out.Columns(s.columns); err != nil {
			return s.sight, err
		}
	}
	for _, row := range s.rows {
		var cells []engine.Cell
		for _, text := range row {
			cells = append(cells, engine.Cell{Text: strings.TrimPrefix(text, "-"), Null: text == "-"})
		}
		if err := out.Row(cells); err != nil {
			return s.sight, err
		}
	}
	return s.sight, s.err
}

// texts keeps rows as texts.
type texts struct{ rows []string }

func (t *texts) Columns([]engine.Column) error { return nil }
func (t *texts) Bytes([]byte) error            { return nil }
func (t *texts) Row(cells []engine.Cell) error {
	var row []string
	for _, c := range cells {
		row = append(row, c.Text)
	}
	t.rows = append(t.rows, strings.Join(row, "|"))
	return nil
}

func columns(names ...string) (list []engine.Column) {
	for _, name := range names {
		kind := engine.Text
		if strings.HasPrefix(name, "!") {
			name, kind = name[1:], engine.Null
		}
		list = append(list, engine.Column{Name: name, Kind: kind})
	}
	return list
}

func TestPattern(t *testing.T) {
	for _, c := range []struct {
		pattern, text string
		is            bool
	}{
		{"hut", "snow_HUT_depth", true}, {"HÜT", "hüttenbuch", true}, {"hut", "h_u_t", false},
		{"hut*", "huts", true}, {"hut*", "my huts", false}, {"*hut", "my hut", true}, {"h?t", "hüt", true},
		{"h?t", "hoot", false}, {"*a*b*", "xxaxbx", true}, {"*", "", true}, {"?", "", false},
		{"a*b*c", "a-b-b-c", true},
		{"%", "x", false}, {".", "a.b", true}, {strings.Repeat("*a", 200) + "b", strings.Repeat("a", 5000), false},
	} {
		if Pattern(c.pattern)(c.text) != c.is {
			t.Errorf("%q, %q", c.pattern, c.text)
		}
	}
}

func FuzzPattern(f *testing.F) {
	f.Add("a*b?", "axbc")
	f.Fuzz(func(t *testing.T, pattern, text string) {
		if !Pattern("*"+pattern+"*")(text+pattern) && !strings.ContainsAny(pattern, "?*") &&
			strings.ToLower(pattern) == pattern {
			t.Errorf("%q is not in %q", pattern, text+pattern)
		}
	})
}

// TestTake narrows lists: by a pattern on a name, with what is before it where the pattern has a
// dot, and by a limit.
func TestTake(t *testing.T) {
	s := &shelf{sight: engine.SeesAll(), columns: columns("schema", "table", "!size", "owner"),
		rows: [][]string{{"huts", "booking", "-", "steward"}, {"huts", "bunk", "-", "steward"},
			{"cellar", "jam", "-", "booking"}}}
	for _, c := range []struct {
		r    Request
		want string
		left int64
	}{
		{Request{List: engine.ListTables}, "huts|booking||steward huts|bunk||steward cellar|jam||booking", 0},
		{Request{List: engine.ListTables, Like: "BOOK"}, "huts|booking||steward", 0},
		{Request{List: engine.ListTables, Like: "b*"}, "huts|booking||steward huts|bunk||steward", 0},
		{Request{List: engine.ListTables, Like: "huts"}, "", 0},
		{Request{List: engine.ListTables, Like: "huts.b*k"}, "huts|bunk||steward", 0},
		{Request{List: engine.ListTables, Limit: 1}, "huts|booking||steward", 2},
		{Request{List: engine.ListTables, Limit: 1, Like: "b"}, "huts|booking||steward", 1},
	} {
		out := &texts{}
		outcome, err := Take(t.Context(), s, c.r, out)
		if got := strings.Join(out.rows, " "); err != nil || got != c.want || outcome.Left != c.left ||
			outcome.Rows != int64(len(out.rows)) || !reflect.DeepEqual(outcome.Unknown, []string{"size"}) ||
			!outcome.Sight.All() {
			t.Errorf("%+v: %s %+v %v", c.r, got, outcome, err)
		}
		if wanted := s.scope.Wanted; (wanted == nil) != (c.r.Like == "") ||
			wanted != nil && wanted("bunk",
				"huts.bunk") != strings.HasPrefix(strings.TrimPrefix(c.r.Like, "huts."), "b") ||
			s.scope.Limit != int(c.r.Limit) {
			t.Errorf("%+v: %+v", c.r, s.scope)
		}
	}
	for _, c := range []struct {
		r    Request
		want string
	}{
		{Request{List: engine.ListRights}, "false "},
		{Request{List: engine.ListRights, On: engine.Relation{Name: "hut"}}, "true "},
		{Request{List: engine.ListRights, On: engine.Relation{Name: "hut"}, Of: "a"}, "false a"},
		{Request{List: engine.ListRights, On: engine.Relation{Name: "hut"}, Mine: true}, "false "},
	} {
		if _, err := Take(t.Context(), s, c.r, &texts{}); err != nil ||
			fmt.Sprint(s.scope.Everybody, " ", s.scope.Of) != c.want {
			t.Errorf("%+v: %+v %v", c.r, s.scope, err)
		}
	}
	// A row of another size is malformed; an error is handed on.
	s.rows = append(s.rows, []string{"x"})
	if _, err := Take(t.Context(), s, Request{List: engine.ListTables}, &texts{}); err == nil {
		t.Error("a short row was taken")
	}
	s.rows, s.err = nil, errors.New("gone")
	if _, err := Take(t.Context(), s, Request{List: engine.ListTables}, &texts{}); !errors.Is(err, s.err) {
		t.Errorf("%v", err)
	}
}

// TestSecretsOfLists hides values and statements that may hold a secret, and no others.
func TestSecretsOfLists(t *testing.T) {
	for _, c := range [][3]string{
		{"primary_conninfo", "host=a user=b password=canary", "[secret]"},
		{"ssl_passphrase_command", "echo canary", "[secret]"}, {"app.jwt_secret", "canary", "[secret]"},
		{"wsrep_sst_auth", "a:canary", "[secret]"}, {"report_password", "canary", "[secret]"},
		{"huts.api_token", "canary", "[secret]"}, {"aes_key", "canary", "[secret]"},
		{"x.passwd", "canary", "[secret]"},
		{"password_encryption", "scram-sha-256", "scram-sha-256"}, {"max_password_errors", "4", "4"},
		{"old_passwords", "OFF", "OFF"}, {"ssl_key_file", "/etc/key.pem", "/etc/key.pem"},
		{"report_password", "", ""}, {"strict_password_validation", "ON", "ON"}, {"work_mem", "4096", "4096"},
	} {
		cells := []engine.Cell{{Text: c[0]}, {Text: c[1]}}
		if hide(columns("setting", "value"), cells); cells[1].Text != c[2] {
			t.Errorf("%v: %s", c, cells[1].Text)
		}
	}
	for _, c := range [][2]string{{"alter user x identified by 'canary'",
		"alter … (not shown, since a password may be in it)"},
		{"ALTER ROLE x PASSWORD 'canary'", "ALTER … (not shown, since a password may be in it)"},
		{"password('canary')", "… (not shown, since a password may be in it)"}, {"select 1", "select 1"}} {
		cells := []engine.Cell{{Text: "12"}, {Text: c[0]}}
		if hide(columns("session", "statement"), cells); cells[1].Text != c[1] {
			t.Errorf("%s: %s", c[0], cells[1].Text)
		}
	}
}

// TestPage counts each list.
func TestPage(t *testing.T) {
	s := &shelf{sight: engine.SeesAll(),
		columns: columns("schema", "table", "database", "size", "tables", "superuser"),
		rows: [][]string{{"a", "x", "p", "10", "2", "true"}, {"b", "y", "q", "30", "-", "false"},
			{"c", "z", "r", "-", "5", "true"}}}
	var got []string
	if err := Page(t.Context(), s, false, func(c Counted) error {
		got = append(got, fmt.Sprint(c.Kind.List, " ", c.Outcome.Rows, " ", c.Largest, " ", c.Most, " ", c.Marked))
		return nil
	}); err != nil || strings.Join(got,
		", ") != "databases 3 q 30 0, schemas 3 c 5 0, tables 3 b.y 30 0, users 3  0 2, rights 3  0 0, settings "+
		"3  0 0, sessions 3  0 0" {
		t.Errorf("%v %v", got, err)
	}
	stop := errors.New("stop")
	if err := Page(t.Context(), s, false, func(Counted) error { return stop }); !errors.Is(err, stop) {
		t.Errorf("%v", err)
	}
}

// TestMemory compares rights with those of last time, right by right.
func TestMemory(t *testing.T) {
	m := Memory{Dir: filepath.Join(t.TempDir(), "rights")}
	about := About{Server: "1", Database: "huts", Asked: "steward", Of: "reader"}
	if last, err := m.Last(about); last != nil || err != nil {
		t.Errorf("%v %v", last, err)
	}
	before := []Right{{"reader", "read, add rows", "table hut", "directly", ""},
		{"reader", "read", "table bunk", "role a", ""}}
	now := []Right{{"reader", "read, change rows", "table hut", "directly", ""},
		{"reader", "read", "table bunk", "role b", ""}}
	when := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	if err := m.Keep(about, Remembered{when, before}); err != nil {
		t.Fatal(err)
	}
	last, err := m.Last(about)
	if err != nil || !last.When.Equal(when) || !reflect.DeepEqual(last.Rights, before) {
		t.Fatalf("%+v %v", last, err)
	}
	for _, other := range []About{{"2", "huts", "steward", "reader", ""}, {"1", "x", "steward", "reader", ""},
		{"1", "huts", "x", "reader", ""}, {"1", "huts", "steward", "x", ""},
		{"1", "huts", "steward", "reader", "system"}, {"1", "hutssteward", "", "reader", ""}} {
		if last, err := m.Last(other); last != nil || err != nil {
			t.Errorf("%+v has what is of another: %v %v", other, last, err)
		}
	}
	added, taken := Compare(last.Rights, now)
	out := &texts{}
	if err := Show(added, taken, out); err != nil ||
		strings.Join(out.rows, "\n") != "added|reader|change rows|table hut|directly|\nadded|reader|read|table "+
			"bunk|role b|\ntaken|reader|add rows|table hut|directly|\ntaken|reader|read|table bunk|role a|" {
		t.Errorf("%s", strings.Join(out.rows, "\n"))
	}
	if added, taken := Compare(now, now); added != nil || taken != nil {
		t.Errorf("%v %v", added, taken)
	}
	// A list that is too long, and a file that is none.
	if err := m.Keep(about, Remembered{when,
		[]Right{{May: strings.Repeat("x", mostRemembered)}}}); !errors.Is(err, ErrTooMany) {
		t.Errorf("%v", err)
	}
	for _, text := range []string{"", "{", "[]", `{"when":"x"}`, `{"rights":[]}`} {
		if err := os.WriteFile(m.file(about), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if last, err := m.Last(about); last != nil || err != nil {
			t.Errorf("%q: %v %v", text, last, err)
		}
	}
	info, err := os.Stat(m.file(about))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
	// What is collected is what a list has, in any order of its columns.
	r := &Rights{}
	_ = r.Columns(columns("on", "user", "may"))
	_ = r.Row([]engine.Cell{{Text: "table hut"}, {Text: "reader"}, {Text: "read"}})
	if !reflect.DeepEqual(r.List, []Right{{"reader", "read", "table hut", "", ""}}) {
		t.Errorf("%v", r.List)
	}
	for range mostLines { // a server without an end
		_ = r.Row([]engine.Cell{{Text: "table hut"}, {Text: "reader"}, {Text: "read"}})
	}
	if !r.Over || r.List != nil {
		t.Errorf("%d lines are kept", len(r.List))
	}
}
