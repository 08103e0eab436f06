package cli

import (
	"fmt"
	"io"
	"time"
)

// scriptProgress shows at a terminal how far a long script, or a load, is, in one line that is
// painted over.
type scriptProgress struct {
	out     io.Writer // nil where nothing is shown
	of      int64     // bytes, 0 for not known
	now     func() time.Time
	began   time.Time
	last    time.Time
	painted bool
}

// newProgress shows something when standard error is a terminal.
func newProgress(errs io.Writer, of int64) *scriptProgress {
	p := &scriptProgress{of: of, now: time.Now}
	if _, atTerminal := width(errs); atTerminal {
		p.out = bare(errs)
	}
	p.began = p.now()
	p.last = p.began
	return p
}

// at shows that so many things and bytes were done. It begins after a second, and paints five
// times in one.
func (p *scriptProgress) at(things string, count, bytes int64) {
	now := p.now()
	if p.out == nil || now.Sub(p.began) < time.Second || now.Sub(p.last) < 200*time.Millisecond {
		return
	}
	p.last, p.painted = now, true
	const mb = 1 << 20
	of := ""
	if p.of > 0 {
		of = fmt.Sprintf(" of %.1fMB", float64(p.of)/mb)
	}
	rate := float64(bytes) / mb / now.Sub(p.began).Seconds()
	fmt.Fprintf(p.out, "\r\x1b[K… %d %s, %.1fMB%s, %.1fMB a second", count, things, float64(bytes)/mb, of, rate)
}

// away takes the line away.
func (p *scriptProgress) away() {
	if p.painted {
		fmt.Fprint(p.out, "\r\x1b[K")
		p.painted = false
	}
}
