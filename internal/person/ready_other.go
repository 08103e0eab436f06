//go:build !unix

package person

import (
	"context"
	"os"
	"time"
)

// ready cannot wait here.
func ready(context.Context, *os.File) error { return nil }

// Pressed gives the keys that are pressed at a terminal; here it waits for one. More is false
// when the terminal has gone.
func Pressed(file *os.File, _ time.Duration) (keys []byte, more bool) {
	keys = make([]byte, 256)
	n, err := file.Read(keys)
	return keys[:max(n, 0)], err == nil && n > 0
}
