//go:build unix

package door

import (
	"math"

	"golang.org/x/sys/unix"
)

// Descriptors gives how many files and connections this process may have open at the same time
// (getrlimit(2), RLIMIT_NOFILE).
func Descriptors() int {
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil || uint64(limit.Cur) > math.MaxInt32 {
		return math.MaxInt32
	}
	return int(limit.Cur)
}
