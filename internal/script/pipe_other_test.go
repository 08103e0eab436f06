//go:build !unix

package script

import "os"

// pipe makes a link to a device, where there are no named pipes.
func pipe(path string) error { return os.Mkdir(path, 0o700) }
