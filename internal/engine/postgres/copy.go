package postgres

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// copyPiece is how much is read of what is copied in before it is sent on: a message costs five
// bytes.
const copyPiece = 64 << 10

var errInterrupted = errors.New("interrupted")

// copies reports whether a statement is a COPY, whose data goes over the connection beside the
// rows ("COPY Operations", PostgreSQL's manual).
func copies(statement string) bool {
	word := language.Begin(statement)
	end := strings.IndexFunc(word, func(r rune) bool { return (r|0x20 < 'a' || r|0x20 > 'z') && r != '_' })
	if end < 0 {
		end = len(word)
	}
	return strings.EqualFold(word[:end], "copy")
}

// source is what a COPY reads: nothing where the reader is nil. It ends early when stop is closed.
type source struct {
	io.Reader
	stop <-chan struct{}
}

// copy runs a COPY: what the server sends goes to out, and what it asks for comes from in. Which
// of both it is, or neither (COPY to a file of the server's), the server says.
func (s *session) copy(ctx context.Context, statement string, in source, out engine.Rows,
	most int) (engine.Summary, error) {
	summary := engine.Summary{Affected: -1}
	to := s.pg.Frontend()
	to.SetMaxBodyLen(most)
	to.Send(&pgproto3.Parse{Query: statement})
	to.Send(&pgproto3.Bind{})
	to.Send(&pgproto3.Execute{})
	to.Send(&pgproto3.Flush{}) // Sync comes when it is known who sends data
	if err := to.Flush(); err != nil {
		return summary, s.failure(ctx, err)
	}
	var failed error    // what the caller is told
	var feeding *feeder // while data goes in
	sync := func() {
		if feeding != nil {
			if err := feeding.end(); err != nil {
				failed = fmt.Errorf("what is to be copied in could not be read: %w", err) // the server only repeats that
			}
			feeding = nil
			return
		}
		to.Send(&pgproto3.Sync{})
		if err := to.Flush(); err != nil && failed == nil {
			failed = s.failure(ctx, err)
		}
	}
	// The driver minds the context while it reads; this is for a write that a server does not take.
	stop := context.AfterFunc(ctx, func() { _ = s.pg.Conn().SetWriteDeadline(time.Unix(1, 0)) })
	defer stop()
	for {
		message, err := s.pg.ReceiveMessage(ctx)
		if err != nil {
			if feeding != nil {
				_ = feeding.end()
			}
			return summary, s.failure(ctx, err)
		}
		switch message := message.(type) {
		case *pgproto3.CopyInResponse:
			if feeding != nil {
				_ = feeding.end()
				return summary, engine.Malformed("two requests for data")
			}
			if !language.ReadsInput(statement) { // a server may ask for it in answer to any
				return summary, engine.Malformed("a request for data that the statement does not make")
			}
			if in.Reader == nil {
				failed = &finding.Problem{Code: finding.QueryWantsData}
				to.Send(&pgproto3.CopyFail{Message: "the client has no data to send"})
				sync()
				continue
			}
			feeding = feed(to, in)
		case *pgproto3.CopyOutResponse:
			summary.Copied = true
		case *pgproto3.CopyData:
			if failed != nil {
				continue
			}
			if failed = out.Bytes(message.Data); failed != nil {
				// Nothing more can be shown: the rest of what may be a very long answer is not
				// worth waiting for.
				limited, cancel := context.WithTimeout(ctx, time.Second)
				_ = s.cancel(limited)
				cancel()
			}
		case *pgproto3.CommandComplete:
			summary.Tag = string(message.CommandTag)
			count := pgconn.NewCommandTag(summary.Tag).RowsAffected()
			if summary.Copied {
				summary.Rows = count
			} else {
				summary.Affected = count
			}
			sync()
		case *pgproto3.ErrorResponse:
			if failed == nil {
				failed = s.failure(ctx, pgconn.ErrorResponseToPgError(message))
			}
			sync()
		case *pgproto3.ReadyForQuery:
			return summary, failed
		}
	}
}

// feeder sends what is copied in, while the server's words are read beside it.
type feeder struct {
	halt chan struct{} // closed when the server wants no more
	done chan error
	once sync.Once
}

// piece is a part of what is copied in, or why there is no more.
type piece struct {
	data []byte
	err  error
}

// feed starts to send what comes from in.
func feed(to *pgproto3.Frontend, in source) *feeder {
	f := &feeder{halt: make(chan struct{}), done: make(chan error, 1)}
	pieces := make(chan piece)
	go func() {
		for {
			p := piece{data: make([]byte, copyPiece)}
			var n int
			n, p.err = in.Read(p.data)
			p.data = p.data[:n]
			select {
			case pieces <- p:
			case <-f.halt: // a read of a terminal cannot be aborted; it ends with the program
				return
			}
			if p.err != nil {
				return
			}
		}
	}()
	go func() { f.done <- f.send(to, pieces, in.stop) }()
	return f
}

// send sends pieces until there are no more, then says so, and asks the server for the rest of
// its answer. Its error is that of reading.
func (f *feeder) send(to *pgproto3.Frontend, pieces <-chan piece, stop <-chan struct{}) (err error) {
	for open := true; open; {
		var p piece
		select {
		case p = <-pieces:
		case <-f.halt:
			open = false
			continue
		case <-stop:
			p.err = errInterrupted
		}
		if len(p.data) > 0 {
			to.Send(&pgproto3.CopyData{Data: p.data})
		}
		switch {
		case p.err == io.EOF:
			to.Send(&pgproto3.CopyDone{})
			open = false
		case p.err == errInterrupted:
			to.Send(&pgproto3.CopyFail{Message: "interrupted by the client's user"})
			open = false
		case p.err != nil:
			to.Send(&pgproto3.CopyFail{Message: "the client could not read its data"})
			open, err = false, p.err
		}
		if to.Flush() != nil {
			return err // the server's own words, or the broken connection, say why
		}
	}
	to.Send(&pgproto3.Sync{})
	_ = to.Flush()
	return err
}

// end has it stop and waits until it has.
func (f *feeder) end() error {
	f.once.Do(func() { close(f.halt) })
	err := <-f.done
	f.done <- nil
	return err
}
