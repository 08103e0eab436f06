// Package rowfile reads rows from files: CSV (RFC 4180), TSV and JSON, an object a line, each as
// the command run writes it. In CSV nothing is null and "" is the empty text; in TSV null is \N,
// and \t, \n, \r and \\ stand for a tab, line ends and a backslash.
package rowfile

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"gentle-harbor/internal/engine"
)

// Forms are the forms of files that can be read.
var Forms = []string{"csv", "tsv", "jsonl"}

// FormOf gives the form that a file's name ends in, before .gz; "" for none.
func FormOf(name string) string {
	name = strings.TrimSuffix(strings.ToLower(name), ".gz")
	for _, form := range Forms {
		if strings.HasSuffix(name, "."+form) {
			return form
		}
	}
	return ""
}

// MostRow is how large a row may be.
const MostRow = 64 << 20

// Options say how a file is written.
type Options struct {
	Form    string // of Forms
	Between byte   // what is between two fields of CSV; 0 for a comma
	// Null is the text that stands for null in CSV and TSV, outside of quotes; nil for the usual
	// one of the form.
	Null *string
	// NoHeader says that the first line is a row. Columns names the fields' columns, in their
	// order, instead of a header; of jsonl, the keys that there may be.
	NoHeader bool
	Columns  []string
}

// Error is a mistake in a file.
type Error struct {
	Line int64
	Say  string
	// Name is the column that is not known, where that is the mistake.
	Name string
}

// Error says what is wrong, with its line.
func (e *Error) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Say) }

// Reader reads the rows of a file, one at a time.
type Reader struct {
	o       Options
	from    *bufio.Reader
	line    int64 // where the next row begins, from 1
	n       int64 // rows given out
	passed  int64
	columns []string
	at      map[string]int // jsonl: where a key's column is
	buf     []byte         // the row's fields, one behind the other
	fields  []engine.Field
	starts  []span
	line0   []byte // the line that is read

	marks []mark
}

// span is where a field is in buf.
type span struct {
	from, to int
	null     bool
}

// mark is a row whose line is not the one after the line of the row before it.
type mark struct{ row, line int64 }

// mostMarks is how many of them are held; after that a line is only about right.
const mostMarks = 1 << 20

// New gives the reader of a file, and reads its header where it has one: Columns gives the names
// then. A byte-order mark is dropped. The error is an *Error, io.EOF for a file without a line,
// or that of reading.
func New(from io.Reader, o Options) (*Reader, error) {
	if o.Between == 0 {
		o.Between = ','
	}
	if o.Form == "tsv" {
		o.Between = '\t'
	}
	r := &Reader{o: o, from: bufio.NewReaderSize(from, 256<<10), line: 1, columns: o.Columns}
	if first, _ := r.from.Peek(3); bytes.Equal(first, []byte("\ufeff")) {
		_, _ = r.from.Discard(3)
		r.passed = 3
	}
	if _, err := r.from.Peek(1); err != nil {
		return r, err
	}
	if o.Form == "jsonl" {
		return r, r.keys()
	}
	if o.NoHeader {
		return r, nil
	}
	fields, err := r.record()
	if err != nil {
		return r, err
	}
	var names []string
	for _, f := range fields {
		names = append(names, string(f.Text))
	}
	if o.Columns != nil {
		if len(names) != len(o.Columns) {
			return r, &Error{Line: 1,
				Say: fmt.Sprintf("in the header there %s, and --columns names %d", counted(len(names)),
					len(o.Columns))}
		}
		return r, nil
	}
	r.columns = names
	return r, Names(names, 1)
}

// Names says what is wrong with the names of columns: one that is missing, or there twice.
func Names(names []string, line int64) error {
	for i, name := range names {
		switch {
		case name == "":
			return &Error{Line: line, Say: fmt.Sprintf("the column %d has no name", i+1)}
		case slices.Contains(names[:i], name):
			return &Error{Line: line, Say: fmt.Sprintf("the column %s is there twice", name), Name: name}
		}
	}
	return nil
}

// Columns gives the names of the columns, nil where neither a header nor a person says them.
func (r *Reader) Columns() []string { return r.columns }

// Expect names the columns where neither a header nor a person does: each row that is read from
// here on has a field for each.
func (r *Reader) Expect(columns []string) { r.columns = columns }

// Passed gives how many bytes were read.
func (r *Reader) Passed() int64 { return r.passed }

// LineOf gives the line at which a row begins that was given out; rows are counted from 1.
func (r *Reader) LineOf(row int64) int64 {
	i := sort.Search(len(r.marks), func(i int) bool { return r.marks[i].row > row }) - 1
	if i < 0 {
		return row
	}
	return r.marks[i].line + row - r.marks[i].row
}

