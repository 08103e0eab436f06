//go:build !unix

package files

// noWait has no meaning where files are no pipes.
const noWait = 0
