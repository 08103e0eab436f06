package postgres

import (
	"encoding/hex"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"gentle-harbor/internal/engine"
)

// kinds has the types whose values are more than a text, by their object identifiers
// (pg_type.dat). Those of arrays are beside those of their elements.
var kinds = map[uint32]engine.Column{
	16: {Type: "boolean", Kind: engine.Boolean}, 17: {Type: "bytea", Kind: engine.Bytes},
	18: {Type: "\"char\"", Kind: engine.Text}, 19: {Type: "name", Kind: engine.Text},
	20: {Type: "bigint", Kind: engine.Integer}, 21: {Type: "smallint", Kind: engine.Integer},
	23: {Type: "integer", Kind: engine.Integer}, 25: {Type: "text", Kind: engine.Text},
	26:  {Type: "oid", Kind: engine.Integer},
	114: {Type: "json", Kind: engine.JSON}, 700: {Type: "real", Kind: engine.Float},
	701: {Type: "double precision", Kind: engine.Float}, 1042: {Type: "character", Kind: engine.Text},
	1043: {Type: "character varying", Kind: engine.Text},
	1082: {Type: "date", Kind: engine.Date}, 1083: {Type: "time without time zone", Kind: engine.Time},
	1114: {Type: "timestamp without time zone", Kind: engine.Time},
	1184: {Type: "timestamp with time zone", Kind: engine.TimeWithZone},
	1186: {Type: "interval", Kind: engine.Interval},
	1266: {Type: "time with time zone", Kind: engine.TimeWithZone},
	1700: {Type: "numeric", Kind: engine.Decimal}, 2950: {Type: "uuid", Kind: engine.Text},
	3802: {Type: "jsonb", Kind: engine.JSON},
}

// arrays has the types of arrays, and those of their elements (pg_type.dat).
var arrays = map[uint32]uint32{
	1000: 16, 1001: 17, 1002: 18, 1003: 19, 1016: 20, 1005: 21, 1007: 23, 1009: 25, 1028: 26, 199: 114,
	1021: 700, 1022: 701, 1014: 1042, 1015: 1043,
	1182: 1082, 1183: 1083, 1115: 1114, 1185: 1184, 1187: 1186, 1270: 1266, 1231: 1700, 2951: 2950, 3807: 3802,
}

// columns gives the columns of a result. A type that is not known by its identifier has no name,
// and its values are texts.
func columns(fields []pgconn.FieldDescription) []engine.Column {
	list := make([]engine.Column, len(fields))
	for i, field := range fields {
		c, known := kinds[field.DataTypeOID]
		if of, is := arrays[field.DataTypeOID]; is {
			c, known = engine.Column{Type: kinds[of].Type + "[]", Kind: engine.Array, Of: kinds[of].Kind,
				Form: arrayForm{kinds[of].Kind}}, true
		}
		if !known {
			c.Kind = engine.Text
		}
		c.Name = field.Name
		list[i] = c
	}
	return list
}

// cell makes a cell of a value in the form of texts, by the kind of its column.
func cell(value []byte, kind engine.Kind) engine.Cell {
	if value == nil {
		return engine.Cell{Null: true}
	}
	text := string(value)
	switch kind {
	case engine.Bytes:
		if digits, hexadecimal := strings.CutPrefix(text, `\x`); hexadecimal {
			if data, err := hex.DecodeString(digits); err == nil {
				text = string(data)
			}
		}
	case engine.Boolean:
		text = strconv.FormatBool(text == "t")
	}
	return engine.Cell{Text: text}
}
