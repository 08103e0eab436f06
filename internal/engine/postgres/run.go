package postgres

import (
	"context"
	"encoding/hex"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/jackc/pgx/v5/pgconn"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/outside"
)

// language is "Lexical Structure", PostgreSQL's manual; which statements take values and which
// cannot be in a transaction is said by its pages of SQL commands.
var language = engine.Language{Name: "SQL",
	Lexical:  engine.Lexical{Quotes: `'"`, Names: `"`, Escapes: true, Dollar: true, Nested: true},
	Numbered: true,
	Values:   []string{"select", "insert", "update", "delete", "merge", "with", "values", "call", "explain"},
	Types:    []string{"date", "time", "timestamp", "timestamptz", "timetz", "interval"},
	Committing: []string{"abort", "alter system", "begin", "checkpoint", "commit", "create database",
		"create tablespace", "drop database", "drop tablespace", "end", "prepare transaction",
		"reindex database", "reindex schema", "reindex system", "rollback", "start transaction", "vacuum"},
	NotCommitting: []string{"rollback to"},
	Staying: []string{"set", "reset", "discard", "prepare", "deallocate", "listen", "unlisten", "load",
		"create temp", "create temporary", "create local temp", "create local temporary"},
	Passing: []string{"set local", "set transaction", "set constraints"},
	CommittingBy: map[string]string{"create": "concurrently", "drop": "concurrently",
		"reindex": "concurrently", "alter": "concurrently"},
	Copying: "copy",
	Begins: strings.Fields(`abort alter analyze begin call checkpoint close cluster comment commit copy create deallocate declare delete discard do drop end execute explain fetch
		grant import insert listen load lock merge move notify prepare reassign refresh reindex release reset revoke rollback savepoint security select set show start table truncate
		unlisten update vacuum values with`),
	Reading: reading,
	Follow:  follow,
}

// Run implements engine.Runner.
func (s *session) Run(ctx context.Context, statement engine.Statement, out engine.Rows) (summary engine.Summary,
	err error) {
	err = engine.Interruptible(ctx, s.cancel, func(work context.Context) (err error) {
		summary, err = s.run(work, statement, source{statement.In, ctx.Done()}, out, statement.Most())
		return err
	})
	return summary, language.Explained(err, statement.Text)
}

// conforming is a statement that says whether a backslash in a text is a character like any other.
var conforming = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)^set\s+(?:session\s+|local\s+)?standard_conforming_strings\s*(?:=|\bto\b)\s*'?(\w+)`)
})

// follow gives how texts are written after a statement (standard_conforming_strings, PostgreSQL's
// manual).
func follow(l engine.Lexical, statement string) engine.Lexical {
	switch l.First(statement) {
	case "set", "reset", "discard":
	default:
		return l
	}
	first := l.Begin(statement)
	if met := conforming().FindStringSubmatch(first); met != nil {
		switch strings.ToLower(met[1]) {
		case "off", "false", "no", "0", "of", "f", "n":
			l.Backslash = true
		default:
			l.Backslash = false
		}
	}
	switch fields := strings.Fields(strings.ToLower(first)); {
	case len(fields) > 1 && (fields[0] == "reset" &&
		(fields[1] == "standard_conforming_strings" || fields[1] == "all") ||
		fields[0] == "discard" && fields[1] == "all"):
		l.Backslash = false
	}
	return l
}

// Written implements engine.Written.
func (s *session) Written(context.Context) (engine.Lexical, error) {
	l := language.Lexical
	l.Backslash = s.pg.ParameterStatus("standard_conforming_strings") == "off"
	return l, nil
}

// said has what the server says beside its answers (NoticeResponse), while a person's statement
// runs.
type said struct {
	heard func(engine.Notice)
	count int64
}

// hear takes a notice.
func (s *said) hear(_ *pgconn.PgConn, n *pgconn.Notice) {
	if s.heard == nil {
		return
	}
	if s.count++; s.count > engine.MostNotices {
		return
	}
	s.heard(engine.Notice{Level: outside.Cell(n.Severity), Number: outside.Cell(n.Code),
		Text: outside.Said(n.Message), Detail: outside.Said(n.Detail), Hint: outside.Said(n.Hint)})
}

// run runs a statement of which each message has at most so many bytes.
func (s *session) run(ctx context.Context, statement engine.Statement, in source, out engine.Rows,
	most int) (summary engine.Summary, err error) {
	if word := language.Lasting(statement.Text); word != "" {
		shared, err := s.Shared(ctx)
		if err == nil && shared {
			err = engine.Pooled("a statement that begins with " + word)
		}
		if err != nil {
			return engine.Summary{Affected: -1}, err
		}
	}
	err = s.within(ctx, func() (err error) {
		s.said.heard, s.said.count = statement.Heard, 0
		defer func() { s.said.heard = nil }()
		summary, err = s.one(ctx, statement, in, out, most)
		return err
	})
	summary.Open, summary.Unheard = s.pg.TxStatus() != 'I', max(0, s.said.count-engine.MostNotices)
	return summary, err
}

// Together implements engine.Runner. A transaction that is not committed goes with its session.
func (s *session) Together(ctx context.Context, onlyReads bool, do func() error) error {
	return s.transaction(ctx, onlyReads, do)
}

