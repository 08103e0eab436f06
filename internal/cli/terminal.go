package cli

import (
	"fmt"
	"time"
)

// pause takes the live board off the screen while a person is asked something, and gives what
// puts it back. It counts the time.
func (a *App) pause() (resume func()) {
	began := time.Now()
	back := func() {}
	if a.onScreen != nil {
		back = a.onScreen.pause()
	}
	return func() {
		a.waited.Add(int64(time.Since(began)))
		back()
	}
}

// working shows at a terminal what takes its time.
func (a *App) working(what string) (done func()) {
	if _, isTerminal := terminal(a.Stderr); !isTerminal {
		return func() {}
	}
	fmt.Fprint(a.Stderr, what+" …")
	return func() { fmt.Fprint(bare(a.Stderr), "\r\x1b[K") }
}
