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
	got := columns([]string{"a", "b", "c"}, []string{"UNSIGNED BIGINT", "VARCHAR", "DECIMAL"})
	want := []engine.Column{{Name: "a", Type: "UNSIGNED BIGINT", Kind: engine.Integer}, {Name: "b", Type: "VARCHAR", Kind: engine.Text}, {Name: "c", Type: "DECIMAL", Kind: engine.Decimal}}
	if !slices.Equal(got, want) {
		t.Errorf("%+v", got)
	}
}
