package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/term"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/pager"
	"gentle-harbor/internal/person"
	"gentle-harbor/internal/report"
)

// pageWait is how long after its first row a result is shown that is not whole.
const pageWait = time.Second

// pagedRows shows one result: as a table where it fits on the screen, else page by page. The
// server sends on while a person reads.
type pagedRows struct {
	t     *talker
	errs  *heldWords
	null  string
	stop  func() // ends the statement
	plain report.Rows

	columns []engine.Column
	view    *pager.View
	cut     bool

	mu      sync.Mutex // a timer begins to page too
	timer   *time.Timer
	left    chan struct{} // closed when the person has left the pages; nil before they begin
	dropped bool
}

// heldWords holds back what is said while the screen is taken.
type heldWords struct {
	to io.Writer

	mu   sync.Mutex
	held bool
	kept bytes.Buffer
}

// Write implements io.Writer.
func (l *heldWords) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.held && l.kept.Len() < 1<<20 {
		return l.kept.Write(p)
	}
	if l.held {
		return len(p), nil
	}
	return l.to.Write(p)
}

func (l *heldWords) hold(held bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.held = held; !held && l.kept.Len() > 0 {
		_, _ = l.to.Write(l.kept.Bytes())
		l.kept.Reset()
	}
}

// Columns implements engine.Rows.
func (p *pagedRows) Columns(columns []engine.Column) error {
	p.columns = slices.Clone(columns)
	p.view = &pager.View{Store: pager.NewStore(p.t.pageFile), Right: map[int]bool{}}
	for i, c := range columns {
		p.view.Headings, p.view.Right[i] = append(p.view.Headings, outside.Cell(c.Name)), c.Kind.Numeric()
	}
	p.size()
	return nil
}

// size takes in how large the screen is.
func (p *pagedRows) size() {
	p.view.Columns, p.view.Lines = 80, 24
	if file, is := terminal(p.t.Stdout); is {
		if columns, lines, err := term.GetSize(int(file.Fd())); err == nil && columns > 10 && lines > 5 {
			p.view.Columns, p.view.Lines = columns, lines
		}
	}
}

// pageFile makes the file of a long result, in the state folder.
func (t *talker) pageFile() (*os.File, error) {
	state, err := t.State()
	if err != nil {
		return nil, err
	}
	folder := filepath.Join(state, "talk")
	if err := files.Settle(folder); err != nil {
		return nil, err
	}
	return os.CreateTemp(folder, "rows-*")
}

// Row implements engine.Rows.
func (p *pagedRows) Row(cells []engine.Cell) error {
	if p.dropped {
		return nil
	}
	row := make([]string, len(cells))
	for i, cell := range cells {
		var cut bool
		row[i], cut = report.Shown(p.columns[i], cell, p.null)
		p.cut = p.cut || cut
	}
	if err := p.view.Store.Add(row); err != nil {
		if p.dropped = err == pager.ErrClosed; p.dropped { // the person has left; the statement ends as it would
			return nil
		}
		return err
	}
	n, _, _ := p.view.Store.State()
	switch {
	case n == 1:
		p.timer = time.AfterFunc(pageWait, p.begin)
	case n > p.view.Lines-4:
		p.begin()
	}
	return nil
}

// begin shows the pages, once.
func (p *pagedRows) begin() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.left != nil {
		return
	}
	p.left = make(chan struct{})
	p.errs.hold(true)
	go func() {
		defer close(p.left)
		p.t.pages(p.view, p.stop)
		p.errs.hold(false)
		if _, whole, _ := p.view.Store.State(); !whole {
			fmt.Fprintln(p.t.Stderr, "The other rows are read and left out; Ctrl-C ends the statement.")
		}
		p.view.Store.Close()
	}()
}

// Bytes implements engine.Rows.
func (p *pagedRows) Bytes(data []byte) error { return p.plain.Bytes(data) }

