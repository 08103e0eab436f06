// Package budget bounds what texts from outside grow into while a library reads them. A few
// hundred bytes of variables that name each other become gigabytes; a few megabytes of empty JSON
// objects become a thousand times as much memory. Each bound is checked before a library sees the
// text, or while it reads: nothing of a text that is over its budget is kept.
package budget

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
)

// ExceededError says which bound a text is over.
type ExceededError struct {
	// What names what was counted, for a sentence: "more than LIMIT WHAT".
	What  string
	Limit int
}

// Error gives the bound in words.
func (e *ExceededError) Error() string { return fmt.Sprintf("it has more than %d %s", e.Limit, e.What) }

// Exceeded reports whether an error is, or wraps, an [ExceededError].
func Exceeded(err error) bool {
	var e *ExceededError
	return errors.As(err, &e)
}

// Meter counts what one reading has spent. Its zero value allows nothing. It is not for several
// goroutines.
type Meter struct {
	// Bytes, Steps, Ports and Files are what may be spent of each.
	Bytes, Steps, Ports, Files Count

	over *ExceededError
}

// Count is one count of a meter.
type Count struct {
	Limit int
	spent int
}

// Spend takes from one of the meter's counts; what names it for the error. Once a count is over,
// each call gives the same error.
func (m *Meter) Spend(count *Count, n int, what string) error {
	if m.over == nil && n > count.Limit-count.spent {
		m.over = &ExceededError{what, count.Limit}
	}
	if m.over != nil {
		return m.over
	}
	count.spent += n
	return nil
}

// Err gives why the meter is over, nil where it is not.
func (m *Meter) Err() error {
	if m.over == nil {
		return nil
	}
	return m.over
}

// Shape bounds a JSON text (RFC 8259).
type Shape struct {
	// Values is how many values there may be altogether, List how many in one array or object,
	// Depth how deep they may lie in each other.
	Values, List, Depth int
}

// JSON gives a reader of the same bytes that ends with an [ExceededError] where the JSON text in
// them is over its shape. A text that is no JSON passes: the library that reads it says what is
// wrong.
func JSON(from io.Reader, shape Shape) io.Reader { return &shaped{from: from, shape: shape} }

type shaped struct {
	from            io.Reader
	shape           Shape
	values          int
	counts          []int // of each array and object that is open
	quoted, escaped bool
	over            error
}

// Read reads on, and counts.
func (s *shaped) Read(p []byte) (int, error) {
	if s.over != nil {
		return 0, s.over
	}
	n, err := s.from.Read(p)
	for _, b := range p[:n] {
		if s.over = s.next(b); s.over != nil {
			return 0, s.over
		}
	}
	return n, err
}

func (s *shaped) next(b byte) error {
	if s.quoted {
		switch {
		case s.escaped:
			s.escaped = false
		case b == '\\':
			s.escaped = true
		case b == '"':
			s.quoted = false
		}
		return nil
	}
	switch b {
	case '"':
		s.quoted = true
	case '[', '{':
		if len(s.counts) >= s.shape.Depth {
			return &ExceededError{"lists and objects in each other", s.shape.Depth}
		}
		s.counts = append(s.counts, 1)
		return s.value()
	case ']', '}':
		s.counts = s.counts[:max(len(s.counts)-1, 0)]
	case ',':
		if last := len(s.counts) - 1; last >= 0 {
			if s.counts[last]++; s.counts[last] > s.shape.List {
				return &ExceededError{"values in one list", s.shape.List}
			}
		}
		return s.value()
	}
	return nil
}

func (s *shaped) value() error {
	if s.values++; s.values > s.shape.Values {
		return &ExceededError{"values", s.shape.Values}
	}
	return nil
}

// Kept bounds the JSON of a file of this program's own, which another program may have written
// all the same.
var Kept = Shape{Values: 100_000, List: 50_000, Depth: 32}

// Unmarshal is json.Unmarshal for a text that is within [Kept].
func Unmarshal(data []byte, into any) error {
	if _, err := io.Copy(io.Discard, JSON(bytes.NewReader(data), Kept)); err != nil {
		return err
	}
	return json.Unmarshal(data, into)
}
