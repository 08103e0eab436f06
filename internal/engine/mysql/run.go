package mysql

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// lexical is how texts are written in the usual mode ("Language Structure", both manuals).
var lexical = engine.Lexical{Quotes: "'\"`", Names: "`", Backslash: true, Hash: true, Spaced: true}

// language is "Language Structure", "Prepared Statements" and "Statements That Cause an Implicit
// Commit", in the manuals of both products.
var language = sync.OnceValue(func() engine.Language {
	return engine.Language{Name: "SQL", Lexical: lexical,
		Values: []string{"select", "insert", "replace", "update", "delete", "with", "do", "set", "call", "explain",
			"describe", "analyze"},
		Types: []string{"date", "time", "timestamp"},
		Committing: []string{"alter", "analyze table", "begin", "cache index", "change", "check table", "commit",
			"create", "drop", "flush", "grant", "install", "load index", "lock", "optimize", "rename",
			"repair", "reset", "revoke", "rollback", "set password", "start", "stop", "truncate", "uninstall", "unlock", "xa",
			"call", "execute", "if", "case", "for", "loop", "while", "repeat"}, // what these run may commit
		CommittingBy: map[string]string{"set": "autocommit"},
		Executable:   []string{"/*!", "/*M!"},
		Compound:     true,
		Begins: strings.Fields(`alter analyze backup begin binlog cache call case change check checksum clone close commit create deallocate declare delete desc describe do drop execute explain
		fetch flush for get grant handler help if import insert install kill load lock loop open optimize prepare purge release rename repair repeat replace reset resignal restart return
		revoke rollback savepoint select set show shutdown signal start stop table truncate uninstall unlock update use values while with xa`),
		Reading:       reading(),
		Follow:        follow,
		Local:         []string{"load", "local", "infile"},
		NotCommitting: []string{"create temporary", "drop temporary", "rollback to"},
		Staying:       []string{"set", "use", "prepare", "deallocate", "lock", "unlock", "create temporary", "flush tables"},
		Passing:       []string{"set transaction", "set global", "set persist", "set password", "set default"},
	}
})

// mode is a statement that sets sql_mode, also in a comment that is run.
var mode = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?is)^(?:/\*M?!\d*\s*)?set\s.*?\bsql_mode\s*:?=\s*('[^']*'|"[^"]*"|[^,;*]+)`)
})

// follow gives how texts are written after a statement ("Server SQL Modes", both manuals).
func follow(l engine.Lexical, statement string) engine.Lexical {
	if first := l.First(statement); first != "" && first != "set" { // a comment that is run has none
		return l
	}
	met := mode().FindStringSubmatch(strings.TrimSpace(statement))
	if met == nil {
		if met = mode().FindStringSubmatch(l.Begin(statement)); met == nil {
			return l
		}
	}
	return inMode(met[1])
}

// inMode gives how texts are written in a mode. Some modes stand for several.
func inMode(text string) engine.Lexical {
	l := lexical
	words := strings.FieldsFunc(strings.ToUpper(text), func(r rune) bool {
		return r != '_' && (r < 'A' || r > 'Z') && (r < '0' || r > '9')
	})
	for _, word := range words {
		switch word {
		case "NO_BACKSLASH_ESCAPES":
			l.Backslash = false
		case "ANSI_QUOTES", "ANSI", "ORACLE", "POSTGRESQL", "DB2", "MSSQL", "MAXDB":
			l.Names = "`\""
		}
	}
	return l
}

// Written implements engine.Written.
func (s *session) Written(ctx context.Context) (engine.Lexical, error) {
	rows, err := s.texts(ctx, "select @@session.sql_mode")
	if engine.Refused(err) { // it only speaks the protocol
		return lexical, nil
	}
	if err != nil || len(rows) != 1 || len(rows[0]) != 1 || rows[0][0] == nil {
		return lexical, err
	}
	return inMode(*rows[0][0]), nil
}

