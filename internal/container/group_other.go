//go:build !unix

package container

// Group gives the name of the group that may use the engine's socket: none is known here.
func (e Engine) Group() string { return "" }
