//go:build !unix

package profile

import "io/fs"

// trusted checks nothing where the system has no owner and mode bits.
func trusted(fs.FileInfo) error { return nil }

func deviceOf(string) (uint64, bool) { return 0, false }