// end shows what came, and waits until the person has left the pages.
func (p *pagedRows) end() error {
	if p.view == nil {
		return nil
	}
	if p.timer != nil {
		p.timer.Stop()
	}
	p.view.Store.Whole()
	p.mu.Lock()
	begun := p.left != nil
	p.mu.Unlock()
	if !begun && p.view.Fits() {
		n, _, _ := p.view.Store.State()
		rows, err := p.view.Store.Rows(0, n)
		texts := slices.Clone(p.columns)
		for i := range texts {
			if texts[i].Kind == engine.Bytes {
				texts[i].Kind = engine.Text // they are digits already
			}
		}
		if err == nil {
			err = p.plain.Columns(texts)
		}
		for _, row := range rows {
			cells := make([]engine.Cell, len(row))
			for i := range row {
				cells[i].Text = row[i]
			}
			if err == nil {
				err = p.plain.Row(cells)
			}
		}
		p.view.Store.Close()
		return err
	}
	p.begin()
	<-p.left
	return nil
}

// Done implements report.Rows.
func (p *pagedRows) Done(s engine.Summary) error {
	if p.view == nil {
		return p.plain.Done(s)
	}
	if err := p.end(); err != nil {
		return err
	}
	if p.left == nil {
		return p.plain.Done(s)
	}
	fmt.Fprintln(p.t.Stderr, report.Count(s.Rows, "row"))
	return nil
}

// Failed implements report.Rows.
func (p *pagedRows) Failed(err error) error {
	if e := p.end(); e != nil {
		return e
	}
	return p.plain.Failed(err)
}

// pages takes the screen, and shows rows until the person leaves. What was there before is there
// again afterwards.
func (t *talker) pages(view *pager.View, stop func()) {
	in, _ := terminal(t.Stdin)
	before, err := term.MakeRaw(int(in.Fd()))
	if err != nil {
		return
	}
	out := bare(t.Stdout)
	fmt.Fprint(out, "\x1b[?1049h\x1b[?25l\x1b[?2004l")
	defer func() {
		fmt.Fprint(out, "\x1b[?25h\x1b[?1049l")
		_ = term.Restore(int(in.Fd()), before)
	}()
	p := &pagedRows{t: t, view: view}
	var typed []byte
	shown := ""
	for {
		p.size()
		if frame := framed(view.Screen()); frame != shown {
			fmt.Fprint(out, frame)
			shown = frame
		}
		pressed, more := person.Pressed(in, 150*time.Millisecond)
		if !more {
			return
		}
		typed = append(typed, pressed...)
		var keys []pager.Key
		keys, typed = pager.Keys(typed, len(pressed) == 0)
		for _, k := range keys {
			switch k {
			case pager.Leave:
				return
			case pager.Stop:
				if _, whole, _ := view.Store.State(); whole {
					return
				}
				stop()
				view.Say = "the statement is being ended"
			case pager.Find:
				what, ok := t.sought(in, out, view, typed)
				typed = nil
				if ok {
					view.Seek(what, nil)
				}
			case pager.Next:
				view.Seek("", nil)
			default:
				view.Press(k)
			}
		}
	}
}

// framed gives a screen as a terminal takes it.
func framed(lines []string) string {
	var b strings.Builder
	b.WriteString("\x1b[H")
	for i, line := range lines {
		if i > 0 {
			b.WriteString("\r\n")
		}
		switch {
		case i == 0:
			line = "\x1b[1m" + line + "\x1b[0m"
		case i >= len(lines)-2:
			line = "\x1b[90m" + line + "\x1b[0m"
		}
		b.WriteString(line + "\x1b[K")
	}
	return b.String() + "\x1b[J"
}

// sought asks on the last line for what is to be found; false where it was given up.
func (t *talker) sought(in *os.File, out io.Writer, view *pager.View, pressed []byte) (string, bool) {
	var what []byte
	for more := true; more; {
		for _, c := range pressed {
			switch {
			case c == '\r' || c == '\n':
				return string(what), true
			case c == 0x1b || c == 0x03:
				return "", false
			case c == 0x7f || c == 0x08:
				r := []rune(string(what))
				what = []byte(string(r[:max(len(r)-1, 0)]))
			case c >= 0x20 && len(what) < 200:
				what = append(what, c)
			}
		}
		fmt.Fprintf(out, "\x1b[%d;1H\x1b[Kfind: %s", view.Lines, outside.Cell(string(what)))
		pressed, more = person.Pressed(in, time.Minute)
	}
	return "", false
}
