package oracle

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// What a statement is executed with (node-oracledb, lib/thin/protocol/constants.js,
// TNS_EXEC_OPTION_…).
const (
	doParse   = 0x1
	doExecute = 0x20
	doCommit  = 0x100
	doBlock   = 0x40000
	doNoBlock = 0x8000
)

// mostColumns is how many columns a result may have, and eachFetch how many rows are asked for in
// one go.
const (
	mostColumns = 1000
	eachFetch   = 200
)

// kindOf says of which kind a statement is: the server must know it.
func kindOf(text string) (query, block, changes bool) {
	switch language.First(text) {
	case "select", "with", "(":
		return true, false, false
	case "begin", "declare", "call":
		return false, true, false
	case "insert", "update", "delete", "merge":
		return false, false, true
	}
	return strings.HasPrefix(strings.TrimSpace(language.Bare(text)), "("), false, false
}

// execute gives the message that runs a statement (go-ora, command.go, basicWrite; node-oracledb,
// lib/thin/protocol/messages/execute.js). The rows of a query are fetched later, when it is known
// what they are.
func (s *session) execute(text string) *writer {
	query, block, changes := kindOf(text)
	how := doParse | doExecute
	switch {
	case block:
		how |= doBlock
	default:
		how |= doNoBlock
	}
	if (block || changes) && !s.together {
		how |= doCommit
	}
	w := &writer{pieces: s.spoken.pieces}
	if len(s.done) > 0 { // the server is told of it beside the next call
		w = s.begin(messageBefore, callClose)
		w.bytes(1)
		w.number(len(s.done))
		for _, cursor := range s.done {
			w.number(cursor)
		}
		s.done = nil
	}
	w.bytes(s.call(callExecute).data...)
	w.number(how)
	w.number(0) // no cursor yet
	w.bytes(1)
	w.number(len(text))
	w.bytes(1)
	w.number(13)
	w.bytes(0, 0, 0, 0)
	w.number(0x7fffffff)
	w.bytes(0, 0, 0, 0, 0, 0, 0, 0, 0)
	for _, each := range []struct {
		from  int64
		bytes []byte
	}{{4, []byte{0, 0, 1}}, {5, make([]byte, 5)}, {7, make([]byte, 3)}, {8, make([]byte, 5)}, {9, make([]byte, 2)}} {
		if s.spoken.fields >= each.from {
			w.bytes(each.bytes...)
		}
	}
	w.text([]byte(text))
	times, is := 1, 0
	if query {
		times, is = 0, 1
	}
	for _, n := range []int{1, times, 0, 0, 0, 0, 0, is, 0, 0, 0, 0, 0} {
		w.number(n)
	}
	return w
}

// fetch gives the message that asks for further rows.
func (s *session) fetch(cursor int) *writer {
	w := s.call(callFetch)
	w.number(cursor)
	w.number(eachFetch)
	return w
}

// column is a column of a result, as the server describes it.
type column struct {
	engine.Column
	kind     int
	size     int64
	national bool
	sent     bool // its value comes with the next row
}

// result is what comes back from a statement.
type result struct {
	session *session
	columns []column
	cells   []engine.Cell
	out     engine.Rows
	rows    int64
	err     error // of who takes the rows, or of what cannot be shown
}

// take reads a message that belongs to a result.
func (q *result) take(r *reader, message byte) bool {
	switch message {
	case messageDescribe:
		q.describe(r)
	case messageHeader:
		r.byte()
		for range 4 {
			r.number()
		}
		q.vector(r.said())
		r.said()
	case messageBits:
		r.number()
		q.vector(r.raw((len(q.columns) + 7) / 8))
	case messageRow:
		q.row(r)
	default:
		return false
	}
	return true
}

// vector says which columns come with the next row: the others have the value of the row before.
// Without one, all do.
func (q *result) vector(bits []byte) {
	for i := range q.columns {
		q.columns[i].sent = len(bits) == 0 || i/8 < len(bits) && bits[i/8]&(1<<(i%8)) != 0
	}
}

