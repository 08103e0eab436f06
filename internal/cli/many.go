package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
)

// board shows on a terminal how several tests go on, in the order of their names, and is painted over as they
// end. Elsewhere it shows nothing.
type board struct {
	mu      sync.Mutex
	call    *call
	all     []*harbor.One
	over    []bool
	live    bool
	painted int // lines that are on the screen
	paused  int // questions that are being asked
	last    time.Time
}

func (c *call) newBoard(all []*harbor.One) *board {
	_, terminal := width(c.Stderr)
	b := &board{call: c, all: all, over: make([]bool, len(all)), live: terminal && c.as == "" && !c.json}
	c.board = b
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
	_, _ = io.WriteString(bare(b.call.Stderr), s.String())
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
		fmt.Fprintf(bare(b.call.Stderr), "\x1b[%dA\x1b[J", b.painted)
		b.painted = 0
	}
}

// replaceFile writes a report's file, in the place of an older one and in one step. A link is replaced, and what it led
// to stays as it is; a device, a pipe and what the system shows as a file of its own are written to.
func (c *call) replaceFile(path, text string) error {
	path = c.Path(path)
	info, err := os.Stat(path)
	special := err == nil && !info.Mode().IsRegular() && !info.IsDir()
	if special || strings.HasPrefix(path, "/dev/") || strings.HasPrefix(path, "/proc/") {
		file, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0)
		if err == nil {
			_, err = io.WriteString(file, text)
			if e := file.Close(); err == nil {
				err = e
			}
		}
		if err != nil {
			return wrong("the report could not be written: %v", err)
		}
		return nil
	}
	if err := files.Write(path, []byte(text), 0o644); err != nil {
		return wrong("the report could not be written: %v", err)
	}
	return nil
}
