package standin

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"sync"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/rowfile"

	"github.com/jackc/pgx/v5/pgproto3"
)

// shapes are what the practice servers say of their tables, as the catalogues of both families
// have it; it comes from SQLite's own.
var shapes = map[string][]string{
	"postgres": {
		"create view pg_namespace as select 1 as oid, 'public' as nspname",
		"create view pg_class as select name as oid, name as relname, 1 as relnamespace, 'r' as relkind from " +
			"sqlite_master where type = 'table' and name not like 'pg\\_%' escape '\\'",
		"create view pg_attribute as select m.name as attrelid, c.cid + 1 as attnum, c.name as attname, " +
			"lower(c.type) as atttypid, 0 as atttypmod, '' as attgenerated, 0 as attisdropped, c.\"notnull\" or " +
			"c.pk as attnotnull from sqlite_master m join pragma_table_info(m.name) c where m.type = 'table'",
	},
	"mysql": {
		"create view information_columns as select 'bunkhouse' as table_schema, m.name as table_name, c.name as " +
			"column_name, lower(c.type) as column_type, '' as extra, lower(c.type) as data_type, c.cid as " +
			"ordinal_position, case when c.\"notnull\" or c.pk then 'NO' else 'YES' end as is_nullable, case " +
			"when c.pk then 'PRI' else '' end as column_key, c.dflt_value as column_default from sqlite_master " +
			"m join pragma_table_info(m.name) c where m.type = 'table' and m.name <> 'schemata'",
		"create view information_tables as select 'bunkhouse' as table_schema, name as table_name, 'BASE TABLE' " +
			"as table_type, 'InnoDB' as engine from sqlite_master where type = 'table' and name <> 'schemata'",
		"create view information_routines as select '' as routine_name, '' as routine_type, '' as routine_schema where 0",
		"create view information_engines as select 'InnoDB' as engine, 'YES' as transactions",
	},
}

// unquoted gives a name in quotes without them.
func unquoted(name string) string {
	name = name[strings.LastIndex(name, ".")+1:]
	return strings.ReplaceAll(strings.Trim(name, `"`), `""`, `"`)
}

// converted is a text as digits, which this program sends to servers whose mode it does not know.
var converted = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`convert\(x'([0-9a-f]*)' using utf8mb4\)`)
})

// withTexts gives a statement with such texts as texts.
func withTexts(statement string) string {
	return converted().ReplaceAllStringFunc(statement, func(part string) string {
		text, _ := hex.DecodeString(converted().FindStringSubmatch(part)[1])
		return "'" + strings.ReplaceAll(string(text), "'", "''") + "'"
	})
}

// errNoLocal is the refusal of a local file.
var errNoLocal = errors.New("this practice server reads no local files")

var copying = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?is)^\s*copy\s+(\S+)\s*(\([^)]*\))?\s+from\s+stdin\s*(\(format csv(, header)?\))?\s*;?\s*$`)
})

// copyIn serves a copy of rows in their text form, or as CSV, from the moment that it is executed.
func (c *postgresConn) copyIn(text string) (int64, error) {
	met := copying().FindStringSubmatch(text)
	if met == nil {
		return 0, errNoCopy
	}
	c.backend.Send(&pgproto3.CopyInResponse{})
	if err := c.backend.Flush(); err != nil {
		return 0, err
	}
	var data strings.Builder
	for {
		message, err := c.backend.Receive()
		if err != nil {
			return 0, err
		}
		switch m := message.(type) {
		case *pgproto3.CopyData:
			if data.Len() > 64<<20 {
				return 0, errors.New("this practice server takes no more than 64 MB")
			}
			data.Write(m.Data)
			continue
		case *pgproto3.CopyFail:
			return 0, errors.New("the client ended the copy: " + m.Message)
		case *pgproto3.CopyDone:
		default:
			continue
		}
		break
	}
	text = strings.TrimSuffix(data.String(), "\\.\n")
	form := rowfile.Options{Form: "tsv", NoHeader: met[4] == ""} // the text form is the same
	if met[3] != "" {
		form.Form = "csv"
	}
	rows, err := rowfile.New(strings.NewReader(text), form)
	for n := int64(1); ; n++ {
		var fields []engine.Field
		if err == nil {
			fields, err = rows.Next()
		}
		switch {
		case errors.Is(err, io.EOF):
			return n - 1, nil
		case err != nil:
			return 0, &inRow{errNoCopy, fmt.Sprintf("COPY %s, line %d", unquoted(met[1]), n)}
		}
		var values []any
		for _, f := range fields {
			if f.Null {
				values = append(values, nil)
				continue
			}
			values = append(values, string(f.Text))
		}
		places := strings.TrimSuffix(strings.Repeat("?, ", len(values)), ", ")
		if _, err := c.server.statement(c.conn, c.as, "insert into "+met[1]+" "+met[2]+" values ("+places+")",
			values...); err != nil {
			where := fmt.Sprintf("COPY %s, line %d", unquoted(met[1]), n)
			if column := wrongColumn().FindStringSubmatch(err.Error()); column != nil {
				for i, name := range strings.Split(strings.Trim(met[2], "()"), ",") {
					if unquoted(strings.TrimSpace(name)) == column[1] && i < len(values) {
						where += fmt.Sprintf(", column %s: \"%v\"", column[1], values[i])
					}
				}
			}
			return 0, &inRow{err, where}
		}
	}
}

// wrongColumn is SQLite's error about a value that is not of its column's type.
var wrongColumn = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`cannot store \S+ value in \S+ column \w+\.(\w+)`)
})

// errNoCopy is the refusal of rows in another form.
var errNoCopy = errors.New("this practice server copies no such rows")

// inRow is the refusal of a row, and where it is.
type inRow struct {
	error
	where string
}

// Unwrap gives the refusal.
func (e *inRow) Unwrap() error { return e.error }
