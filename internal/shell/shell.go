// Package shell writes command lines as a POSIX shell reads them (IEEE Std 1003.1, section 2.2 "Quoting").
package shell

import (
	"regexp"
	"strings"
	"sync"
)

var plainWord = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_@%+=:,./-]+$`) })

// Word writes a text as one word of a command line: as it is when it holds no character that a shell treats
// in a special way, in single quotes otherwise.
func Word(text string) string {
	if plainWord().MatchString(text) {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}
