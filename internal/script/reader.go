package script

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"gentle-harbor/internal/engine"
)

// MostStatement is how large one statement of a text may be.
const MostStatement = 64 << 20

// mostKept is how large a statement may be whose place in memory is used for the next one.
const mostKept = 1 << 20

// ErrTooLarge is the error of a statement that is larger than [MostStatement].
var ErrTooLarge = errors.New("a statement is larger than 64MB")

// Words are the words of another client in a text, which begin a line where a statement could
// begin. A person says which they are.
type Words struct {
	Include  []string // the rest of the line is a file whose statements come here
	End      []string // the rest of the line is the text that ends a statement from here on
	PassOver []string // the line is for show
}

// Piece is what comes next in a text: a statement, or a file that it includes.
type Piece struct {
	Statement
	Include string // a path as the text has it, "" for a statement
}

// LineError is a mistake in a text of statements.
type LineError struct {
	Spot
	Say string
	// Word is the first word of a line that begins no statement, "" for another mistake.
	Word string
}

// Error says what is wrong.
func (e *LineError) Error() string { return e.Say }

// Reader takes a text of statements apart as it comes. It holds one statement at a time, however
// long the text is.
type Reader struct {
	// Language is how the text is written; its Lexical may be set anew between two statements.
	Language engine.Language
	Words    Words
	// Begins says that each statement must begin with a word of the engine's; what does not is a
	// *LineError.
	Begins bool

	from         io.Reader
	buf          []byte
	whole        bool // the source has ended
	begin        int  // in buf: where the statement begins
	line, column int  // of that
	passed       int64
	ender        string
	step         int // how much is read in one go
	rules        *rules
	failed       error
}

// NewReader gives the reader of a text. A byte-order mark at its beginning is dropped.
func NewReader(l engine.Language, from io.Reader) *Reader {
	return &Reader{Language: l, from: from, line: 1, column: 1, ender: ";", step: 32 << 10, rules: usual}
}

// Passed gives how many bytes of the text were given out.
func (r *Reader) Passed() int64 { return r.passed }

// fill reads more, and reports whether there was more; it reads twice as much when it is called
// again for the same statement.
func (r *Reader) fill() bool {
	if r.whole || r.failed != nil {
		return false
	}
	if r.begin > 0 {
		r.buf = append(r.buf[:0], r.buf[r.begin:]...)
		r.begin = 0
	}
	if len(r.buf) > MostStatement {
		r.failed = ErrTooLarge
		return false
	}
	size := max(r.step, len(r.buf))
	had := len(r.buf)
	r.buf = slices.Grow(r.buf, size)
	n, err := io.ReadFull(r.from, r.buf[had:had+size])
	r.buf = r.buf[:had+n]
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		r.whole = true
	case err != nil:
		r.failed = err
	}
	return true
}

// advance passes over what is before a place in buf.
func (r *Reader) advance(to int) {
	part := r.buf[r.begin:to]
	if n := bytes.Count(part, []byte("\n")); n > 0 {
		r.line += n
		r.column = 1
		part = part[bytes.LastIndexByte(part, '\n')+1:]
	}
	r.column += utf8.RuneCount(part)
	r.passed += int64(to - r.begin)
	r.begin = to
}

// token gives the length and the kind of the token at a place in the statement, counted from its
// beginning; 0 at the end.
func (r *Reader) token(at int) (n int, kind engine.TokenKind) {
	for {
		n, kind = engine.Token(r.Language.Lexical, r.buf[r.begin+at:], r.whole)
		if n > 0 || r.failed != nil {
			return n, kind
		}
		if !r.fill() {
			return 0, kind
		}
	}
}

// Next gives what comes next; the error is io.EOF at the end, a *LineError for a mistake in the
// text, or why no more could be read.
func (r *Reader) Next() (Piece, error) {
	if r.passed == 0 && r.begin == 0 && len(r.buf) == 0 {
		for len(r.buf) < len("\ufeff") && r.fill() {
		}
		if bytes.HasPrefix(r.buf, []byte("\ufeff")) {
			r.buf = r.buf[len("\ufeff"):]
		}
	}
	body := bodies{l: r.Language, rules: r.rules}
	met := -1 // where the first word of the statement is, from its beginning
	for at := 0; ; {
		if met < 0 {
			piece, again, err := r.alone(at)
			switch {
			case err != nil || piece.Include != "":
				return piece, err
			case again:
				at = 0
				continue
			}
		}
		n, kind := r.token(at)
		if r.failed != nil {
			return Piece{}, r.failed
		}
		here := r.begin + at
		switch {
		case n == 0:
			return r.give(at, at, met)
		case kind == engine.Space, kind == engine.Comment && !r.executable(r.buf[here:here+n]):
			at += n
			continue
		case kind == engine.Mark && r.ends(at) &&
			(r.ender != ";" || !body.inside() && !slices.Contains(r.Language.Whole, body.first)):
			if met < 0 { // nothing is before it
				r.advance(here + len(r.ender))
				at = 0
				continue
			}
			return r.give(at, at+len(r.ender), met)
		}
		if met < 0 {
			met = at
		}
		if !body.settled() {
			body.see(kind, string(r.buf[here:here+min(n, 40)]))
		}
		at += n
	}
}

// executable reports whether a comment is one that the engine runs.
func (r *Reader) executable(comment []byte) bool {
	return slices.ContainsFunc(r.Language.Executable, func(mark string) bool {
		return bytes.HasPrefix(comment, []byte(mark))
	})
}

// ends reports whether the text that ends a statement is at a place in it.
func (r *Reader) ends(at int) bool {
	for len(r.buf)-r.begin-at < len(r.ender) && r.fill() {
	}
	return bytes.HasPrefix(r.buf[r.begin+at:], []byte(r.ender))
}

