package mysql

import (
	"strings"

	"gentle-harbor/internal/engine"
)

// kinds has the types whose values are more than a text, as the driver names them, without UNSIGNED before it. A bit field comes as bytes.
var kinds = map[string]engine.Kind{
	"TINYINT": engine.Integer, "SMALLINT": engine.Integer, "MEDIUMINT": engine.Integer, "INT": engine.Integer, "BIGINT": engine.Integer, "YEAR": engine.Integer,
	"DECIMAL": engine.Decimal, "FLOAT": engine.Float, "DOUBLE": engine.Float,
	"BINARY": engine.Bytes, "VARBINARY": engine.Bytes, "TINYBLOB": engine.Bytes, "BLOB": engine.Bytes, "MEDIUMBLOB": engine.Bytes, "LONGBLOB": engine.Bytes, "BIT": engine.Bytes, "GEOMETRY": engine.Bytes,
	"DATE": engine.Date, "TIME": engine.Time, "DATETIME": engine.Time, "TIMESTAMP": engine.Time, "JSON": engine.JSON, "NULL": engine.Null,
}

// columns gives the columns of a result, of their names and of the names that the driver has for their types.
func columns(names, types []string) []engine.Column {
	list := make([]engine.Column, len(names))
	for i, name := range names {
		kind, known := kinds[strings.TrimPrefix(types[i], "UNSIGNED ")]
		if !known {
			kind = engine.Text
		}
		list[i] = engine.Column{Name: name, Type: types[i], Kind: kind}
	}
	return list
}