// Do implements engine.Runner.
func (s *session) Do(ctx context.Context, of engine.Statement) error {
	if err := s.passes(ctx, of.Text); err != nil {
		return err
	}
	rows := 0
	_, err := s.query(ctx, of, func(_, _ []string) error { return nil }, func([]driver.Value) error {
		if rows++; rows > engine.MaxRows {
			return engine.TooMuch("query")
		}
		return nil
	})
	return stated(err)
}

// Run implements engine.Runner. No statement of this engine reads data from its client: what
// would, the driver refuses.
func (s *session) Run(ctx context.Context, statement engine.Statement, out engine.Rows) (summary engine.Summary,
	err error) {
	if err := s.passes(ctx, statement.Text); err != nil {
		return summary, err
	}
	s.numbered(ctx)
	err = engine.Interruptible(ctx, func(ctx context.Context) error { return s.kill(ctx, s.process, s.home) },
		func(ctx context.Context) (err error) {
			s.wire.packets.most, s.wire.packets.local = statement.Most(), statement.Local
			defer func() { s.wire.packets.most, s.wire.packets.local = 0, nil }()
			summary, err = s.run(ctx, statement, out)
			return err
		})
	return summary, language().Explained(placed(err, statement.Text), statement.Text)
}

// numbered asks for the server's number of this session, by which what runs in it can be ended.
func (s *session) numbered(ctx context.Context) {
	if s.process == "" || s.pooled != nil && *s.pooled {
		s.process, s.home = s.one(ctx, "select connection_id()"), s.identity(ctx)
	}
}