// Next implements engine.RowSource: the row is good until the next one is read. Its error is
// io.EOF at the end, an *Error, or that of reading.
func (r *Reader) Next() ([]engine.Field, error) {
	began := r.line
	var fields []engine.Field
	var err error
	if r.o.Form == "jsonl" {
		fields, began, err = r.object()
	} else {
		fields, err = r.record()
	}
	if err != nil {
		return nil, err
	}
	if r.columns != nil && len(fields) != len(r.columns) {
		return nil, &Error{Line: began, Say: fmt.Sprintf("there %s, and %s", counted(len(fields)), wanted(len(r.columns)))}
	}
	if r.n++; r.LineOf(r.n) != began && len(r.marks) < mostMarks {
		r.marks = append(r.marks, mark{r.n, began})
	}
	return fields, nil
}

func counted(n int) string {
	if n == 1 {
		return "is 1 field"
	}
	return fmt.Sprintf("are %d fields", n)
}

func wanted(n int) string {
	if n == 1 {
		return "1 is wanted"
	}
	return fmt.Sprintf("%d are wanted", n)
}

// readLine reads a line with its end into line0, behind what is there; its error is io.EOF where
// there is nothing more.
func (r *Reader) readLine() error {
	had := len(r.line0)
	for {
		part, err := r.from.ReadSlice('\n')
		r.line0 = append(r.line0, part...)
		r.passed += int64(len(part))
		switch {
		case len(r.line0) > MostRow:
			return &Error{Line: r.line, Say: "the row is larger than 64MB"}
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case errors.Is(err, io.EOF) && len(r.line0) > had:
			return nil
		}
		return err
	}
}

// ended gives a line without its end.
func ended(line []byte) []byte {
	line = bytes.TrimSuffix(line, []byte("\n"))
	return bytes.TrimSuffix(line, []byte("\r"))
}

// record reads a row of CSV or TSV.
func (r *Reader) record() ([]engine.Field, error) {
	r.line0, r.buf, r.starts = r.line0[:0], r.buf[:0], r.starts[:0]
	if err := r.readLine(); err != nil {
		return nil, err
	}
	began, lines := r.line, int64(1)
	if !utf8.Valid(r.line0) {
		return nil, r.notUTF8(r.line0)
	}
	if r.o.Form == "tsv" {
		for field := range bytes.SplitSeq(ended(r.line0), []byte{'\t'}) {
			r.tabbed(field)
		}
	} else if err := r.commas(&lines); err != nil {
		return nil, err
	}
	r.line = began + lines
	r.fields = r.fields[:0]
	for _, s := range r.starts {
		r.fields = append(r.fields, engine.Field{Text: r.buf[s.from:s.to:s.to], Null: s.null})
	}
	return r.fields, nil
}

func (r *Reader) notUTF8(line []byte) error {
	at := 0
	for at < len(line) {
		c, n := utf8.DecodeRune(line[at:])
		if c == utf8.RuneError && n == 1 {
			break
		}
		at += n
	}
	return &Error{Line: r.line, Say: fmt.Sprintf("the byte %d of the line is no UTF-8 (0x%02x): write the file "+
		"anew as UTF-8",
		at+1, line[min(at, len(line)-1)])}
}

// tabbed takes up a field of TSV.
func (r *Reader) tabbed(field []byte) {
	from := len(r.buf)
	null := r.o.Null == nil && string(field) == `\N` || r.o.Null != nil && string(field) == *r.o.Null
	if null {
		r.starts = append(r.starts, span{from, from, true})
		return
	}
	for i := 0; i < len(field); i++ {
		c := field[i]
		if c == '\\' && i+1 < len(field) {
			i++
			switch c = field[i]; c {
			case 't':
				c = '\t'
			case 'n':
				c = '\n'
			case 'r':
				c = '\r'
			}
		}
		r.buf = append(r.buf, c)
	}
	r.starts = append(r.starts, span{from, len(r.buf), false})
}

