package mongodb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// endsWithClient is the first version of the protocol whose servers end a command when its client
// leaves (4.2).
const endsWithClient = 8

// closing is how long the closing of a cursor may take.
const closing = time.Second

// protocol are names in an answer that are about the answer, and not what was asked for.
var protocol = []string{"ok", "$clusterTime", "operationTime"}

// Do implements engine.Runner.
func (s *session) Do(ctx context.Context, of engine.Statement) error {
	_, err := s.Run(ctx, of, nowhere{})
	return err
}

// nowhere drops what it gets.
type nowhere struct{}

func (nowhere) Columns([]engine.Column) error { return nil }
func (nowhere) Row([]engine.Cell) error       { return nil }
func (nowhere) Bytes([]byte) error            { return nil }

// Together implements engine.Runner. Commands that read need nothing around them; changes are
// each a whole by themselves, and several cannot be undone together here.
func (s *session) Together(_ context.Context, onlyReads bool, do func() error) error {
	if !onlyReads {
		return engine.Cannot("undo a command")
	}
	return do()
}

// Run implements engine.Runner, for one command. The documents of a cursor are given one by one,
// and further ones are asked for until there are no more; the cursor is closed at the server
// where they are not wanted any more.
func (s *session) Run(ctx context.Context, of engine.Statement, out engine.Rows) (engine.Summary, error) {
	summary := engine.Summary{Affected: -1}
	command, err := compose(of)
	if err != nil {
		return summary, err
	}
	in, err := s.place(command)
	if err != nil {
		return summary, err
	}
	s.wire.most, s.wire.grace = of.Most(), cmp.Or(s.patience, answered)
	defer func() { s.wire.most, s.wire.grace = 0, 0 }()
	name := command[0].Key
	if slices.Contains(reads, name) &&
		!slices.ContainsFunc(command, func(e bson.E) bool { return e.Key == "$readPreference" }) {
		command = s.reading(command)
	}
	answer, err := s.told(ctx, append(command, bson.E{Key: "$db", Value: in}), name, of.Heard)
	if err != nil {
		return summary, err
	}
	r := &result{session: s, out: out, exact: of.Exact}
	defer func() { summary.Rows = r.rows }()
	cursor, is := answer.Lookup("cursor").DocumentOK()
	if !is {
		summary.Affected, err = r.only(name, answer)
		summary.Rows = r.rows
		return summary, err
	}
	err = r.follow(ctx, name, cursor)
	summary.Rows = r.rows
	return summary, err
}

// answered is how long a server may take, after Ctrl-C, to answer what it was asked: then it is
// asked to close the cursor.
const answered = 1500 * time.Millisecond

// told sends a command of a person's. Its error is a *finding.Problem, with [engine.ErrGoesOn]
// where the server may go on with it.
func (s *session) told(ctx context.Context, command bson.D, name string, heard func(engine.Notice)) (bson.Raw, error) {
	answer, err := s.wire.ask(ctx, command)
	switch {
	case errors.Is(err, errLarge):
		return nil, engine.TooLarge(s.wire.size, s.wire.most)
	case err != nil && ctx.Err() != nil:
		_ = s.wire.conn.Close() // newer servers end what nobody waits for
		err = engine.Broken(ctx, "query", err)
		if s.greeting.Newest < endsWithClient {
			err = errors.Join(err, engine.ErrGoesOn)
		}
		return nil, err
	case err != nil:
		var known *finding.Problem
		if errors.As(err, &known) {
			return nil, known
		}
		return nil, engine.Broken(ctx, "query", err)
	}
	return answer, s.refused(answer, name, heard)
}

// refused gives the *finding.Problem of an answer that is an error, or has one in it: a write that
// was done in part has ok in it.
func (s *session) refused(answer bson.Raw, name string, heard func(engine.Notice)) error {
	err := refusal(answer, "query")
	var p *finding.Problem
	if errors.As(err, &p) {
		switch p.Code {
		case finding.QueryNoRight:
			p.Set(finding.FactRight, outside.Text(name))
		case finding.QueryReadOnly:
			s.greeting.leads(p)
		}
		return p
	}
	inner := answer.Lookup("writeConcernError")
	if list, is := answer.Lookup("writeErrors").ArrayOK(); is {
		if values, err := list.Values(); err == nil && len(values) > 0 {
			inner = values[0]
		}
	}
	doc, is := inner.DocumentOK()
	if !is {
		return nil
	}
	if n, is := answer.Lookup("n").AsInt64OK(); is && n > 0 && heard != nil {
		heard(engine.Notice{Level: "note", Number: name,
			Text: outside.Said(fmt.Sprintf("changed before the error below: %d", n))})
	}
	failed, err := bson.Marshal(bson.D{{Key: "ok", Value: 0}, {Key: "code", Value: doc.Lookup("code")},
		{Key: "errmsg", Value: doc.Lookup("errmsg")}})
	if err != nil {
		return engine.Malformed(err)
	}
	return refusal(failed, "query")
}

// leads says where the set's primary is, as far as the greeting knows it.
func (g greeting) leads(p *finding.Problem) {
	if host, port := g.primary(); host != "" {
		p.Set(finding.FactPrimaryHost, host)
		p.Set(finding.FactPrimaryPort, port)
	}
}

