package cli

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
)

// board shows on a terminal how several tests go on, in the order of their names, and is painted
// over as they end. Elsewhere it shows nothing.
type board struct {
	mu      sync.Mutex
	out     io.Writer
	all     []*harbor.One
	over    []bool
	live    bool
	painted int // lines that are on the screen
	paused  int // questions that are being asked
	last    time.Time
}

// newBoard makes the board of several tests, and shows it at a terminal when it is wanted.
func newBoard(out io.Writer, all []*harbor.One, wanted bool) *board {
	_, terminal := width(out)
	b := &board{out: out, all: all, over: make([]bool, len(all)), live: terminal && wanted}
	b.paint(true)
	return b
}

// pause takes the board off the screen until resume.
func (b *board) pause() (resume func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.erase()
	b.paused++
	return func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.paused--
		b.paint(true)
	}
}

func (b *board) done(i int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.over[i] = true
	b.paint(false)
}

// boardLines is how many profiles are shown by name; with more, only their number is.
const boardLines = 25

func (b *board) paint(now bool) {
	if !b.live || b.paused > 0 || !now && time.Since(b.last) < 40*time.Millisecond {
		return
	}
	b.last = time.Now()
	var s strings.Builder
	if b.painted > 0 {
		fmt.Fprintf(&s, "\x1b[%dA\x1b[J", b.painted)
	}
	ended, failed := 0, 0
	for i, one := range b.all {
		if b.over[i] {
			ended++
			if one.Err != nil || one.Report != nil && !one.Report.OK {
				failed++
			}
		}
	}
	b.painted = 1
	if len(b.all) <= boardLines {
		for i, one := range b.all {
			state := "…"
			if b.over[i] {
				state = tested(one).State()
			}
			fmt.Fprintf(&s, "  %-6s %s\n", state, outside.Cell(one.Word))
			b.painted++
		}
	}
	fmt.Fprintf(&s, "%d of %d tested, %d failed\n", ended, len(b.all), failed)
	// The names in it are clean; the rest moves the cursor.
	_, _ = io.WriteString(bare(b.out), s.String())
}

// end takes the board off the screen.
func (b *board) end() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.erase()
	b.live = false
}

func (b *board) erase() {
	if b.live && b.painted > 0 {
		fmt.Fprintf(bare(b.out), "\x1b[%dA\x1b[J", b.painted)
		b.painted = 0
	}
}

// tested gives a test for printing.
func tested(one *harbor.One) *report.Tested {
	return &report.Tested{Word: one.Word, Profile: one.To.Effective, Report: one.Report, Err: one.Err,
		Written: one.Written}
}