// describe reads which columns a result has.
func (q *result) describe(r *reader) {
	r.raw(int(r.byte()))
	r.number()
	n := r.count()
	if n > mostColumns {
		r.wrong("more columns than a result can have")
		return
	}
	if n > 0 {
		r.byte()
	}
	q.columns, q.cells = nil, nil
	fields := q.session.spoken.fields
	for range n {
		if r.err != nil {
			return
		}
		c := column{kind: int(r.byte()), sent: true}
		r.byte()
		digits := int(int8(r.byte()))
		behind := 0
		if scaled(c.kind) {
			behind = int(r.number())
		} else {
			behind = int(int8(r.byte()))
		}
		c.size = r.number()
		r.number()
		r.number()
		r.said()
		r.number()
		r.number()
		c.national = r.byte() == 2
		r.number()
		if fields >= 8 {
			r.number()
		}
		r.byte()
		r.byte()
		c.Name = string(r.said())
		r.said()
		of := string(r.said())
		if fields >= 3 {
			r.number()
		}
		if fields >= 6 {
			r.number()
		}
		c.Type, c.Kind = typeOf(c.kind, digits, behind, of)
		q.columns = append(q.columns, c)
		q.cells = append(q.cells, engine.Cell{Null: true})
	}
	r.said()
	if fields >= 3 {
		r.number()
		r.number()
	}
	if fields >= 4 {
		r.number()
		r.number()
	}
	if fields >= 5 {
		r.said()
	}
	if r.err != nil || q.err != nil {
		return
	}
	var columns []engine.Column
	for _, c := range q.columns {
		if c.Kind == "" {
			q.err = engine.Cannot("show a column of the type " + c.Type + "; to_char or dbms_lob.substr makes a text of it")
			return
		}
		columns = append(columns, c.Column)
	}
	q.err = q.out.Columns(columns)
}

// row reads a row and hands it on.
func (q *result) row(r *reader) {
	if q.columns == nil {
		r.wrong("a row without columns")
		return
	}
	for i, c := range q.columns {
		if !c.sent {
			continue
		}
		q.cells[i] = c.value(r)
		if c.kind == kindLong || c.kind == kindLongRaw {
			r.number()
			r.number()
		}
		if r.err != nil {
			return
		}
	}
	q.vector(nil)
	if q.rows++; q.err == nil {
		cells := append([]engine.Cell(nil), q.cells...) // who takes them may change them
		q.err = q.out.Row(cells)
	}
}

// statement runs one statement and hands its rows on.
func (s *session) statement(ctx context.Context, of engine.Statement, out engine.Rows) (summary engine.Summary,
	err error) {
	summary.Affected = -1
	if s.broken != nil {
		return summary, &finding.Problem{Code: finding.QueryClosed, Err: s.broken}
	}
	if len(of.Values) > 0 {
		return summary, engine.Cannot("take values beside a statement")
	}
	over := s.stream.during(ctx)
	defer over()
	s.heard = of.Heard
	defer func() { s.heard = nil }()
	text := plain(of.Text)
	q := &result{session: s, out: out}
	w := s.execute(text)
	for {
		if err := s.stream.send(w.data); err != nil {
			s.broken = engine.Broken(ctx, "query", err)
			return summary, s.broken
		}
		err := s.answer(ctx, "query", of.Most(), q.take)
		summary.Rows, summary.Open = q.rows, s.last.status&inTransaction != 0
		if err != nil || q.err != nil {
			return summary, errors.Join(q.err, placed(err, text))
		}
		if q.columns == nil || s.last.number == noMore || s.last.cursor == 0 {
			break
		}
		w = s.fetch(s.last.cursor)
	}
	if s.last.cursor != 0 {
		s.done = append(s.done, s.last.cursor)
	}
	if _, _, changes := kindOf(text); changes {
		summary.Affected = s.last.rows
	}
	if q.columns == nil {
		summary.Tag = strings.ToUpper(language.First(text))
	}
	return summary, nil
}

