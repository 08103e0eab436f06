// Package report prints. It has the writers through which everything leaves the program, so that
// no text from outside can steer a terminal, whoever forgot to clean it.
package report

import (
	"io"
	"os"
	"strings"
	"sync"

	"gentle-harbor/internal/outside"

	"golang.org/x/term"
)

// Text writes words for people: it escapes what could steer a terminal, and then puts in the
// colours of [Paint]. Each call of Write takes whole characters; several may be made at the same
// time.
type Text struct {
	To     io.Writer
	Colour bool // colours are wanted, where To is a terminal
	// Long leaves lines as long as they are: for what is copied. Else a terminal gets no line
	// that it must break by itself.
	Long bool

	mu     sync.Mutex // doors report side by side
	within bool       // the last write ended within a line
}

// Write cleans p, folds and colours it and writes it. The count is len(p) when all of it was
// written.
func (t *Text) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	text := string(p)
	if isPlain(t.To) {
		text = plain(text, true) // before its columns are counted
	}
	if !t.Long {
		columns, _ := Width(t)
		text = fit(text, columns)
	}
	if !outside.Clean(text) {
		text = colours.Replace(outside.Escape(text, kept))
	}
	if _, terminal := Terminal(t); !terminal {
		text = noInstruction(text, !t.within)
	}
	t.within = len(p) > 0 && p[len(p)-1] != '\n'
	if _, err := io.WriteString(t.To, text); err != nil {
		return 0, err
	}
	return len(p), nil
}

// noInstruction changes what a build system would take for an instruction in a log that it reads:
// "::" where a line begins, after any spaces, and "##[" anywhere. Begins says that the text
// begins a line.
func noInstruction(text string, begins bool) string {
	text = strings.ReplaceAll(text, "##[", `##\[`)
	if !strings.Contains(text, "::") {
		return text
	}
	lines := strings.SplitAfter(text, "\n")
	for i, line := range lines {
		if rest := strings.TrimLeft(line, " \t\r"); (i > 0 || begins) && strings.HasPrefix(rest, "::") {
			lines[i] = line[:len(line)-len(rest)] + `\` + rest
		}
	}
	return strings.Join(lines, "")
}

// Output is where everything that is printed goes. It keeps the first error of a write, so that
// no command has to look at it: what could not be written is never a success.
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

// Copied gives the writer for what is copied from a terminal: cleaned, and with its lines as long
// as they are.
func Copied(w io.Writer) io.Writer {
	if t, ok := w.(*Text); ok {
		return &Text{To: t.To, Colour: t.Colour, Long: true}
	}
	return w
}

// Bare gives the writer behind a Text, and any other as it is: for data that programs read, and
// for what moves a terminal's cursor.
func Bare(w io.Writer) io.Writer {
	if t, ok := w.(*Text); ok {
		return t.To
	}
	return w
}

// File gives the file behind a stream, where it is one.
func File(stream any) (*os.File, bool) {
	if w, ok := stream.(io.Writer); ok {
		stream = Bare(w)
	}
	if out, ok := stream.(*Output); ok {
		stream = out.To
	}
	if ascii, ok := stream.(*Plain); ok {
		stream = ascii.To
	}
	file, ok := stream.(*os.File)
	return file, ok
}

// Terminal gives the file behind a stream when it is a terminal.
func Terminal(stream any) (*os.File, bool) {
	file, ok := File(stream)
	return file, ok && term.IsTerminal(int(file.Fd()))
}

// Width gives the columns of the terminal that a stream is, and whether it is one.
func Width(stream io.Writer) (int, bool) {
	file, ok := Terminal(stream)
	if !ok {
		return 0, false
	}
	columns, _, err := term.GetSize(int(file.Fd()))
	if err != nil || columns < 40 {
		columns = 80
	}
	return columns, true
}

// isPlain reports whether what is written to a stream becomes ASCII.
func isPlain(w io.Writer) bool {
	w = Bare(w)
	if out, ok := w.(*Output); ok {
		w = out.To
	}
	_, is := w.(*Plain)
	return is
}
