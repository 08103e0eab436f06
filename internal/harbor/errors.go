package harbor

import "fmt"

// Exit codes, as docs and help state them.
const (
	ExitUsage       = 2
	ExitSettings    = 3
	ExitInterrupted = 130
)

// FlagMark marks the errors of settings that may be passed on alone.
const FlagMark = "\x00"

// Error is an error with the exit code that it leads to. Its message may be empty when all is said.
type Error struct {
	Code    int
	Message string
}

// Error gives the message.
func (e Error) Error() string { return e.Message }

// Usage is the error of a command that was used in a wrong way.
func Usage(format string, args ...any) error {
	return Error{ExitUsage, fmt.Sprintf(format, args...)}
}

// Wrong is the error of settings, files and names that are not right.
func Wrong(format string, args ...any) error {
	return Error{ExitSettings, fmt.Sprintf(format, args...)}
}

// Clip makes a word of the user's fit for a message.
func Clip(word string) string {
	if r := []rune(word); len(r) > 60 {
		word = string(r[:60]) + "…"
	}
	return word
}
