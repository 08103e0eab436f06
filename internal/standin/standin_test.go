package standin

import (
	"context"
	"errors"
	"testing"
)

// TestProblems gives each mistake the codes that real servers have for it, so that a missing
// column is no missing table.
func TestProblems(t *testing.T) {
	s, err := Start(Config{Engine: "postgres", Accounts: map[string]string{"u": "x"}})
	must(t, err)
	defer s.Close()
	d, err := openData(s)
	must(t, err)
	defer d.close()
	for statement, want := range map[string]struct {
		state  string
		number uint16
		words  string
	}{
		"select * from valley":               {"42P01", 1146, `the practice data has no table "valley"`},
		"select depth from hut":              {"42703", 1054, `the practice data has no column "depth" there`},
		"insert into hut (depth) values (1)": {"42703", 1054, `the practice data has no column "depth" there`},
		"select fly(1)":                      {"42883", 1305, `this practice server has no function "fly"`},
		"selec name from hut": {"42601", 1064,
			`this practice server does not understand the statement at "selec"`},
		"select name from hut where (":               {"42601", 1064, "the statement ends too early"},
		"create table hut (a int)":                   {"42P07", 1050, `the practice data has "hut" already`},
		"insert into hut values (1, 'a', 1, 'b')":    {"23505", 1062, `the practice data has that value of "hut.id" already`},
		"insert into hut values (9, null, 1, 'b')":   {"23502", 1048, `the column "hut.name" needs a value`},
		"select id from hut, bunk where id = hut_id": {"42702", 1052, `several tables of the statement have a column "id"`},
	} {
		_, err := d.run(context.Background(), identity{user: "u"}, statement)
		if err == nil {
			t.Errorf("%s: it is carried out", statement)
			continue
		}
		if state, number, words := problem(err); state != want.state || number != want.number || words != want.words {
			t.Errorf("%s: %s %d %s (%v)", statement, state, number, words, err)
		}
	}
	if state, number, words := problem(errors.New("disk I/O error")); state != "XX000" || number != 1105 ||
		words == "disk I/O error" {
		t.Errorf("%s %d %s", state, number, words)
	}
}
