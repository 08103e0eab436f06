//go:build unix

package person

import (
	"context"
	"errors"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// ready waits until there is something to read, or ctx ends: nothing that is typed after that is
// lost to a read that nobody waits for.
func ready(ctx context.Context, file *os.File) error {
	for ctx.Err() == nil {
		n, err := unix.Poll([]unix.PollFd{{Fd: int32(file.Fd()), Events: unix.POLLIN}}, 100)
		if err != nil && !errors.Is(err, unix.EINTR) || n > 0 {
			return nil // the read says what is wrong
		}
	}
	return ctx.Err()
}

// Pressed gives the keys that are pressed at a terminal within a time, none where there are none;
// more is false when the terminal has gone.
func Pressed(file *os.File, within time.Duration) (keys []byte, more bool) {
	n, err := unix.Poll([]unix.PollFd{{Fd: int32(file.Fd()), Events: unix.POLLIN}}, int(within.Milliseconds()))
	if err != nil && !errors.Is(err, unix.EINTR) {
		return nil, false
	}
	if n <= 0 {
		return nil, true
	}
	keys = make([]byte, 256)
	n, err = file.Read(keys)
	return keys[:max(n, 0)], err == nil && n > 0
}
