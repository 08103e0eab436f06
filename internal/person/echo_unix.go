//go:build unix

package person

import "golang.org/x/sys/unix"

// echoOff keeps a terminal from showing what is typed, and gives what brings it back to how it was.
func echoOff(fd int) (restore func(), err error) {
	before, err := unix.IoctlGetTermios(fd, termiosGet)
	if err != nil {
		return nil, err
	}
	hidden := *before
	hidden.Lflag &^= unix.ECHO
	hidden.Lflag |= unix.ICANON | unix.ISIG
	hidden.Iflag |= unix.ICRNL
	if err := unix.IoctlSetTermios(fd, termiosSet, &hidden); err != nil {
		return nil, err
	}
	return func() { _ = unix.IoctlSetTermios(fd, termiosSet, before) }, nil
}