// nearby is a message about a mistake in a statement: it ends with the text from there on, in
// quotes, and the number of its line. Both are where they are in each language of the messages.
var nearby = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?s)'(.*)'[^0-9']*([0-9]+)[^0-9]*$`) })

// placed finds the place that the server's message about a mistake means.
func placed(err error, statement string) error {
	var p *finding.Problem
	if !errors.As(err, &p) || p.Code != finding.QuerySyntax {
		return err
	}
	met := nearby().FindStringSubmatch(p.Words.Bare())
	if met == nil {
		return err
	}
	line, _ := strconv.Atoi(met[2])
	from := 0
	for n := 1; n < line; n++ {
		next := strings.IndexByte(statement[from:], '\n')
		if next < 0 {
			return err
		}
		from += next + 1
	}
	at := strings.Index(statement[from:], met[1])
	switch {
	case met[1] == "": // the end is where something is missing
		from, at = len(strings.TrimRight(statement, " \t\r\n;")), 0
	case at < 0: // the line is the one in which the parser was, and the text may begin before
		if from, at = 0, strings.Index(statement, met[1]); at < 0 {
			return err
		}
	}
	again := *p
	again.At = utf8.RuneCountInString(statement[:from+at]) + 1
	return &again
}

// Together implements engine.Runner ("START TRANSACTION", both manuals). A transaction that is
// not committed goes with its session.
func (s *session) Together(ctx context.Context, onlyReads bool, do func() error) error {
	begin := "start transaction"
	if onlyReads {
		begin = "start transaction read only"
	}
	if err := s.do(ctx, begin); err != nil {
		return err
	}
	if err := do(); err != nil {
		limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		_ = s.do(limited, "rollback")
		return err
	}
	return s.do(ctx, "commit")
}

var errNotTheServer = errors.New("another server answered")

// kill has the server end the statement of a session by its number, from a session of its own at
// the same address ("KILL", the manuals of both). Behind one address there may be several
// servers, and each numbers its sessions by itself: nothing is ended where another one answers.
func (s *session) kill(ctx context.Context, number, server string) error {
	if !plainNumber().MatchString(number) || server == "" {
		return errNotTheServer
	}
	other, err := s.again(ctx)
	if err != nil {
		return err
	}
	defer other.Close()
	second := other.(*session)
	if second.identity(ctx) != server {
		return errNotTheServer
	}
	return second.do(ctx, "kill query "+number)
}

// changes are the first words of the statements of which a server says how many rows they changed.
var changes = map[string]bool{"insert": true, "replace": true, "update": true, "delete": true, "load": true,
	"with": true, "call": true, "execute": true}

func (s *session) run(ctx context.Context, statement engine.Statement, out engine.Rows) (engine.Summary, error) {
	summary := engine.Summary{Affected: -1}
	result := false
	var cells []engine.Cell
	n, err := s.query(ctx, statement, func(names, types []string) error {
		result = true
		cells = make([]engine.Cell, len(names))
		return out.Columns(columns(names, types, s.wire.packets.fields))
	}, func(values []driver.Value) error {
		for i, value := range values {
			cells[i] = engine.Cell{Null: value == nil}
			if value != nil {
				cells[i].Text = textOf(value)
			}
		}
		return out.Row(cells)
	})
	summary.Rows = n
	// an error does not say it, and changes nothing in it
	summary.Open = s.wire.packets.last.status&statusInTransaction != 0
	if err != nil {
		return summary, stated(err)
	}
	said := s.wire.packets.last
	if word := language().First(statement.Text); !result && changes[word] {
		summary.Affected = said.affected
	} else if !result {
		summary.Tag = doneBy(statement.Text)
	}
	if said.warnings > 0 && statement.Heard != nil {
		summary.Unheard = s.warnings(ctx, int64(said.warnings), statement.Heard)
	}
	return summary, nil
}

// doneBy gives the words by which a statement without a result is known: its first two, but for
// those before the kind of a thing that is made.
func doneBy(statement string) string {
	var words []string
	for _, word := range strings.Fields(language().Bare(statement)) {
		switch word = strings.ToUpper(strings.Trim(word, "();,")); word {
		case "OR", "REPLACE", "TEMPORARY", "UNIQUE":
			continue
		}
		if words = append(words, word); len(words) == 2 {
			break
		}
	}
	if len(words) == 2 && !map[string]bool{"CREATE": true, "ALTER": true, "DROP": true, "TRUNCATE": true,
		"RENAME": true, "LOCK": true, "UNLOCK": true, "START": true, "FLUSH": true}[words[0]] {
		words = words[:1]
	}
	return strings.Join(words, " ")
}

// warnings asks for what the server noted of the last statement, and gives how many it did not
// hand on.
func (s *session) warnings(ctx context.Context, of int64, heard func(engine.Notice)) int64 {
	list, err := s.texts(ctx, fmt.Sprintf("show warnings limit %d", engine.MostNotices))
	if err != nil {
		return of
	}
	for _, row := range list {
		if len(row) == 3 && row[0] != nil && row[1] != nil && row[2] != nil {
			heard(engine.Notice{Level: outside.Cell(*row[0]), Number: outside.Cell(*row[1]), Text: outside.Said(*row[2])})
		}
	}
	return max(0, of-int64(len(list)))
}

// query runs a statement; columns is called before the first row of each result, and for an empty
// one.
func (s *session) query(ctx context.Context, statement engine.Statement,
	columns func(names, types []string) error, row func([]driver.Value) error) (n int64, err error) {
	rows, err := s.started(ctx, statement)
	if err != nil {
		return 0, err
	}
	// The driver reads to the end of a result to close it. One that is not wanted any more may
	// have no end.
	unwanted := false
	defer func() {
		if unwanted {
			_ = s.wire.SetDeadline(time.Now().Add(abandoning))
		}
		_ = rows.Close()
	}()
	for {
		more, err := s.result(ctx, rows, columns, row, &n, &unwanted)
		if err != nil || !more {
			return n, err
		}
		if err := rows.(driver.RowsNextResultSet).NextResultSet(); errors.Is(err, io.EOF) {
			return n, nil
		} else if err != nil {
			return n, s.failure(ctx, err)
		}
	}
}

// result hands on one result, and reports whether there may be another one.
func (s *session) result(ctx context.Context, rows driver.Rows, columns func(names, types []string) error,
	row func([]driver.Value) error, n *int64, unwanted *bool) (more bool, err error) {
	names := rows.Columns()
	if len(names) == 0 {
		return false, nil
	}
	types := make([]string, len(names))
	if named, can := rows.(driver.RowsColumnTypeDatabaseTypeName); can {
		for i := range types {
			types[i] = named.ColumnTypeDatabaseTypeName(i)
		}
	}
	if err := columns(names, types); err != nil {
		*unwanted = true
		return false, err
	}
	values := make([]driver.Value, len(names))
	for ; ; *n++ {
		if err := rows.Next(values); errors.Is(err, io.EOF) {
			next, can := rows.(driver.RowsNextResultSet)
			return can && next.HasNextResultSet(), nil
		} else if err != nil {
			return false, s.failure(ctx, err)
		}
		if err := row(values); err != nil {
			*unwanted = true
			return false, err
		}
	}
}

// started sends a statement. One with values is prepared, and closed once its rows are read
// ("Prepared Statements", both manuals).
func (s *session) started(ctx context.Context, statement engine.Statement) (driver.Rows, error) {
	if len(statement.Values) == 0 {
		rows, err := s.conn.(driver.QueryerContext).QueryContext(ctx, statement.Text, nil)
		if err != nil {
			return nil, s.failure(ctx, err)
		}
		return rows, nil
	}
	prepared, err := s.conn.(driver.ConnPrepareContext).PrepareContext(ctx, statement.Text)
	if err != nil {
		return nil, s.failure(ctx, err)
	}
	if n := prepared.NumInput(); n != len(statement.Values) {
		_ = prepared.Close()
		return nil, engine.OtherPlaces(n, len(statement.Values))
	}
	values, types := make([]driver.NamedValue, len(statement.Values)), make([]byte, len(statement.Values))
	for i, v := range statement.Values {
		values[i] = driver.NamedValue{Ordinal: i + 1}
		values[i].Value, types[i] = parameter(v)
	}
	s.wire.packets.types = types
	defer func() { s.wire.packets.types = nil }()
	// Never the driver's Exec: it waits for ever for the results of some statements.
	rows, err := prepared.(driver.StmtQueryContext).QueryContext(ctx, values)
	if err != nil {
		_ = prepared.Close()
		return nil, s.failure(ctx, err)
	}
	return closing{rows, prepared}, nil
}

// Types of parameters ("enum_field_types").
const (
	typeDecimal = 0xf6
	typeBlob    = 0xfc
)

// parameter gives a value as the driver takes it, and its type where the driver has another one,
// else 0.
func parameter(v engine.Value) (driver.Value, byte) {
	switch v.Kind {
	case engine.Null:
		return nil, 0
	case engine.Integer:
		if n, err := strconv.ParseInt(v.Text, 10, 64); err == nil {
			return n, 0
		}
		return v.Text, typeDecimal // the server computes with it as with a number, however long it is
	case engine.Decimal:
		return v.Text, typeDecimal
	case engine.Boolean:
		return map[bool]int64{true: 1}[v.Text == "true"], 0
	case engine.Bytes:
		return []byte(v.Text), typeBlob
	}
	return v.Text, 0
}

// closing is the rows of a prepared statement, which goes with them.
type closing struct {
	driver.Rows
	of driver.Stmt
}

// Close implements driver.Rows.
func (c closing) Close() error {
	return errors.Join(c.Rows.Close(), c.of.Close())
}

// HasNextResultSet implements driver.RowsNextResultSet.
func (c closing) HasNextResultSet() bool {
	next, can := c.Rows.(driver.RowsNextResultSet)
	return can && next.HasNextResultSet()
}

// NextResultSet implements driver.RowsNextResultSet.
func (c closing) NextResultSet() error { return c.Rows.(driver.RowsNextResultSet).NextResultSet() }

// ColumnTypeDatabaseTypeName implements driver.RowsColumnTypeDatabaseTypeName.
func (c closing) ColumnTypeDatabaseTypeName(i int) string {
	if named, can := c.Rows.(driver.RowsColumnTypeDatabaseTypeName); can {
		return named.ColumnTypeDatabaseTypeName(i)
	}
	return ""
}
