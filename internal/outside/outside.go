// Package outside makes words from outside safe to show and to keep: a server's error text, a
// certificate's name, a greeting, a cell of a result, a line of a file that someone else may have
// written.
//
// Whoever runs a server chooses these words. They can hold escape sequences that repaint a
// terminal, marks that reverse the direction of writing, megabytes, or the password that was just
// sent. A text of that kind is a [Raw]: every printed form of it is clean. A [Veil] also masks
// the secrets that are in use, and is what words about a connection pass through. Data that was
// asked for passes through [Cell].
package outside

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// Mask is what a secret is shown as.
const Mask = "[secret]"

// Hidden is a secret: its text is masked wherever it appears.
type Hidden interface{ Reveal() string }

// Limit is how many characters of a text from outside are shown.
const Limit = 400

// maxRead bounds how many bytes of a text are looked at for secrets.
const maxRead = 128 << 10

// Raw is a text from outside as it came. Its printed and JSON forms are clean, bounded and
// without password digests; only [Raw.Bare] gives the bytes themselves. It is no string, so that
// nothing can cut it before it was masked: a secret of which the end is cut off is found by no
// veil. [Veil.Short] cuts, after masking. (encoding/json writes the keys of maps without asking
// their type: a Raw is no key.)
type Raw struct {
	text string
	cut  bool // it goes on behind its end
}

// Said makes a Raw of a text that someone else chose.
func Said(text string) Raw { return Raw{text: text} }

// Bare gives the bytes as they came, for a comparison or for a veil. They are neither shown nor
// cut.
func (r Raw) Bare() string { return r.text }

// Empty reports whether nothing was said.
func (r Raw) Empty() bool { return r.text == "" }

// String gives the text as [Text] makes it.
func (r Raw) String() string { return Text(r.text) }

// GoString gives the clean text in quotes.
func (r Raw) GoString() string { return fmt.Sprintf("%q", r.String()) }

// Format writes the clean text for every verb, in quotes for %q.
func (r Raw) Format(f fmt.State, verb rune) {
	if verb == 'q' {
		_, _ = fmt.Fprintf(f, "%q", r.String())
		return
	}
	_, _ = io.WriteString(f, r.String())
}

// MarshalText gives the clean text.
func (r Raw) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// Digests that servers print of passwords: PostgreSQL's SCRAM verifiers and MD5 digests, MySQL's
// SHA1 and caching digests.
var digests = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`SCRAM-SHA-256\$\d+:[^\s'"]+|\bmd5[0-9a-f]{32}\b|\*[0-9A-F]{40}\b|\$A\$\d{3}\$[^\s'"]+`)
})

// mayDigest reports whether a text has the beginning of a digest, which most have not.
func mayDigest(s string) bool {
	return strings.Contains(s, "SCRAM-SHA-256$") || strings.Contains(s, "md5") || strings.Contains(s, "*") ||
		strings.Contains(s, "$A$")
}

// oneLine puts spaces instead of what ends lines and of tabs.
var oneLine = strings.NewReplacer("\r\n", " ", "\n", " ", "\t", " ")

// Text gives s on one line with control and direction characters escaped, every password digest
// masked, and at most [Limit] characters of it.
func Text(s string) string { return Veil{}.Text(s) }

// Veil masks the secrets in use in texts about one connection. Its zero value masks password
// digests alone.
type Veil struct {
	// Secrets are those that were found for this connection, whether they were sent or not.
	Secrets []Hidden
	// Spare are the user, host and database as the user wrote them. One that appears as a whole
	// word is shown although a secret is a part of it, since everyone who reads the message knows
	// it already.
	Spare []string
}

// Text gives s as the function [Text] does, with the veil's secrets masked.
func (v Veil) Text(s string) string {
	if len(s) > maxRead {
		s = v.cut(s[:maxRead])
	}
	if s = v.mask(s); mayDigest(s) {
		s = digests().ReplaceAllLiteralString(s, Mask)
	}
	if strings.ContainsAny(s, "\n\t") {
		s = oneLine.Replace(s)
	}
	s = strings.TrimSpace(s)
	s = Cell(s)
	if len(s) > Limit && utf8.RuneCountInString(s) > Limit {
		s = string([]rune(s)[:Limit]) + "…"
	}
	return s
}