// plain gives a statement without what ends it: the server takes one statement, and a semicolon
// only at the end of a block.
func plain(text string) string {
	text = strings.TrimRight(text, " \t\r\n")
	if _, block, _ := kindOf(text); block && language.First(text) != "call" {
		return text
	}
	return strings.TrimRight(text, "; \t\r\n")
}

// placed gives the place in the statement that the server's message is about, in letters from 1.
func placed(err error, text string) error {
	p := problem(err)
	if p == nil || p.At == 0 || p.At > len(text) {
		return err
	}
	again := *p
	again.At = utf8.RuneCountInString(text[:p.At]) + 1
	return &again
}

// dropped are rows that nobody wants.
type dropped struct{ rows int }

func (*dropped) Columns([]engine.Column) error { return nil }
func (*dropped) Bytes([]byte) error            { return nil }
func (d *dropped) Row([]engine.Cell) error {
	if d.rows++; d.rows > engine.MaxRows {
		return engine.TooMuch("query")
	}
	return nil
}

// Do implements engine.Runner.
func (s *session) Do(ctx context.Context, of engine.Statement) error {
	_, err := s.statement(ctx, of, &dropped{})
	return err
}

// Run implements engine.Runner. A marker ends the statement at the server.
func (s *session) Run(ctx context.Context, of engine.Statement, out engine.Rows) (summary engine.Summary, err error) {
	err = engine.Interruptible(ctx, func(context.Context) error { return s.stream.interrupt() },
		func(work context.Context) (err error) {
			summary, err = s.statement(work, of, out)
			return err
		})
	return summary, language.Explained(err, of.Text)
}

// Together implements engine.Runner ("SET TRANSACTION", the engine's SQL Language Reference): the
// first change begins a transaction, and one that only reads is begun by saying so.
func (s *session) Together(ctx context.Context, onlyReads bool, do func() error) error {
	if onlyReads {
		if err := s.Do(ctx, engine.Statement{Text: "set transaction read only"}); err != nil {
			return err
		}
	}
	s.together = true
	err := do()
	s.together = false
	if err != nil {
		limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), abandoning)
		defer cancel()
		_ = s.plainCall(limited, callRollback)
		return err
	}
	return s.plainCall(ctx, callCommit)
}

// plainCall calls a function without arguments.
func (s *session) plainCall(ctx context.Context, function byte) error {
	if s.broken != nil {
		return &finding.Problem{Code: finding.QueryClosed, Err: s.broken}
	}
	over := s.stream.during(ctx)
	defer over()
	return s.exchange(ctx, "query", s.call(function), nil)
}

// Ask implements engine.Session.
func (s *session) Ask(ctx context.Context) error {
	return s.Do(ctx, engine.Statement{Text: "select 1 from dual"})
}

// kept are the rows of a question of our own.
type kept struct {
	dropped
	rows [][]engine.Cell
}

func (k *kept) Row(cells []engine.Cell) error {
	k.rows = append(k.rows, cells)
	return k.dropped.Row(cells)
}

// row asks for some values, see [engine.EachKnown]. What the server does not know stays empty.
func (s *session) row(ctx context.Context, from string, values ...string) ([]string, error) {
	row := make([]string, len(values))
	_, err := engine.EachKnown(values, func(at int, list []string) error {
		k := &kept{}
		if _, err := s.statement(ctx,
			engine.Statement{Text: "select " + strings.Join(list, ", ") + " from " + from}, k); err != nil {
			return err
		}
		if len(k.rows) != 1 || len(k.rows[0]) != len(list) {
			return engine.Malformed(fmt.Sprintf("a row of another size than was asked for: %d values", len(list)))
		}
		for i, cell := range k.rows[0] {
			row[at+i] = cell.Text
		}
		return nil
	})
	return row, err
}
