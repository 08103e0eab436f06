package mysql

import (
	"slices"
	"testing"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/enginetest"
)

func TestAbilities(t *testing.T) {
	for _, e := range []Engine{{}, {MariaDB: true}} {
		enginetest.Abilities(t, e, &session{})
	}
}

func TestColumns(t *testing.T) {
	got := columns([]string{"a", "b", "c", "d", "e", "f", "g"},
		[]string{"UNSIGNED BIGINT", "VARCHAR", "DECIMAL", "LONGTEXT", "VARBINARY", "VARBINARY", "CHAR"},
		[]field{{}, {charset: 45}, {charset: 63}, {charset: 46, json: true}, {charset: 2111}, {charset: 63},
			{charset: 33, typeName: "UUID"}})
	want := []engine.Column{{Name: "a", Type: "UNSIGNED BIGINT", Kind: engine.Integer},
		{Name: "b", Type: "VARCHAR", Kind: engine.Text}, {Name: "c", Type: "DECIMAL", Kind: engine.Decimal},
		{Name: "d", Type: "JSON", Kind: engine.JSON}, {Name: "e", Type: "VARCHAR", Kind: engine.Text},
		{Name: "f", Type: "VARBINARY", Kind: engine.Bytes}, {Name: "g", Type: "UUID", Kind: engine.Text}}
	if !slices.Equal(got, want) {
		t.Errorf("%+v", got)
	}
}