// Words is Text for a [Raw]. Of one that was cut where it was read, the end is taken off that may
// be the beginning of a secret.
func (v Veil) Words(words Raw) string {
	if words.cut {
		return v.Text(v.cut(words.text))
	}
	return v.Text(words.text)
}

// Short gives what [Veil.Words] makes of a text, and at most limit characters of it: whole
// letters, with "…" for what was cut off. Masking comes first.
func (v Veil) Short(words Raw, limit int) string {
	s := v.Words(words)
	if len(s) > limit && utf8.RuneCountInString(s) > limit {
		s = string([]rune(s)[:limit]) + "…"
	}
	return s
}

// Short is [Veil.Short] without secrets.
func Short(words Raw, limit int) string { return Veil{}.Short(words, limit) }

// Holds reports whether a text has one of the veil's secrets in it.
func (v Veil) Holds(text string) bool { return v.mask(text) != text }

// cut takes off the end of a text what may be the beginning of a secret that goes on behind it.
func (v Veil) cut(s string) string {
	most := 0
	for _, known := range v.Secrets {
		text := known.Reveal()
		for size := len(text) - 1; size > most; size-- {
			if strings.HasSuffix(s, text[:size]) {
				most = size
			}
		}
	}
	return s[:len(s)-most]
}

// span is a piece of a text, by byte.
type span struct{ from, to int }

// mask puts Mask instead of each word that holds a secret. Words next to each other give one
// mask, so that their number does not show the secret's length. A secret of fewer than four bytes
// counts only where it is a word of its own: to hide each letter "a" would give it away and spoil
// the message.
func (v Veil) mask(s string) string {
	var found []span
	for _, known := range v.Secrets {
		text := known.Reveal()
		if text == "" {
			continue
		}
		spared := within(v.Spare, text)
		covered := 0 // up to where this secret's masks reach
		for from := 0; from < len(s); {
			at := strings.Index(s[from:], text)
			if at < 0 {
				break
			}
			here := span{from + at, from + at + len(text)}
			from = here.from + 1
			if here.to <= covered || len(text) < 4 && !isWord(s, here) || isPart(s, here, spared) {
				continue
			}
			here = widened(s, here, covered)
			covered = here.to
			found = append(found, here)
		}
	}
	if len(found) == 0 {
		return s
	}
	slices.SortFunc(found, func(a, b span) int { return a.from - b.from })
	var b strings.Builder
	end := 0 // of what is written or masked so far
	for i, at := range found {
		between := s[min(end, at.from):at.from]
		if i == 0 || strings.TrimSpace(between) != "" {
			b.WriteString(between)
			b.WriteString(Mask)
		}
		end = max(end, at.to)
	}
	b.WriteString(s[end:])
	return b.String()
}

// spare is a name that may be shown, and where in it the secret begins.
type spare struct {
	name string
	at   int
}

// within lists where a secret is a part of the names.
func within(names []string, text string) []spare {
	var list []spare
	for _, name := range names {
		for from := 0; ; {
			at := strings.Index(name[from:], text)
			if at < 0 {
				break
			}
			list = append(list, spare{name, from + at})
			from += at + 1
		}
	}
	return list
}

// isPart reports whether a piece of s is a part of a spared name that stands there as a whole word.
func isPart(s string, at span, spared []spare) bool {
	return slices.ContainsFunc(spared, func(each spare) bool {
		name := span{at.from - each.at, at.from - each.at + len(each.name)}
		return name.from >= 0 && name.to <= len(s) && s[name.from:name.to] == each.name && isWord(s, name)
	})
}

func inWord(r rune, size int) bool {
	return size > 0 && !(r == utf8.RuneError && size == 1) && (unicode.IsLetter(r) || unicode.IsNumber(r) || r == '_')
}

