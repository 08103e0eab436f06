package postgres

import (
	"bytes"
	"context"
	"errors"
	"io"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// Shape implements engine.Loader ("pg_attribute", PostgreSQL's manual).
func (s *session) Shape(ctx context.Context, schema, table string) (engine.Shape, error) {
	name := quote(table)
	if schema != "" {
		name = quote(schema) + "." + name
	}
	shape := engine.Shape{Schema: schema, Table: table, Undoable: true}
	rows, err := s.texts(ctx, "select attname, pg_catalog.format_type(atttypid, atttypmod), attgenerated <> '', "+
		"atttypid = 17 from pg_catalog.pg_attribute where attrelid = pg_catalog.to_regclass("+
		literal(name)+") and attnum > 0 and not attisdropped order by attnum")
	if err != nil {
		return shape, err
	}
	for _, row := range rows {
		shape.Columns = append(shape.Columns,
			engine.ShapeColumn{Name: string(row[0]), Type: string(row[1]), Made: string(row[2]) == "t",
				Bytes: string(row[3]) == "t"})
	}
	if len(rows) > 0 {
		return shape, nil
	}
	rows, err = s.texts(ctx, "select case when pg_catalog.pg_table_is_visible(c.oid) then c.relname else "+
		"n.nspname || '.' || c.relname end from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = "+
		"c.relnamespace "+
		"where c.relkind in ('r', 'p', 'f', 'v') and n.nspname not in ('pg_catalog', 'information_schema', "+
		"'pg_toast') limit 2000")
	for _, row := range rows {
		shape.Near = append(shape.Near, string(row[0]))
	}
	return shape, err
}

// Load implements engine.Loader: COPY in its text format, in which each row is a line ("COPY",
// "File Formats", PostgreSQL's manual).
func (s *session) Load(ctx context.Context, l engine.Load) (n int64, err error) {
	into := quote(l.Into.Table)
	if l.Into.Schema != "" {
		into = quote(l.Into.Schema) + "." + into
	}
	var names []string
	for _, c := range l.Columns {
		names = append(names, quote(c.Name))
	}
	from := &copyRows{rows: l.Rows}
	err = engine.Interruptible(ctx, s.cancel, func(work context.Context) error {
		return s.transaction(work, false, func() error {
			if l.EmptyFirst {
				if _, err := s.results(work, "delete from "+into); err != nil {
					return err
				}
			}
			done, err := s.copy(work, "copy "+into+" ("+strings.Join(names, ", ")+") from stdin",
				source{from, ctx.Done()}, nil, engine.AnswerBytes)
			n = done.Affected
			return err
		})
	})
	if from.failed != nil {
		return 0, from.failed
	}
	return n, refusedRow(err, l)
}

// copied is what the server says of the place of a row in a COPY: a number of a line, and then a
// column with its value. The words are in the server's language.
var copied = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?s)^.*COPY (.*?), \D*(\d+)(.*)$`) })

// refusedRow gives an error with the row that it is about.
func refusedRow(err error, l engine.Load) error {
	var p *finding.Problem
	if !engine.Refused(err) || !errors.As(err, &p) {
		return err
	}
	row := &engine.RowError{Err: err}
	for _, beside := range p.Beside {
		met := copied().FindStringSubmatch(beside.Text.Bare())
		if beside.What != "context" || met == nil {
			continue
		}
		row.Row, _ = strconv.ParseInt(met[2], 10, 64)
		for _, c := range l.Columns {
			if strings.HasPrefix(strings.TrimLeft(met[3], ", "), c.Name+":") || strings.Contains(met[3], " "+c.Name+":") {
				row.Column, row.Wanted = c.Name, c.Type
			}
		}
	}
	if row.Column == "" {
		for _, beside := range p.Beside {
			for _, c := range l.Columns {
				if beside.What == "column" && beside.Text.Bare() == c.Name {
					row.Column, row.Wanted = c.Name, c.Type
				}
			}
		}
	}
	return row
}

// copyRows writes rows as COPY reads them.
type copyRows struct {
	rows   engine.RowSource
	failed error // what the source says against a row
	ahead  []byte
	rest   []byte
}

// Read implements io.Reader. It fills what it can.
func (c *copyRows) Read(p []byte) (int, error) {
	for len(c.rest) == 0 {
		c.ahead = c.ahead[:0]
		for len(c.ahead) < len(p) {
			fields, err := c.rows.Next()
			if err != nil {
				if !errors.Is(err, io.EOF) {
					c.failed = err
				}
				if len(c.ahead) == 0 || c.failed != nil {
					return 0, err
				}
				break
			}
			c.line(fields)
		}
		c.rest = c.ahead
	}
	n := copy(p, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

func (c *copyRows) line(fields []engine.Field) {
	for i, f := range fields {
		if i > 0 {
			c.ahead = append(c.ahead, '\t')
		}
		if f.Null {
			c.ahead = append(c.ahead, `\N`...)
			continue
		}
		text := f.Text
		for {
			at := bytes.IndexAny(text, "\\\t\n\r")
			if at < 0 {
				c.ahead = append(c.ahead, text...)
				break
			}
			c.ahead = append(c.ahead, text[:at]...)
			c.ahead = append(c.ahead, '\\', map[byte]byte{'\\': '\\', '\t': 't', '\n': 'n', '\r': 'r'}[text[at]])
			text = text[at+1:]
		}
	}
	c.ahead = append(c.ahead, '\n')
}
