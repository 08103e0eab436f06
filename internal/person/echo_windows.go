package person

import "golang.org/x/sys/windows"

// echoOff keeps a terminal from showing what is typed, and gives what brings it back to how it was.
func echoOff(fd int) (restore func(), err error) {
	var before uint32
	console := windows.Handle(fd)
	if err := windows.GetConsoleMode(console, &before); err != nil {
		return nil, err
	}
	hidden := before&^windows.ENABLE_ECHO_INPUT | windows.ENABLE_LINE_INPUT | windows.ENABLE_PROCESSED_INPUT
	if err := windows.SetConsoleMode(console, hidden); err != nil {
		return nil, err
	}
	return func() { _ = windows.SetConsoleMode(console, before) }, nil
}