// give gives the statement up to a place, and goes on at another.
func (r *Reader) give(to, next, met int) (Piece, error) {
	if met < 0 {
		r.advance(r.begin + next)
		return Piece{}, io.EOF
	}
	text := string(r.buf[r.begin : r.begin+to])
	if rest := r.buf[r.begin+next:]; len(text) > mostKept { // what is held twice is let go before the statement runs
		defer func() { r.buf, r.begin = slices.Clone(rest), 0 }()
	}
	lead := len(text) - len(strings.TrimLeft(text, " \t\r\n\f\v"))
	r.advance(r.begin + lead)
	s := Statement{Text: strings.TrimSpace(text), line: r.line, column: r.column}
	spot, _ := s.spot(met - lead)
	s.Line, s.Column = spot.Line, spot.Column
	r.advance(r.begin + next - lead)
	if r.Begins {
		if word := r.Language.First(s.Text); word != "" && r.Language.Objects == nil &&
			!slices.Contains(r.Language.Begins, word) {
			return Piece{}, &LineError{s.Where(met - lead), fmt.Sprintf("%s begins no statement", word), word}
		}
	}
	return Piece{Statement: s}, nil
}

// lineAt gives the line at a place in the statement without its end, and the length of it with
// its end.
func (r *Reader) lineAt(at int) (line string, n int) {
	for {
		rest := r.buf[r.begin+at:]
		if end := bytes.IndexByte(rest, '\n'); end >= 0 {
			return strings.TrimSuffix(string(rest[:end]), "\r"), end + 1
		}
		if len(rest) > 64<<10 || !r.fill() {
			return string(r.buf[r.begin+at:]), len(r.buf) - r.begin - at
		}
	}
}

// includes begins the comment by which a text includes a file.
const includes = "gharbor: include "

// alone takes a line that is no part of a statement: one that includes a file, or that has a word
// of another client. Again says that something was taken and that the statement begins anew.
func (r *Reader) alone(at int) (piece Piece, again bool, err error) {
	if at == 0 && len(r.buf) == r.begin {
		r.fill()
	}
	if r.begin+at >= len(r.buf) {
		return Piece{}, false, r.failed
	}
	c := r.buf[r.begin+at]
	comment := c == '-'
	if !comment && (c <= ' ' || len(r.Words.Include)+len(r.Words.End)+len(r.Words.PassOver) == 0) {
		return Piece{}, false, nil
	}
	line, n := r.lineAt(at)
	word, rest, _ := strings.Cut(strings.TrimRight(line, " \t"), " ")
	rest = strings.TrimSpace(rest)
	has := func(list []string) bool {
		return slices.ContainsFunc(list, func(each string) bool {
			return strings.EqualFold(each, strings.TrimSuffix(word, ";"))
		})
	}
	path := ""
	switch {
	case comment:
		after, is := strings.CutPrefix(strings.TrimLeft(strings.TrimPrefix(line, "--"), " \t"), includes)
		if !is || !strings.HasPrefix(line, "--") {
			return Piece{}, false, nil
		}
		path = strings.TrimSpace(after)
	case has(r.Words.Include):
		path = strings.TrimSpace(strings.TrimSuffix(rest, ";"))
		if len(path) > 1 && (path[0] == '\'' || path[0] == '"') && path[len(path)-1] == path[0] {
			path = path[1 : len(path)-1]
		}
	case has(r.Words.End):
		r.advance(r.begin + at)
		spot := r.spot(line)
		if rest == "" || len(rest) > 20 {
			return Piece{}, false, &LineError{spot,
				fmt.Sprintf("the line that begins with %s says with what a statement ends, and has no text for it",
					word), ""}
		}
		r.ender = rest
		r.advance(r.begin + n)
		return Piece{}, true, nil
	case has(r.Words.PassOver):
		r.advance(r.begin + at + n)
		return Piece{}, true, nil
	default:
		return Piece{}, false, nil
	}
	r.advance(r.begin + at)
	spot := r.spot(line)
	if path == "" {
		return Piece{}, false, &LineError{spot, "the line includes a file, and names none", ""}
	}
	piece = Piece{Statement: Statement{Text: line, Line: spot.Line, Column: spot.Column, line: spot.Line,
		column: spot.Column}, Include: path}
	r.advance(r.begin + n)
	return piece, false, nil
}

func (r *Reader) spot(line string) Spot {
	spot := Spot{Line: r.line, Column: r.column, Mark: 1}
	if !Secretive(line) {
		spot.Text = line
	}
	return spot
}

// Data gives the lines that follow a statement which reads data, up to a line with a backslash
// and a dot alone, or to the end of the text.
func (r *Reader) Data() io.Reader { return &data{r: r, first: true} }

// data is the lines of data in a text.
type data struct {
	r     *Reader
	first bool
	line  []byte
	ended bool
}

// Read implements io.Reader.
func (d *data) Read(p []byte) (int, error) {
	if d.first { // the rest of the statement's line
		d.first = false
		_, n := d.r.lineAt(0)
		d.r.advance(d.r.begin + n)
	}
	if len(d.line) == 0 && !d.ended {
		r := d.r
		line, n := r.lineAt(0)
		if n == 0 && r.failed != nil {
			return 0, r.failed
		}
		if d.ended = n == 0 || line == `\.`; !d.ended {
			d.line = append(d.line[:0], r.buf[r.begin:r.begin+n]...)
		}
		r.advance(r.begin + n)
	}
	if len(d.line) == 0 {
		return 0, io.EOF
	}
	n := copy(p, d.line)
	d.line = d.line[n:]
	return n, nil
}
