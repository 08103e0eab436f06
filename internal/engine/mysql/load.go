package mysql

import (
	"bytes"
	"context"
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// Shape implements engine.Loader ("INFORMATION_SCHEMA", both manuals).
func (s *session) Shape(ctx context.Context, schema, table string) (engine.Shape, error) {
	shape := engine.Shape{Schema: schema, Table: table, Undoable: true}
	in := "database()"
	if schema != "" {
		in = literal(schema)
	}
	rows, err := s.texts(ctx, "select column_name, column_type, extra like '%GENERATED%', data_type in "+
		"('binary', 'varbinary', 'tinyblob', 'blob', 'mediumblob', 'longblob', 'bit') from "+
		"information_schema.columns where table_schema = "+
		in+" and table_name = "+literal(table)+" order by ordinal_position")
	if err != nil {
		return shape, err
	}
	for _, row := range rows {
		if len(row) != 4 || row[0] == nil || row[1] == nil {
			return shape, engine.Malformed("a row of another size than was asked for")
		}
		shape.Columns = append(shape.Columns,
			engine.ShapeColumn{Name: *row[0], Type: *row[1], Made: row[2] != nil && *row[2] == "1",
				Bytes: row[3] != nil && *row[3] == "1"})
	}
	if len(rows) == 0 {
		rows, err = s.texts(ctx, "select case when table_schema = database() then table_name else "+
			"concat(table_schema, '.', table_name) end from information_schema.tables where table_schema not in "+
			"('information_schema', 'performance_schema', 'mysql', 'sys') limit 2000")
		for _, row := range rows {
			if row[0] != nil {
				shape.Near = append(shape.Near, *row[0])
			}
		}
		return shape, err
	}
	rows, err = s.texts(ctx, "select t.engine from information_schema.tables t left join "+
		"information_schema.engines e on e.engine = t.engine where t.table_schema = "+in+" and t.table_name = "+literal(table)+
		" and t.engine is not null and coalesce(e.transactions, 'NO') <> 'YES'")
	if len(rows) == 1 && rows[0][0] != nil {
		shape.Undoable, shape.Kept = false, *rows[0][0]
	}
	return shape, err
}

// loadBatch is how many bytes of rows go to the server in one statement.
const loadBatch = 2 << 20

// loading is rows that go into a table. Local loading turns what does not fit into warnings, and
// stores something else; and a reader that fails in the middle is its end of the file ("LOAD
// DATA", both manuals). So each batch is whole before it is sent, and is kept only where as many
// rows were stored as were sent, without a warning.
type loading struct {
	*session
	l       engine.Load
	into    string
	names   []string
	batch   []engine.Field // rows, one behind the other
	held    []byte         // their texts
	rows    int            // in the batch
	done    int64          // before it
	sent    bytes.Buffer   // the batch, as the statement reads it
	refused bool           // the server takes no local files
}

// Load implements engine.Loader.
func (s *session) Load(ctx context.Context, l engine.Load) (n int64, err error) {
	in := &loading{session: s, l: l, into: quote(l.Into.Table)}
	if l.Into.Schema != "" {
		in.into = quote(l.Into.Schema) + "." + in.into
	}
	for _, c := range l.Columns {
		in.names = append(in.names, quote(c.Name))
	}
	if s.process == "" || s.pooled != nil && *s.pooled {
		s.process, s.home = s.one(ctx, "select connection_id()"), s.identity(ctx)
	}
	err = engine.Interruptible(ctx, func(ctx context.Context) error { return s.kill(ctx, s.process, s.home) },
		func(work context.Context) error {
			// A 0 stays one where numbers are made, a backslash is one of the file's, and what does
			// not fit is an error ("Server SQL Modes", both manuals).
			if err := s.do(work, "set session sql_mode = 'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO'"); err != nil {
				return err
			}
			return s.Together(work, false, func() error { return in.all(ctx, work) })
		})
	return in.done, err
}

// all loads all rows. It ends when ctx does; work goes on for what is to be undone.
func (in *loading) all(ctx, work context.Context) error {
	if in.l.EmptyFirst {
		if err := in.do(work, "delete from "+in.into); err != nil {
			return err
		}
	}
	for {
		fields, err := in.l.Rows.Next()
		switch {
		case errors.Is(err, io.EOF):
			return in.send(work)
		case err != nil:
			return err
		case ctx.Err() != nil:
			return ctx.Err()
		}
		if err := in.take(fields); err != nil {
			return err
		}
		if len(in.held) >= loadBatch || len(in.batch) >= loadBatch/16 {
			if err := in.send(work); err != nil {
				return err
			}
		}
	}
}

// whole is what a whole number is written like. The server rounds another one, and does not say so.
var whole = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[+-]?[0-9]+$`) })

// take takes a row into the batch.
func (in *loading) take(fields []engine.Field) error {
	for i, f := range fields {
		if c := in.l.Columns[i]; !f.Null && wholeNumbers(c.Type) && !whole().Match(f.Text) {
			return &engine.RowError{Row: in.done + int64(in.rows) + 1, Column: c.Name, Wanted: c.Type,
				Value: engine.Field{Text: bytes.Clone(f.Text)}, Err: &finding.Problem{Code: finding.QueryWrongType}}
		}
		from := len(in.held)
		if in.l.Columns[i].Bytes && !f.Null {
			in.held = append(in.held, bytesOf(f.Text)...)
		} else {
			in.held = append(in.held, f.Text...)
		}
		in.batch = append(in.batch, engine.Field{Text: in.held[from:len(in.held):len(in.held)], Null: f.Null})
	}
	in.rows++
	return nil
}

// wholeNumbers reports whether a type is one of whole numbers.
func wholeNumbers(name string) bool {
	base, _, _ := strings.Cut(name, "(")
	base, _, _ = strings.Cut(base, " ")
	return slices.Contains([]string{"tinyint", "smallint", "mediumint", "int", "bigint"}, base)
}

// bytesOf gives the bytes that a text of \x and two digits for each stands for; another text
// stands for itself.
func bytesOf(text []byte) []byte {
	digits, is := bytes.CutPrefix(text, []byte(`\x`))
	if !is {
		return text
	}
	data := make([]byte, hex.DecodedLen(len(digits)))
	if _, err := hex.Decode(data, digits); err != nil {
		return text
	}
	return data
}

// send sends the batch, and begins a new one.
func (in *loading) send(ctx context.Context) error {
	if in.rows == 0 {
		return nil
	}
	if err := in.do(ctx, "savepoint gharbor_rows"); err != nil {
		return err
	}
	if err := in.local(ctx); err != nil {
		return err
	}
	in.done += int64(in.rows)
	in.batch, in.held, in.rows = in.batch[:0], in.held[:0], 0
	return nil
}

// local has the server read the batch as a local file, and finds the row that it does not take as
// it is.
func (in *loading) local(ctx context.Context) error {
	if in.refused {
		return in.insert(ctx)
	}
	statement := "load data local infile 'rows' into table " + in.into +
		` character set utf8mb4 fields terminated by '\t' escaped by '\\' lines terminated by '\n' (`
	fields, set := slices.Clone(in.names), []string{}
	if slices.ContainsFunc(in.l.Columns, func(c engine.ShapeColumn) bool { return c.Bytes }) {
		// All are set then: beside a set, MariaDB makes a number of a 0 that is not set.
		for i, c := range in.l.Columns {
			fields[i] = fmt.Sprintf("@gharbor_%d", i)
			value := fields[i]
			if c.Bytes {
				value = "unhex(" + value + ")"
			}
			set = append(set, in.names[i]+" = "+value)
		}
	}
	statement += strings.Join(fields, ", ") + ")"
	if len(set) > 0 {
		statement += " set " + strings.Join(set, ", ")
	}
	in.wire.packets.local = &engine.LocalFile{Name: "rows", From: bytes.NewReader(in.lines())}
	_, err := in.query(ctx, engine.Statement{Text: statement}, func(_, _ []string) error { return nil },
		func([]driver.Value) error { return nil })
	in.wire.packets.local = nil
	var p *finding.Problem
	if errors.As(err, &p) && (p.Code == finding.QueryAsksForFile || p.Number.Bare() == "1148") {
		in.refused = true
		return in.insert(ctx)
	}
	said := in.wire.packets.last
	if err == nil && said.warnings == 0 && said.affected == int64(in.rows) {
		return nil
	}
	var warned string
	if err == nil && said.warnings > 0 {
		if rows, _ := in.texts(ctx, "show warnings limit 1"); len(rows) == 1 && len(rows[0]) == 3 && rows[0][2] != nil {
			warned = *rows[0][2]
		}
	} else if err != nil && !engine.Refused(err) {
		return err
	}
	if undone := in.do(ctx, "rollback to savepoint gharbor_rows"); undone != nil {
		return undone
	}
	if found := in.insert(ctx); found != nil {
		return found
	}
	// Row by row it is taken: the server only rounds, or cuts, without an error.
	row := &engine.RowError{Err: stated(err)}
	if err == nil {
		row.Err = &finding.Problem{Code: finding.QueryWrongType, Words: outside.Said(warned)}
	}
	if met := lastNumber().FindStringSubmatch(warned); met != nil {
		at, _ := strconv.ParseInt(met[1], 10, 64)
		if at >= 1 && at <= int64(in.rows) {
			row.Row = in.done + at
			in.column(row, warned, int(at)-1)
		}
	}
	return row
}

// lastNumber is the number of the row in a warning: its last one, in each language.
var lastNumber = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`([0-9]+)[^0-9']*$`) })

// lines gives the batch as the statement reads it.
func (in *loading) lines() []byte {
	b := &in.sent
	b.Reset()
	columns := len(in.l.Columns)
	for i, f := range in.batch {
		switch {
		case f.Null:
			b.WriteString(`\N`)
		case in.l.Columns[i%columns].Bytes:
			b.WriteString(hex.EncodeToString(f.Text))
		default:
			text := f.Text
			for {
				at := bytes.IndexAny(text, "\\\t\n\r\x00")
				if at < 0 {
					b.Write(text)
					break
				}
				b.Write(text[:at])
				b.WriteByte('\\')
				switch c := text[at]; c {
				case '\t':
					b.WriteByte('t')
				case '\n':
					b.WriteByte('n')
				case '\r':
					b.WriteByte('r')
				case 0:
					b.WriteByte('0')
				default:
					b.WriteByte(c)
				}
				text = text[at+1:]
			}
		}
		if i%columns == columns-1 {
			b.WriteByte('\n')
		} else {
			b.WriteByte('\t')
		}
	}
	return b.Bytes()
}

// Bounds of one insert of many rows.
const (
	mostPlaces = 60_000
	mostInsert = 1 << 20
)

// insert inserts the batch as rows with values, and finds the one that the server refuses.
func (in *loading) insert(ctx context.Context) error {
	columns := len(in.l.Columns)
	for from := 0; from < in.rows; {
		to, size := from, 0
		for to < in.rows && (to == from || (to-from+1)*columns <= mostPlaces && size <= mostInsert) {
			for _, f := range in.batch[to*columns : (to+1)*columns] {
				size += len(f.Text)
			}
			to++
		}
		if err := in.part(ctx, from, to); err != nil {
			return err
		}
		from = to
	}
	return nil
}

// part inserts rows of the batch. Where they are refused it halves them, until one is left: a
// statement that fails leaves nothing.
func (in *loading) part(ctx context.Context, from, to int) error {
	columns := len(in.l.Columns)
	var text strings.Builder
	text.WriteString("insert into " + in.into + " (" + strings.Join(in.names, ", ") + ") values ")
	row := "(" + strings.TrimSuffix(strings.Repeat("?, ", columns), ", ") + ")"
	var values []engine.Value
	for at := from; at < to; at++ {
		if at > from {
			text.WriteString(", ")
		}
		text.WriteString(row)
		for i, f := range in.batch[at*columns : (at+1)*columns] {
			v := engine.Value{Kind: engine.Text, Text: string(f.Text)}
			switch {
			case f.Null:
				v = engine.Value{Kind: engine.Null}
			case in.l.Columns[i].Bytes:
				v.Kind = engine.Bytes
			}
			values = append(values, v)
		}
	}
	_, err := in.query(ctx, engine.Statement{Text: text.String(), Values: values}, func(_, _ []string) error {
		return nil
	}, func([]driver.Value) error { return nil })
	switch {
	case err == nil:
		return nil
	case !engine.Refused(err):
		return err
	case to-from == 1:
		found := &engine.RowError{Row: in.done + int64(from) + 1, Err: stated(err)}
		var p *finding.Problem
		if errors.As(err, &p) {
			in.column(found, p.Words.Bare(), from)
		}
		return found
	}
	middle := (from + to) / 2
	if err := in.part(ctx, from, middle); err != nil {
		return err
	}
	return in.part(ctx, middle, to)
}

// column says which column a message is about, of those that it names in quotes, and what a row
// of the batch has there.
func (in *loading) column(row *engine.RowError, words string, at int) {
	for i, c := range in.l.Columns {
		if strings.Contains(words, "'"+c.Name+"'") || strings.Contains(words, "`"+c.Name+"`") {
			f := in.batch[at*len(in.l.Columns)+i]
			row.Column, row.Wanted, row.Value = c.Name, c.Type, engine.Field{Text: bytes.Clone(f.Text), Null: f.Null}
		}
	}
}
