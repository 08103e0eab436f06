// Package outside makes words from outside safe to show and to keep: a server's error text, a certificate's
// name, a greeting, a cell of a result.
//
// Whoever runs a server chooses these words. They can hold escape sequences that repaint a terminal, marks
// that reverse the direction of writing, megabytes, or the password that was just sent. All of them pass
// through [Text], or through [Cell] where they are the data that was asked for.
package outside

import (
	"fmt"
	"regexp"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"gentle-harbor/internal/secret"
)

// Limit is how many characters of a text from outside are shown.
const Limit = 400

// Digests that servers print of passwords: PostgreSQL's SCRAM verifiers and MD5 digests, MySQL's SHA1 and
// caching digests.
var digests = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`SCRAM-SHA-256\$\d+:[^\s'"]+|\bmd5[0-9a-f]{32}\b|\*[0-9A-F]{40}\b|\$A\$\d{3}\$[^\s'"]+`)
})

// Text gives s on one line with control and direction characters escaped, each of the secrets and every
// password digest masked, and at most Limit characters of it.
func Text(s string, secrets ...secret.Secret) string {
	if len(s) > 64*Limit {
		s = s[:64*Limit] // masking reads all that could be shown, not all there is
	}
	for _, known := range secrets {
		s = mask(s, known.Reveal())
	}
	s = digests().ReplaceAllLiteralString(s, secret.Mask)
	s = strings.TrimSpace(strings.NewReplacer("\r\n", " ", "\n", " ", "\t", " ").Replace(s))
	s = Cell(s)
	if utf8.RuneCountInString(s) > Limit {
		s = string([]rune(s)[:Limit]) + "…"
	}
	return s
}

// mask hides each appearance of text in s. A short secret is hidden where it stands as a word of its own:
// hiding each letter "a" would give it away and spoil the message.
func mask(s, text string) string {
	if text == "" {
		return s
	}
	if len(text) >= 4 {
		return strings.ReplaceAll(s, text, secret.Mask)
	}
	word := regexp.MustCompile(`(^|[^\pL\pN])` + regexp.QuoteMeta(text) + `($|[^\pL\pN])`)
	return word.ReplaceAllString(s, "${1}"+secret.Mask+"${2}")
}

// Cell gives s with control and direction characters and bytes that are not UTF-8 escaped in Go's syntax, and
// nothing else changed.
func Cell(s string) string {
	if clean(s) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case Unsafe(r) && r < 0x80:
			fmt.Fprintf(&b, `\x%02x`, r)
		case Unsafe(r) && r > 0xffff:
			fmt.Fprintf(&b, `\U%08x`, r)
		case Unsafe(r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
		i += size
	}
	return b.String()
}

func clean(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] < 0x20 || s[i] >= 0x7f {
			return utf8.ValidString(s) && strings.IndexFunc(s, Unsafe) < 0
		}
	}
	return true
}

// Unsafe tells whether a character can steer a terminal or deceive a reader: control characters (Unicode Cc),
// format characters (Cf, the direction marks among them), line and paragraph separators, private use.
func Unsafe(r rune) bool {
	return unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp, unicode.Co, unicode.Cs)
}
