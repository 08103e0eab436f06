//go:build unix

package person

import (
	"context"
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// ready waits until there is something to read, or ctx ends: nothing that is typed after that is lost to a read that nobody waits for.
func ready(ctx context.Context, file *os.File) error {
	for ctx.Err() == nil {
		n, err := unix.Poll([]unix.PollFd{{Fd: int32(file.Fd()), Events: unix.POLLIN}}, 100)
		if err != nil && !errors.Is(err, unix.EINTR) || n > 0 {
			return nil // the read says what is wrong
		}
	}
	return ctx.Err()
}
