//go:build unix && !linux

package files

// ReadOnly is not looked at on this system, where the flag has another name in each kernel.
func ReadOnly(string) bool { return false }
