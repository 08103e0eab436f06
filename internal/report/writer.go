// Package report prints. It has the writers through which everything leaves the program, so that no text from
// outside can steer a terminal, whoever forgot to clean it.
package report

import (
	"io"
	"strings"
	"sync"

	"gentle-harbor/internal/outside"
)

// Colours, by what they stand for. They are never the only sign.
const (
	Good   = "32"
	Bad    = "31;1"
	Strong = "1"
	Faint  = "90" // grey; what a terminal makes of "faint" can be darker than the text
)

// marks stand for colours in a text on its way to a [Text]. They are characters for private use, which
// outside.Cell escapes in every text from outside.
var marks = map[string]rune{Good: '\uf8a1', Bad: '\uf8a2', Strong: '\uf8a3', Faint: '\uf8a4'}

const ends = '\uf8a0'

// Paint marks a text for a [Text] to show in a colour.
func Paint(colour, text string) string { return string(marks[colour]) + text + string(ends) }

var colours = strings.NewReplacer(
	string(marks[Good]), "\x1b["+Good+"m", string(marks[Bad]), "\x1b["+Bad+"m",
	string(marks[Strong]), "\x1b["+Strong+"m", string(marks[Faint]), "\x1b["+Faint+"m", string(ends), "\x1b[0m",
)

// kept are the characters that a Text lets pass although outside.Unsafe names them.
var kept = "\n\t" + string(marks[Good]) + string(marks[Bad]) + string(marks[Strong]) + string(marks[Faint]) + string(ends)

// Text writes words for people: it escapes what could steer a terminal, and then puts in the colours of [Paint]. Each
// call of Write takes whole characters.
type Text struct {
	To     io.Writer
	Colour bool // colours are wanted, where To is a terminal
	// Long leaves lines as long as they are: for what is copied. Else a terminal gets no line that it must break by itself.
	Long bool
}

// Write cleans p, folds and colours it and writes it. The count is len(p) when all of it was written.
func (t *Text) Write(p []byte) (int, error) {
	text := string(p)
	if !t.Long {
		columns, _ := Width(t)
		text = fit(text, columns)
	}
	if !outside.Clean(text) {
		text = colours.Replace(outside.Escape(text, kept))
	}
	if _, err := io.WriteString(t.To, text); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Output is where everything that is printed goes. It keeps the first error of a write, so that no command has to look at it: what could not be
// written is never a success.
type Output struct {
	To io.Writer
	// Failed is called at the first error; it may be nil.
	Failed func()

	mu  sync.Mutex
	err error
}

// Write writes p, and nothing any more after an error.
func (o *Output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.err != nil {
		return 0, o.err
	}
	n, err := o.To.Write(p)
	if err != nil {
		o.err = err
		if o.Failed != nil {
			o.Failed()
		}
	}
	return n, err
}

// Err gives the first error of a write, nil for none.
func (o *Output) Err() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.err
}

// Copied gives the writer for what is copied from a terminal: cleaned, and with its lines as long as they are.
func Copied(w io.Writer) io.Writer {
	if t, ok := w.(*Text); ok {
		return &Text{To: t.To, Colour: t.Colour, Long: true}
	}
	return w
}

// Bare gives the writer behind a Text, and any other as it is: for data that programs read, and for what moves a
// terminal's cursor.
func Bare(w io.Writer) io.Writer {
	if t, ok := w.(*Text); ok {
		return t.To
	}
	return w
}
