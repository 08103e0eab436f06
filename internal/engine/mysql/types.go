package mysql

import (
	"strings"

	"gentle-harbor/internal/engine"
)

// kinds has the types whose values are more than a text, as the driver names them, without
// UNSIGNED before it. A bit field comes as bytes.
var kinds = map[string]engine.Kind{
	"TINYINT": engine.Integer, "SMALLINT": engine.Integer, "MEDIUMINT": engine.Integer, "INT": engine.Integer,
	"BIGINT": engine.Integer, "YEAR": engine.Integer,
	"DECIMAL": engine.Decimal, "FLOAT": engine.Float, "DOUBLE": engine.Float,
	"BINARY": engine.Bytes, "VARBINARY": engine.Bytes, "TINYBLOB": engine.Bytes, "BLOB": engine.Bytes,
	"MEDIUMBLOB": engine.Bytes, "LONGBLOB": engine.Bytes, "BIT": engine.Bytes, "GEOMETRY": engine.Bytes,
	"DATE": engine.Date, "TIME": engine.Time, "DATETIME": engine.Time, "TIMESTAMP": engine.Time,
	"JSON": engine.JSON, "NULL": engine.Null,
}

// binaryText is the character set of bytes (collation 63).
const binaryText = 63

// columns gives the columns of a result, of their names, of the names that the driver has for
// their types, and of what the server said of them beside: the driver reads half of the number of
// a character set, and does not know MariaDB's extension.
func columns(names, types []string, fields []field) []engine.Column {
	list := make([]engine.Column, len(names))
	for i, name := range names {
		kind, known := kinds[strings.TrimPrefix(types[i], "UNSIGNED ")]
		if !known {
			kind = engine.Text
		}
		c := engine.Column{Name: name, Type: types[i], Kind: kind}
		if i < len(fields) {
			f := fields[i]
			if text, is := texts[c.Type]; is && f.charset != binaryText {
				c.Type, c.Kind = text, engine.Text
			}
			switch {
			case f.json:
				c.Type, c.Kind = "JSON", engine.JSON
			case f.typeName != "" && c.Kind != engine.Bytes:
				c.Type = f.typeName
			}
		}
		list[i] = c
	}
	return list
}

// texts has the types that are those of bytes where their character set is that of bytes.
var texts = map[string]string{"BINARY": "CHAR", "VARBINARY": "VARCHAR", "TINYBLOB": "TINYTEXT", "BLOB": "TEXT",
	"MEDIUMBLOB": "MEDIUMTEXT", "LONGBLOB": "LONGTEXT"}
