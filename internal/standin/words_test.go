package standin

import (
	"context"
	"slices"
	"testing"
)

// TestNamesOfColumns has expressions without a name: each family names them in its own way, and a
// name that was given stays.
func TestNamesOfColumns(t *testing.T) {
	for engine, want := range map[string][]string{
		"postgres": {"count", "?column?", "current_user", "upper", "n", "text", "name", "coalesce", "case",
			"?column?", "spare", "height"},
		"mysql": {"count(*)", "max(height) + 1", "current_user()", "upper('a, b from c')", "n",
			"cast(1 as char)", "cast(name as char)", "coalesce(name, (select 1))", "case when 1 then 2 end",
			"'x'", "spare", "height"},
	} {
		s, err := Start(Config{Engine: engine, Unlisted: true, Accounts: map[string]string{"u": "x"}})
		must(t, err)
		defer s.Close()
		user, text := "current_user", "text"
		if engine == "mysql" {
			user, text = "current_user()", "char"
		}
		r, err := s.data.run(context.Background(), identity{user: "u"},
			"select count(*), max(height) + 1, "+user+", upper('a, b from c'), 1 as n, cast(1 as "+text+"), cast(name as "+text+"), coalesce(name, (select 1)), case when 1 then 2 end, 'x', 5 spare, hut.height from hut -- a, b")
		if err != nil || !slices.Equal(r.columns, want) {
			t.Errorf("%s: %q instead of %q, %v", engine, r.columns, want, err)
		}
		if r, err := s.data.run(context.Background(), identity{user: "u"},
			"select *, 1 from hut"); err != nil || r.columns[1] != "name" {
			t.Errorf("%s: %q, %v", engine, r.columns, err)
		}
	}
	for text, want := range map[string]bool{
		"select 1": false, "select 1;": false, "select ';', \"a;b\" ; -- done; select": false, "select 1 /* ; x */ ;;": false,
		"select 1; select 2": true, "select 'it''s'; x": true,
	} {
		if several(text) != want {
			t.Errorf("several statements in %q: %v", text, !want)
		}
	}
}

// TestOnlyReads has a transaction that only reads refuse what changes something, and the next one
// not.
func TestOnlyReads(t *testing.T) {
	for _, engine := range []string{"postgres", "mysql"} {
		s, err := Start(Config{Engine: engine, Accounts: map[string]string{"warden_app": "x"}})
		must(t, err)
		defer s.Close()
		run := func(text string) error {
			_, err := s.data.run(t.Context(), identity{user: "warden_app", number: 7}, text)
			return err
		}
		for _, begin := range [][]string{{"start transaction read only"}, {"begin read only"},
			{"set transaction read only", "begin"}, {"begin", "set transaction read only"}} {
			for _, text := range begin {
				if err := run(text); err != nil {
					t.Errorf("%s: %s: %v", engine, text, err)
				}
			}
			if err := run("delete from hut"); err == nil || run("select 1") != nil || run("rollback") != nil {
				t.Errorf("%s: %v: %v", engine, begin, err)
			}
		}
		if err := run("begin"); err != nil || run("update hut set height = 1") != nil || run("commit") != nil {
			t.Errorf("%s: %v", engine, err)
		}
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
