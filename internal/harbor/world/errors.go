package world

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"gentle-harbor/internal/finding"
)

// LowerFirst gives a text that begins with a small letter.
func LowerFirst(text string) string {
	if text == "" {
		return text
	}
	return strings.ToLower(text[:1]) + text[1:]
}

// Exit codes that are this package's to give.
const (
	ExitUsage       = finding.ExitUsage
	ExitSettings    = finding.ExitSettings
	ExitInterrupted = finding.ExitInterrupted
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

// Usage is the error of a command that was used wrongly.
func Usage(format string, args ...any) error {
	return Error{ExitUsage, fmt.Sprintf(format, args...)}
}

// Wrong is the error of settings, files and names that are not right.
func Wrong(format string, args ...any) error {
	return Error{ExitSettings, fmt.Sprintf(format, args...)}
}

// Doing words what went wrong while something was done, such as "open a door". An error of the
// system names a file and says nothing of why it was used: then what was being done comes first.
// Any other says that itself.
func Doing(what string, err error) error {
	var said Error
	if errors.As(err, &said) {
		return err
	}
	if ofSystem(err) {
		return Wrong("to %s: %v", what, err)
	}
	return Wrong("%v", err)
}

// OfSystem reports whether an error is one of the system's about a file, other than that it is
// not there.
func OfSystem(err error) bool { return ofSystem(err) && !errors.Is(err, fs.ErrNotExist) }

func ofSystem(err error) bool {
	var file *fs.PathError
	var link *os.LinkError
	var call *os.SyscallError
	return errors.As(err, &file) || errors.As(err, &link) || errors.As(err, &call)
}

// Clip makes a word of the user's fit for a message. What looks like something that was pasted,
// and so may hold a password, is not repeated.
func Clip(word string) string {
	if strings.ContainsAny(word, "@=: \t\n") && !strings.HasPrefix(word, "mine:") && !strings.HasPrefix(word, "project:") {
		return "[what was given]"
	}
	if r := []rune(word); len(r) > 60 {
		word = string(r[:60]) + "…"
	}
	return word
}

// UpperFirst gives a text that begins with a capital letter.
func UpperFirst(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}
