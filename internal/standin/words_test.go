package standin

import (
	"context"
	"slices"
	"testing"
)

// TestNamesOfColumns has expressions without a name: each family names them in its own way, and a name that was given stays.
func TestNamesOfColumns(t *testing.T) {
	for engine, want := range map[string][]string{
		"postgres": {"count", "?column?", "current_user", "upper", "n", "text", "name", "coalesce", "case", "?column?", "spare", "height"},
		"mysql":    {"count(*)", "max(height) + 1", "current_user()", "upper('a, b from c')", "n", "cast(1 as char)", "cast(name as char)", "coalesce(name, (select 1))", "case when 1 then 2 end", "'x'", "spare", "height"},
	} {
		s, err := Start(Config{Engine: engine, Unlisted: true, Accounts: map[string]string{"u": "x"}})
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		user, text := "current_user", "text"
		if engine == "mysql" {
			user, text = "current_user()", "char"
		}
		r, err := s.data.run(context.Background(), identity{user: "u"}, "select count(*), max(height) + 1, "+user+", upper('a, b from c'), 1 as n, cast(1 as "+text+"), cast(name as "+text+"), coalesce(name, (select 1)), case when 1 then 2 end, 'x', 5 spare, hut.height from hut -- a, b")
		if err != nil || !slices.Equal(r.columns, want) {
			t.Errorf("%s: %q instead of %q, %v", engine, r.columns, want, err)
		}
		if r, err := s.data.run(context.Background(), identity{user: "u"}, "select *, 1 from hut"); err != nil || r.columns[1] != "name" {
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
