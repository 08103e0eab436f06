//go:build !unix

package secret

import (
	"io/fs"

	"gentle-harbor/internal/finding"
)

// guarded checks nothing where the system has no owner and mode bits.
func guarded(string, fs.FileInfo) *finding.Problem { return nil }

func guardedFolder(string, string) *finding.Problem { return nil }

// Checked tells whether owner and mode can be checked on this system.
const Checked = false

// Foreign tells whether a file belongs to somebody else; it cannot be told here.
func Foreign(fs.FileInfo) (int, bool) { return 0, false }

// Mounted tells whether path lies where a supervisor mounts secrets for a service.
func Mounted(string) bool { return false }
