package cli

// pause takes the live board off the screen while a person is asked something, and gives what puts it back.
func (a *App) pause() (resume func()) {
	if a.board == nil {
		return func() {}
	}
	return a.board.pause()
}
