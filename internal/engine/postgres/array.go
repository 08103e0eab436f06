package postgres

import (
	"fmt"

	"github.com/jackc/pgx/v5/pgtype"

	"gentle-harbor/internal/engine"
)

// arrayForm takes arrays apart as the server writes them ("Arrays", PostgreSQL's manual).
type arrayForm struct{ of engine.Kind }

// mostDimensions is how many an array has at the most (MAXDIM of the server's source is 6).
const mostDimensions = 6

// Elements implements engine.ArrayForm.
func (l arrayForm) Elements(text string) ([]engine.Cell, []int, error) {
	var array pgtype.Array[*string]
	codec := &pgtype.ArrayCodec{ElementType: &pgtype.Type{Name: "text", OID: pgtype.TextOID, Codec: pgtype.TextCodec{}}}
	types := pgtype.NewMap()
	plan := codec.PlanScan(types, pgtype.TextArrayOID, pgtype.TextFormatCode, &array)
	if plan == nil {
		return nil, nil, fmt.Errorf("an array cannot be read")
	}
	if err := plan.Scan([]byte(text), &array); err != nil {
		return nil, nil, err
	}
	if len(array.Dims) > mostDimensions {
		return nil, nil, fmt.Errorf("an array of %d dimensions", len(array.Dims))
	}
	dimensions, all := []int{}, 1
	for _, d := range array.Dims {
		dimensions = append(dimensions, int(d.Length))
		all *= int(d.Length)
	}
	if len(dimensions) > 0 && all != len(array.Elements) {
		return nil, nil, fmt.Errorf("an array whose dimensions do not fit")
	}
	cells := make([]engine.Cell, len(array.Elements))
	for i, element := range array.Elements {
		if cells[i] = (engine.Cell{Null: true}); element != nil {
			cells[i] = cell([]byte(*element), l.of)
		}
	}
	return cells, dimensions, nil
}
