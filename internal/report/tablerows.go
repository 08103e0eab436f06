package report

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"
	"unicode/utf8"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/outside"

	"golang.org/x/term"
)

// A table has the widths that its first rows need: elsewhere than at a terminal, where it can
// wait, firstRows of them, or as many as have firstBytes. At a terminal it begins after a
// screenful, or when firstWait has passed since the first row. cellLimit is how many characters
// of one cell it shows.
const (
	firstRows  = 1000
	firstBytes = 4 << 20
	firstWait  = 300 * time.Millisecond
	cellLimit  = 4 << 10
)

type tablePrinter struct {
	out, errs io.Writer
	null      string // what is shown for no value
	// after has something done later, in a goroutine of its own, unless it is stopped before.
	after      func(time.Duration, func()) (stop func() bool)
	atTerminal bool

	mu      sync.Mutex // a timer prints too
	columns []engine.Column
	table   *Growing
	most    int // rows that are waited for
	rows    [][]string
	bytes   int
	cut     bool // a cell is not shown whole
	stop    func() bool
	copied  *bufio.Writer
}

// NoValue is what a table shows for no value, where nobody says another sign.
const NoValue = "(null)"

// NewTable prints rows as a table; null is what is shown for no value, "" for [NoValue].
func NewTable(out, errs io.Writer, null string) Rows { return newTable(out, errs, null) }

func newTable(out, errs io.Writer, null string) *tablePrinter {
	t := &tablePrinter{out: out, errs: errs, null: cmp.Or(null, NoValue), most: firstRows,
		after: func(d time.Duration, f func()) func() bool { return time.AfterFunc(d, f).Stop }}
	if file, is := Terminal(out); is {
		t.atTerminal = true
		if _, lines, err := term.GetSize(int(file.Fd())); err == nil && lines > 5 {
			t.most = lines - 3
		} else {
			t.most = 40
		}
	}
	return t
}

func (t *tablePrinter) Columns(columns []engine.Column) error {
	t.columns = slices.Clone(columns)
	headings, right := []string{}, map[int]bool{}
	for i, c := range columns {
		headings, right[i] = append(headings, outside.Cell(c.Name)), c.Kind.Numeric()
	}
	t.table = &Growing{To: t.out, Headings: headings, Right: right}
	return nil
}

func (t *tablePrinter) Row(cells []engine.Cell) error {
	row := make([]string, len(cells))
	size := 0
	for i, cell := range cells {
		shown, cut := Shown(t.columns[i], cell, t.null)
		row[i], t.cut = shown, t.cut || cut
		size += len(row[i])
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.rows, t.bytes = append(t.rows, row), t.bytes+size
	switch {
	case len(t.rows) >= t.most || t.bytes > firstBytes:
		t.flush()
	case len(t.rows) == 1 && t.atTerminal:
		t.stop = t.after(firstWait, func() {
			t.mu.Lock()
			defer t.mu.Unlock()
			t.flush()
		})
	}
	return nil
}

// flush prints the rows that are there.
func (t *tablePrinter) flush() {
	if t.stop != nil {
		t.stop()
		t.stop = nil
	}
	if t.table == nil || len(t.rows) == 0 {
		return
	}
	t.table.Add(t.rows)
	t.rows, t.bytes = t.rows[:0], 0
}

// Bytes implements engine.Rows: no form was asked for, so the data goes out as it is; a terminal
// gets it clean.
func (t *tablePrinter) Bytes(data []byte) error {
	if t.copied == nil {
		to := Copied(t.out)
		if _, atTerminal := Terminal(to); atTerminal {
			_, err := to.Write(data)
			return err
		}
		t.copied = bufio.NewWriterSize(Bare(to), 64<<10)
	}
	_, err := t.copied.Write(data)
	return err
}

// Shown gives a cell as a table shows it, clean, and whether it was cut.
func Shown(of engine.Column, cell engine.Cell, null string) (text string, cut bool) {
	text = cell.Text
	switch {
	case cell.Null:
		return cmp.Or(null, NoValue), false
	case of.Kind == engine.Bytes:
		text = hexadecimal(text[:min(len(text), cellLimit)])
	}
	if len(text) <= cellLimit {
		return outside.Cell(text), false
	}
	end := cellLimit
	for end > cellLimit-utf8.UTFMax && !utf8.RuneStart(text[end]) {
		end--
	}
	return outside.Cell(text[:end]) + "…", true
}

func (t *tablePrinter) Done(s engine.Summary) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.flush()
	if t.table != nil {
		t.table.End()
	}
	if t.cut {
		fmt.Fprintf(t.errs, "note: cells of more than %d bytes are cut; --as csv prints them whole\n", cellLimit)
	}
	switch {
	case s.Copied:
		fmt.Fprintln(t.errs, Count(s.Rows, "row"))
		if t.copied != nil {
			return t.copied.Flush()
		}
	case t.table != nil:
		fmt.Fprintln(t.errs, Count(s.Rows, "row"))
	default:
		fmt.Fprintln(t.out, didWords(s))
	}
	return nil
}

// Failed prints the rows that came.
func (t *tablePrinter) Failed(err error) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.flush()
	if t.copied != nil {
		_ = t.copied.Flush()
	}
	return err
}
