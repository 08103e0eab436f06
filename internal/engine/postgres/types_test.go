package postgres

import (
	"testing"

	"github.com/jackc/pgx/v5/pgconn"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/enginetest"
)

func TestAbilities(t *testing.T) { enginetest.Abilities(t, Engine{}, &session{}) }

// TestColumns names types by their identifiers: those of values, those of arrays, and one that is not known.
func TestColumns(t *testing.T) {
	for oid, want := range map[uint32]engine.Column{
		20: {Type: "bigint", Kind: engine.Integer}, 1231: {Type: "numeric[]", Kind: engine.Array}, 3802: {Type: "jsonb", Kind: engine.JSON}, 1184: {Type: "timestamp with time zone", Kind: engine.TimeWithZone},
		16384: {Kind: engine.Text},
	} {
		want.Name = "x"
		if got := columns([]pgconn.FieldDescription{{Name: "x", DataTypeOID: oid}}); len(got) != 1 || got[0] != want {
			t.Errorf("%d: %+v", oid, got)
		}
	}
	for array, of := range arrays {
		if kinds[of].Type == "" {
			t.Errorf("the array %d is of no type that is known", array)
		}
	}
}
