package cli

import "fmt"

// pause takes the live board off the screen while a person is asked something, and gives what puts it back.
func (a *App) pause() (resume func()) {
	if a.board == nil {
		return func() {}
	}
	return a.board.pause()
}

// working shows at a terminal what takes its time.
func (a *App) working(what string) (done func()) {
	if _, isTerminal := terminal(a.Stderr); !isTerminal {
		return func() {}
	}
	fmt.Fprint(a.Stderr, what+" …")
	return func() { fmt.Fprint(bare(a.Stderr), "\r\x1b[K") }
}