// primary gives where the set's primary is, as the server says; "" where that is the server itself, or
// no address.
func (g greeting) primary() (host, port string) {
	host, port, err := net.SplitHostPort(g.Primary)
	if err != nil || len(host) > 253 ||
		strings.Trim(strings.ToLower(host), "abcdefghijklmnopqrstuvwxyz0123456789.-:") != "" || g.Primary == g.Me {
		return "", ""
	}
	if n, err := strconv.Atoi(port); err != nil || n < 1 || n >= 1<<16 {
		return "", ""
	}
	return host, port
}

// place gives the database in which a command runs: the one that is open, but that of the
// accounts for what is about them, and admin for what is about the server.
func (s *session) place(command bson.D) (string, error) {
	first := command[0]
	for i, e := range command {
		if slices.ContainsFunc(command[:i], func(other bson.E) bool { return other.Key == e.Key }) {
			return "", notSent("the name %s stands twice", outside.Text(e.Key))
		}
		if name, is := e.Value.(string); is && e.Key == "$db" {
			return "", notSent("$db is for the profile to say: leave it out, and name the database with --database %s",
				outside.Text(name))
		}
	}
	_, named := first.Value.(string)
	switch {
	case slices.Contains(aboutServer, first.Key):
		return usualAccounts, nil
	case slices.Contains(aboutAccounts, first.Key):
		return cmp.Or(s.accounts, usualAccounts), nil
	case s.login.Database == "" && named:
		return "", notSent("the command names a collection, and no database is open: name it with --database NAME")
	}
	return cmp.Or(s.login.Database, usualAccounts), nil
}

// result gives the documents of an answer on.
type result struct {
	session *session
	out     engine.Rows
	exact   bool
	begun   bool
	rows    int64
}

// row gives one document on.
func (r *result) row(doc bson.Raw) error {
	text, err := bson.MarshalExtJSON(doc, r.exact, false)
	if err != nil {
		return engine.Malformed(err)
	}
	if err := r.begin(); err != nil {
		return err
	}
	r.rows++
	return r.out.Row([]engine.Cell{{Text: string(text)}})
}

func (r *result) begin() error {
	if r.begun {
		return nil
	}
	r.begun = true
	return r.out.Columns([]engine.Column{{Name: "document", Type: "document", Kind: engine.JSON, Document: documents{}}})
}

// only gives an answer that is no list. What a change has done is a number, as elsewhere.
func (r *result) only(name string, answer bson.Raw) (affected int64, err error) {
	elements, err := answer.Elements()
	if err != nil {
		return -1, engine.Malformed(err)
	}
	elements = slices.DeleteFunc(elements, func(e bson.RawElement) bool { return slices.Contains(protocol, e.Key()) })
	if n, is := answer.Lookup("n").AsInt64OK(); is && slices.Contains([]string{"insert", "update", "delete"}, name) {
		if changed, is := answer.Lookup("nModified").AsInt64OK(); is {
			n = changed
			if upserted, is := answer.Lookup("upserted").ArrayOK(); is {
				values, _ := upserted.Values()
				n += int64(len(values))
			}
		}
		return n, nil
	}
	if len(elements) == 0 {
		return -1, nil
	}
	var doc bson.D
	for _, e := range elements {
		doc = append(doc, bson.E{Key: e.Key(), Value: e.Value()})
	}
	raw, err := bson.Marshal(doc)
	if err != nil {
		return -1, engine.Malformed(err)
	}
	return -1, r.row(raw)
}

// follow gives the documents of a cursor on, to its end. A server that gives parts without
// documents again and again is no end: ctx is.
func (r *result) follow(ctx context.Context, name string, cursor bson.Raw) (err error) {
	s := r.session
	id := int64(0)
	in, of := "", ""
	defer func() {
		if err != nil && id != 0 {
			s.closeCursor(ctx, in, of, id)
		}
	}()
	if err := r.begin(); err != nil {
		id, _ = cursor.Lookup("id").AsInt64OK()
		return err
	}
	for part := "firstBatch"; ; part = "nextBatch" {
		id, _ = cursor.Lookup("id").AsInt64OK()
		if ns, _ := cursor.Lookup("ns").StringValueOK(); part == "firstBatch" {
			in, of, _ = strings.Cut(ns, ".")
		}
		list, is := cursor.Lookup(part).ArrayOK()
		if !is {
			return engine.Malformed("a cursor without its documents")
		}
		values, err := list.Values()
		if err != nil {
			return engine.Malformed(err)
		}
		for _, v := range values {
			doc, is := v.DocumentOK()
			if !is { // a value of a list that has no names
				if doc, err = bson.Marshal(bson.D{{Key: "value", Value: v}}); err != nil {
					return engine.Malformed(err)
				}
			}
			if err := r.row(doc); err != nil {
				return err
			}
		}
		if id == 0 {
			return nil
		}
		if ctx.Err() != nil {
			return engine.Broken(ctx, "query", ctx.Err())
		}
		answer, err := s.told(ctx, s.reading(bson.D{{Key: "getMore", Value: id}, {Key: "collection", Value: of},
			{Key: "$db", Value: in}}), name, nil)
		if err != nil {
			return err
		}
		if cursor, is = answer.Lookup("cursor").DocumentOK(); !is {
			return engine.Malformed("a part of a list without its cursor")
		}
	}
}

// closeCursor says to the server that no more documents are wanted.
func (s *session) closeCursor(ctx context.Context, in, of string, id int64) {
	limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), closing)
	defer cancel()
	_, _ = s.wire.ask(limited, bson.D{{Key: "killCursors", Value: of}, {Key: "cursors", Value: bson.A{id}},
		{Key: "$db", Value: in}})
}
