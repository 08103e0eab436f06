package oracle

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// session is an open session. Its calls are numbered from 1 to 255.
type session struct {
	stream *stream
	spoken spoken
	line   engine.Line
	login  engine.Login
	number byte

	told     map[string]string // what the server said when it let us in, by its names
	warnings []engine.Notice
	heard    func(engine.Notice) // of the statement that runs
	method   string
	saw      string // of the encryption
	done     []int  // cursors that are not needed any more
	together bool   // a transaction of [session.Together] is open
	last     outcome
	broken   error // why the session cannot be used any more
}

// outcome is how a call ended.
type outcome struct {
	status   int64 // of the session
	number   int   // the server's number of an error, 0 for none
	message  string
	rows     int64
	cursor   int
	position int // in the statement's bytes, from 0
}

// inTransaction is a part of outcome.status.
const inTransaction = 2

// noMore is the server's number for the end of the rows, which is no error.
const noMore = 1403

// call begins a message that calls a function.
func (s *session) call(function byte) *writer { return s.begin(messageFunction, function) }

func (s *session) begin(message, function byte) *writer {
	if s.number++; s.number == 0 {
		s.number = 1
	}
	w := &writer{pieces: s.spoken.pieces}
	w.bytes(message, function, s.number)
	return w
}

// problem gives the *finding.Problem in an error, nil for none.
func problem(err error) *finding.Problem {
	var p *finding.Problem
	if errors.As(err, &p) {
		return p
	}
	return nil
}

// answer reads messages up to the one that ends a call. More takes a message that is the call's
// own, and reports whether it is. Most is how long one text may be. The error is that of the
// server, or what kept it from answering; then the session is broken.
func (s *session) answer(ctx context.Context, leg string, most int, more func(r *reader, message byte) bool) error {
	r := &reader{stream: s.stream, pieces: s.spoken.pieces, most: most}
	resets := 0
	for {
		message := r.byte()
		ends := r.err == nil && s.message(r, message, more)
		switch {
		case errors.Is(r.err, errReset) && resets < mostMarkers: // what follows begins anew
			resets++
			r.err = nil
		case r.err != nil:
			s.broken = ended(ctx, leg, r.err)
			return s.broken
		case ends:
			if s.last.number != 0 && s.last.number != noMore {
				return failure(s.last, leg)
			}
			return nil
		}
	}
}

// message reads one message, and reports whether it ends a call.
func (s *session) message(r *reader, message byte, more func(r *reader, message byte) bool) (ends bool) {
	if more != nil && more(r, message) {
		return false
	}
	switch message {
	case messageError:
		s.last = s.summary(r)
		return true
	case messageStatus:
		s.last = outcome{}
		if s.spoken.end {
			s.last.status = r.number()
		}
		if s.spoken.sequence {
			r.number()
		}
		return true
	case messageWarning:
		number, size := int(r.number()), r.number()
		r.number()
		if number != 0 && size != 0 {
			s.warn(number, string(r.text()))
		}
	case messageParameter:
		s.parameters(r)
	case messageBeside:
		s.beside(r)
	default:
		r.wrong(fmt.Sprintf("a message of kind %d", message))
	}
	return false
}

// warn notes a warning for whoever runs a statement, or for the login.
func (s *session) warn(number int, text string) {
	text = strings.TrimSpace(text)
	if s.heard != nil {
		s.heard(engine.Notice{Level: "warning", Number: numbered(number), Text: outside.Said(text)})
		return
	}
	s.warned(number, text)
}

// summary reads how a call ended. Its fields have no names but those of their places; sources are
// go-ora, network/summary_object.go, and node-oracledb, lib/thin/protocol/messages/base.js,
// processErrorInfo.
func (s *session) summary(r *reader) (o outcome) {
	if s.spoken.end {
		o.status = r.number()
	}
	if s.spoken.fields >= 3 && s.spoken.sequence {
		r.number()
	}
	o.rows = r.number()
	o.number = int(r.number())
	r.number()
	r.number()
	o.cursor, o.position = int(r.number()), int(r.number())
	r.byte()
	r.byte()
	if s.spoken.fields >= 4 {
		r.number()
		r.number()
	} else {
		r.raw(2)
	}
	r.raw(2)
	r.number() // where a row is
	r.number()
	r.byte()
	r.number()
	r.number()
	r.number() // the system's error
	r.raw(2)
	r.number()
	r.number()
	r.said()
	if s.spoken.fields < 7 {
		for range 3 {
			r.said()
		}
	} else {
		s.several(r)
		o.number, o.rows = int(r.number()), r.number()
	}
	if o.number != 0 {
		o.message = strings.TrimSpace(string(r.text()))
	}
	return o
}

// several reads over the errors of statements that were run for several rows, which nothing here
// does.
func (s *session) several(r *reader) {
	for range 2 {
		if n := r.count(); n > 0 {
			long := r.byte() == 0xfe
			for range n {
				if long && s.spoken.pieces {
					r.number()
				} else if long {
					r.byte()
				}
				r.number()
			}
			if long {
				r.byte()
			}
		}
	}
	if n := r.count(); n > 0 {
		r.byte()
		for range n {
			r.number()
			r.text()
			r.raw(2)
		}
	}
}

// parameters reads over what a call gives back beside its result (go-ora, connection.go, readMsg).
func (s *session) parameters(r *reader) {
	for range r.count() {
		r.number()
	}
	r.raw(r.count())
	for range r.count() {
		r.pair()
	}
	if s.spoken.fields >= 4 {
		r.raw(r.count())
	}
}

// beside reads over what the server says beside an answer (node-oracledb,
// lib/thin/protocol/messages/base.js, processServerSidePiggyBack).
func (s *session) beside(r *reader) {
	switch kind := r.byte(); kind {
	case 1, 3:
	case 2:
		n := r.count()
		r.byte()
		r.raw(n)
	case 4:
		r.number()
		r.byte()
		if n := r.count(); n > 0 {
			r.byte()
			for range n {
				r.pair()
			}
		}
		r.number()
		r.number()
		r.number()
	case 5:
		r.number()
		r.byte()
		n := r.count()
		r.byte()
		for range n {
			r.pair()
		}
		r.number()
	case 7:
		r.said()
	case 8:
		r.number()
		r.byte()
		r.number()
		r.number()
		r.byte()
		r.said()
	case 9:
		r.number()
		r.byte()
	case 10:
		r.number()
		r.byte()
		for range 3 {
			r.number()
		}
	default:
		r.wrong(fmt.Sprintf("a message beside an answer of kind %d", kind))
	}
}

// Close implements engine.Session.
func (s *session) Close() {
	_ = s.stream.conn.SetDeadline(time.Now().Add(time.Second))
	if s.broken == nil {
		if s.stream.send(s.call(callLogOff).data) == nil {
			_ = s.answer(context.Background(), "query", mostText, nil)
		}
		_ = s.stream.write(packetData, 0, []byte{0, dataEnds})
	}
	_ = s.stream.conn.Close()
}

// Drop implements engine.Dropper.
func (s *session) Drop() { _ = s.stream.conn.Close() }
