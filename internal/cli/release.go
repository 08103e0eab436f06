package cli

// Version is the program's version, and Released its day, for manual pages.
const (
	Version  = "0.1.0"
	Released = "2026-11-29"
)