// grows reports whether a piece of s is cut out of a longer word, on its left and on its right.
func grows(s string, at span) (left, right bool) {
	if inWord(utf8.DecodeRuneInString(s[at.from:])) {
		left = inWord(utf8.DecodeLastRuneInString(s[:at.from]))
	}
	if inWord(utf8.DecodeLastRuneInString(s[:at.to])) {
		right = inWord(utf8.DecodeRuneInString(s[at.to:]))
	}
	return left, right
}

func isWord(s string, at span) bool {
	left, right := grows(s, at)
	return !left && !right
}

// widened gives the whole words that a piece of s touches. Part of a word beside a mask would
// show where the secret ends. What comes before least is masked already.
func widened(s string, at span, least int) span {
	left, right := grows(s, at)
	for left && at.from > least {
		_, size := utf8.DecodeLastRuneInString(s[:at.from])
		at.from -= size
		left = inWord(utf8.DecodeLastRuneInString(s[:at.from]))
	}
	for right {
		_, size := utf8.DecodeRuneInString(s[at.to:])
		at.to += size
		right = inWord(utf8.DecodeRuneInString(s[at.to:]))
	}
	return at
}

// Cell gives s with control and direction characters and bytes that are not UTF-8 escaped in Go's
// syntax, and nothing else changed.
func Cell(s string) string { return Escape(s, "") }

// Escape is Cell but for the characters of keep, which stay as they are.
func Escape(s, keep string) string {
	if clean(s) {
		return s
	}
	var b strings.Builder
	b.Grow(len(s))
	for i := 0; i < len(s); {
		if n := plainRun(s[i:]); n > 0 {
			b.WriteString(s[i : i+n])
			i += n
			continue
		}
		r, size := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case keep != "" && strings.ContainsRune(keep, r):
			b.WriteRune(r)
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

// plainRun gives how many bytes at the beginning of a text are letters, marks and spaces of ASCII.
func plainRun(s string) int {
	for i := range len(s) {
		if s[i] < 0x20 || s[i] >= 0x7f {
			return i
		}
	}
	return len(s)
}

// together are scripts whose letters stand beside Latin ones in many words, and are not taken for
// them.
var together = []*unicode.RangeTable{unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Bopomofo, unicode.Hangul}

// Marked gives a clean text in which a word with letters of several scripts (Unicode Standard
// Annex 24) shows the code point of each that is not Latin: in "pаy.example" the second letter is
// Cyrillic, and nobody sees it. Who is asked to agree to a text gets it so.
func Marked(s string) string {
	s = Cell(s)
	if len(s) == utf8.RuneCountInString(s) {
		return s
	}
	words := strings.SplitAfter(s, " ")
	for i, word := range words {
		latin, other := false, false
		for _, r := range word {
			latin = latin || unicode.Is(unicode.Latin, r)
			other = other || foreign(r)
		}
		if !latin || !other {
			continue
		}
		var b strings.Builder
		for _, r := range word {
			b.WriteRune(r)
			if foreign(r) {
				fmt.Fprintf(&b, "[U+%04X]", r)
			}
		}
		words[i] = b.String()
	}
	return strings.Join(words, "")
}

// foreign reports whether a letter is of a script that is not mixed with Latin in a word.
func foreign(r rune) bool {
	wide := r >= 0xff00 && r <= 0xffef // forms of Latin letters, among others
	return unicode.IsLetter(r) && (wide || !unicode.In(r, unicode.Latin, unicode.Inherited) && !unicode.In(r, together...))
}

// Clean reports whether a text can be shown as it is: [Cell] would change nothing in it.
func Clean(s string) bool { return clean(s) }

func clean(s string) bool {
	rest := s[plainRun(s):]
	return rest == "" || utf8.ValidString(rest) && strings.IndexFunc(rest, Unsafe) < 0
}

// Unsafe reports whether a character can steer a terminal or deceive a reader: control characters
// (Unicode Cc), format characters (Cf, including the direction marks), line and paragraph
// separators, private use.
func Unsafe(r rune) bool {
	if r >= 0x20 && r < 0x7f {
		return false
	}
	return unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp, unicode.Co, unicode.Cs)
}
