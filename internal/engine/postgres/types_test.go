package postgres

import (
	"fmt"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/enginetest"
)

func TestAbilities(t *testing.T) { enginetest.Abilities(t, Engine{}, &session{}) }

// TestColumns names types by their identifiers: those of values, those of arrays, and one that is
// not known.
func TestColumns(t *testing.T) {
	for oid, want := range map[uint32]engine.Column{
		20:    {Type: "bigint", Kind: engine.Integer},
		1231:  {Type: "numeric[]", Kind: engine.Array, Of: engine.Decimal, Form: arrayForm{engine.Decimal}},
		3802:  {Type: "jsonb", Kind: engine.JSON},
		1184:  {Type: "timestamp with time zone", Kind: engine.TimeWithZone},
		16384: {Kind: engine.Text},
	} {
		want.Name = "x"
		if got := columns([]pgconn.FieldDescription{{Name: "x", DataTypeOID: oid}}); len(got) != 1 || got[0] != want {
			t.Errorf("%d: %+v", oid, got)
		}
	}
	for text, want := range map[string]string{
		"{}": "[] []", "{1,NULL,-3.50}": "[1 NULL -3.50] [3]", "{{1,2},{3,4}}": "[1 2 3 4] [2 2]", "[2:3]={5,6}": "[5 6] [2]",
	} {
		elements, dimensions, err := arrayForm{engine.Decimal}.Elements(text)
		var texts []string
		for _, e := range elements {
			texts = append(texts, map[bool]string{true: "NULL", false: e.Text}[e.Null])
		}
		if got := fmt.Sprint(texts, dimensions); err != nil || got != want {
			t.Errorf("%s: %s %v", text, got, err)
		}
	}
	for _, text := range []string{"", "{", "1", "{1,2},", "{{1},{2,3}}", "[1:999999999]={1}"} {
		if elements, dimensions, err := (arrayForm{}).Elements(text); err == nil {
			t.Errorf("%q: %v %v", text, elements, dimensions)
		}
	}
	for array, of := range arrays {
		if kinds[of].Type == "" {
			t.Errorf("the array %d is of no type that is known", array)
		}
	}
}