// commas takes a row of CSV apart; a field in quotes may have several lines.
func (r *Reader) commas(lines *int64) error {
	for at := 0; ; {
		from := len(r.buf)
		if at < len(r.line0) && r.line0[at] == '"' {
			at++
			for {
				quote := bytes.IndexByte(r.line0[at:], '"')
				if quote < 0 {
					r.buf = append(r.buf, r.line0[at:]...)
					at = len(r.line0)
					if err := r.readLine(); errors.Is(err, io.EOF) {
						return &Error{Line: r.line, Say: "a quote is not closed"}
					} else if err != nil {
						return err
					}
					*lines++
					if !utf8.Valid(r.line0[at:]) {
						r.line += *lines - 1
						return r.notUTF8(r.line0[at:])
					}
					continue
				}
				r.buf = append(r.buf, r.line0[at:at+quote]...)
				at += quote + 1
				if at < len(r.line0) && r.line0[at] == '"' {
					r.buf = append(r.buf, '"')
					at++
					continue
				}
				break
			}
			rest := ended(r.line0)
			r.starts = append(r.starts, span{from, len(r.buf), false})
			switch {
			case at >= len(rest):
				return nil
			case rest[at] != r.o.Between:
				return &Error{Line: r.line + *lines - 1,
					Say: fmt.Sprintf("behind a field in quotes is %q instead of %q", rest[at], r.o.Between)}
			}
			at++
			continue
		}
		rest := ended(r.line0)[min(at, len(ended(r.line0))):]
		end := bytes.IndexByte(rest, r.o.Between)
		field := rest
		if end >= 0 {
			field = rest[:end]
		}
		if quote := bytes.IndexByte(field, '"'); quote >= 0 {
			return &Error{Line: r.line + *lines - 1,
				Say: "a quote is in the middle of a field: write the whole field in quotes, and each quote in it twice"}
		}
		r.buf = append(r.buf, field...)
		null := r.o.Null == nil && len(field) == 0 || r.o.Null != nil && string(field) == *r.o.Null
		r.starts = append(r.starts, span{from, len(r.buf), null})
		if end < 0 {
			return nil
		}
		at += end + 1
	}
}

// keys reads the first object of jsonl for the names of the columns, where nobody says them.
func (r *Reader) keys() error {
	if r.o.Columns == nil {
		for size := 64 << 10; ; size *= 2 {
			ahead, err := r.from.Peek(min(size, r.from.Size()))
			line, _, whole := bytes.Cut(bytes.TrimLeft(ahead, " \t\r\n"), []byte("\n"))
			if !whole && err == nil && size < MostRow {
				r.from = bufio.NewReaderSize(r.from, 2*size)
				continue
			}
			names, err := keysOf(line)
			if err != nil {
				return &Error{Line: 1, Say: err.Error()}
			}
			r.columns = names
			break
		}
	}
	r.at = map[string]int{}
	for i, name := range r.columns {
		r.at[name] = i
	}
	return Names(r.columns, 1)
}

func keysOf(line []byte) (names []string, err error) {
	d := json.NewDecoder(bytes.NewReader(line))
	return names, members(d, func(key string, _ json.RawMessage) error {
		names = append(names, key)
		return nil
	})
}

var errNoObject = errors.New("the line is no JSON object (RFC 8259), such as {\"name\": \"Greystone\"}")

// members goes through the members of an object.
func members(d *json.Decoder, each func(key string, value json.RawMessage) error) error {
	if open, err := d.Token(); err != nil || open != json.Delim('{') {
		return errNoObject
	}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return errNoObject
		}
		var value json.RawMessage
		if err := d.Decode(&value); err != nil {
			return errNoObject
		}
		if err := each(key.(string), value); err != nil {
			return err
		}
	}
	if _, err := d.Token(); err != nil {
		return errNoObject
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return errors.New("the line has more than one object")
	}
	return nil
}

// object reads a row of jsonl. Lines with nothing but space are passed over. A key that is
// missing is null.
func (r *Reader) object() ([]engine.Field, int64, error) {
	for {
		r.line0 = r.line0[:0]
		if err := r.readLine(); err != nil {
			return nil, r.line, err
		}
		if len(bytes.TrimSpace(r.line0)) > 0 {
			break
		}
		r.line++
	}
	began := r.line
	if !utf8.Valid(r.line0) {
		return nil, began, r.notUTF8(r.line0)
	}
	r.fields = r.fields[:0]
	for range r.columns {
		r.fields = append(r.fields, engine.Field{Null: true})
	}
	said := make([]bool, len(r.columns))
	err := members(json.NewDecoder(bytes.NewReader(r.line0)), func(key string, value json.RawMessage) error {
		i, known := r.at[key]
		switch {
		case !known:
			return &Error{Line: began,
				Say: fmt.Sprintf("the key %s is not among those of the first line (%s)", key,
					strings.Join(r.columns, ", ")), Name: key}
		case said[i]:
			return &Error{Line: began, Say: fmt.Sprintf("the key %s is there twice", key), Name: key}
		}
		said[i] = true
		r.fields[i] = fieldOf(value)
		return nil
	})
	var mistake *Error
	if err != nil && !errors.As(err, &mistake) {
		err = &Error{Line: began, Say: err.Error()}
	}
	r.line++
	return r.fields, began, err
}

// fieldOf gives a JSON value as the text of it: a string without its quotes, null as null, and
// all else as it is.
func fieldOf(value json.RawMessage) engine.Field {
	switch value[0] {
	case 'n':
		return engine.Field{Null: true}
	case '"':
		var text string
		if json.Unmarshal(value, &text) == nil {
			return engine.Field{Text: []byte(text)}
		}
	}
	return engine.Field{Text: value}
}