// one runs a statement as it is.
func (s *session) one(ctx context.Context, statement engine.Statement, in source, out engine.Rows,
	most int) (engine.Summary, error) {
	if copies(statement.Text) {
		return s.copy(ctx, statement.Text, in, out, most)
	}
	summary := engine.Summary{Affected: -1}
	values, types, err := s.values(ctx, statement)
	if err != nil {
		return summary, err
	}
	s.pg.Frontend().SetMaxBodyLen(most)
	reader := s.pg.ExecParams(ctx, statement.Text, values, types, nil, nil)
	stop := func(err error) (engine.Summary, error) {
		_, _ = reader.Close()
		return summary, err
	}
	var cells []engine.Cell
	var named []engine.Column
	for reader.NextRow() {
		if cells == nil {
			named = columns(reader.FieldDescriptions())
			cells = make([]engine.Cell, len(named))
			if err := out.Columns(named); err != nil {
				return stop(err)
			}
		}
		for i, value := range reader.Values() {
			cells[i] = cell(value, named[i].Kind)
		}
		if err := out.Row(cells); err != nil {
			return stop(err)
		}
		summary.Rows++
	}
	named = columns(reader.FieldDescriptions())
	tag, err := reader.Close()
	if err != nil {
		return summary, s.failure(ctx, err)
	}
	summary.Tag = tag.String()
	if tag.Insert() || tag.Update() || tag.Delete() || strings.HasPrefix(summary.Tag, "MERGE") {
		summary.Affected = tag.RowsAffected()
	}
	if cells == nil && len(named) > 0 {
		return summary, out.Columns(named)
	}
	return summary, nil
}

// declared gives the type of a value as a person says it; one without a value is a text where the
// server can infer nothing. The smallest whole number is the one that most operators and
// functions take.
func declared(v engine.Value) uint32 {
	switch v.Kind {
	case engine.Integer:
		if _, err := strconv.ParseInt(v.Text, 10, 32); err == nil {
			return 23
		}
		if _, err := strconv.ParseInt(v.Text, 10, 64); err == nil {
			return 20
		}
		return 1700
	case engine.Timestamp:
		if _, clock, _ := strings.Cut(v.Text, " "); strings.ContainsAny(clock, "+-Z") { // it has a zone
			return 1184
		}
		return 1114
	}
	return map[engine.Kind]uint32{engine.Decimal: 1700, engine.Boolean: 16, engine.Text: 25, engine.Null: 25,
		engine.Bytes: 17, engine.Date: 1082, engine.Time: 1083, engine.JSON: 114}[v.Kind]
}

// fitting are the types that a value of a kind may be given to as it is. A text fits to each, and
// none is a value of any.
var fitting = map[engine.Kind][]uint32{
	engine.Integer: {20, 21, 23, 26, 700, 701, 1700}, engine.Decimal: {700, 701, 1700}, engine.Boolean: {16},
	engine.Bytes: {17}, engine.JSON: {114, 3802},
	engine.Date: {1082, 1114, 1184}, engine.Time: {1083, 1266, 1186}, engine.Timestamp: {1114, 1184},
}

// values gives the values of a statement and their types. The server infers the types from their
// places ("Parse", "Message Flow", PostgreSQL's manual): a whole number has several, and most
// functions take one of them. Where it can infer none it says so, or takes a text, or the type of
// what is beside the place; the type that the person has said is used there, unless the statement
// does not fit that.
func (s *session) values(ctx context.Context, statement engine.Statement) (values [][]byte, types []uint32, err error) {
	if len(statement.Values) == 0 {
		return nil, nil, nil
	}
	said := make([]uint32, len(statement.Values))
	types = make([]uint32, len(said))
	for i, v := range statement.Values {
		said[i] = declared(v)
		if v.Kind == engine.Bytes { // the server would take it for a text
			types[i] = said[i]
		}
		switch v.Kind {
		case engine.Null:
			values = append(values, nil)
		case engine.Bytes:
			values = append(values, []byte(`\x`+hex.EncodeToString([]byte(v.Text))))
		default:
			values = append(values, []byte(v.Text))
		}
	}
	inferred, err := s.inferred(ctx, statement.Text, types)
	if engine.Refused(err) { // it may be that it cannot infer one of them
		if _, again := s.inferred(ctx, statement.Text, said); again == nil {
			return values, said, nil
		}
	}
	if err != nil {
		return nil, nil, err
	}
	if len(inferred) != len(said) {
		return nil, nil, engine.OtherPlaces(len(inferred), len(said))
	}
	wanted := slices.Clone(inferred)
	for i, v := range statement.Values {
		if fits := fitting[v.Kind]; fits != nil && !slices.Contains(fits, inferred[i]) {
			wanted[i] = said[i]
		}
	}
	if slices.Equal(wanted, inferred) {
		return values, inferred, nil
	}
	_, err = s.inferred(ctx, statement.Text, wanted)
	switch {
	case err == nil:
		return values, wanted, nil
	case engine.Refused(err):
		return values, inferred, nil
	}
	return nil, nil, err
}

// inferred has the server look at a statement, and gives the types of its values. A refusal does
// not end the transaction that is open.
func (s *session) inferred(ctx context.Context, statement string, types []uint32) ([]uint32, error) {
	open := s.pg.TxStatus() == 'T'
	if open {
		if _, err := s.results(ctx, "savepoint gharbor_values"); err != nil {
			return nil, err
		}
	}
	s.pg.Frontend().SetMaxBodyLen(engine.AnswerBytes)
	described, err := s.pg.Prepare(ctx, "", statement, types)
	if err != nil {
		err = s.failure(ctx, err)
	}
	if open && !s.pg.IsClosed() {
		if _, failed := s.results(ctx,
			"rollback to savepoint gharbor_values; release savepoint gharbor_values"); failed != nil && err == nil {
			err = failed
		}
	}
	if err != nil {
		return nil, err
	}
	return described.ParamOIDs, nil
}
