package report

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// Plain writes in ASCII what is written in UTF-8, for a terminal that shows nothing else: marks
// by their like, other characters by their code point as Go writes it.
type Plain struct {
	To io.Writer

	rest []byte // the beginning of a character
}

// likes are what the program draws with, and what stands for each.
var likes = strings.NewReplacer("…  ", "...", "… ", "... ", "…", "...", "→", "->", "·", "-", "•", "*", "–", "-",
	"—", "-", "×", "x", "„", `"`, "“", `"`, "”", `"`, "‘", "'", "’", "'", "«", `"`, "»", `"`,
	"▁", "1", "▂", "2", "▃", "3", "▄", "4", "▅", "5", "▆", "6", "▇", "7", "█", "8", "─", "-", "━", "-", "│", "|", "┃", "|")

// plain gives a text in ASCII; with marks alone, other characters stay.
func plain(text string, marksAlone bool) string {
	text = likes.Replace(text)
	if marksAlone || len(text) == utf8.RuneCountInString(text) && utf8.ValidString(text) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case r < utf8.RuneSelf:
			b.WriteRune(r)
		case r >= '─' && r <= '╿': // lines that meet
			b.WriteByte('+')
		case r > 0xffff:
			fmt.Fprintf(&b, `\U%08x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		i += size
	}
	return b.String()
}

// Write writes p; what begins a character at its end waits for the next call. The count is that
// of p.
func (w *Plain) Write(p []byte) (int, error) {
	text := append(w.rest, p...)
	whole := len(text)
	for back := 1; back < utf8.UTFMax && back <= len(text); back++ {
		if at := len(text) - back; utf8.RuneStart(text[at]) {
			if !utf8.FullRune(text[at:]) {
				whole = at
			}
			break
		}
	}
	if _, err := io.WriteString(w.To, plain(string(text[:whole]), false)); err != nil {
		return 0, err
	}
	w.rest = append([]byte(nil), text[whole:]...)
	return len(p), nil
}

// ShowsUTF8 reports whether a terminal shows UTF-8, by the variables of a locale (POSIX.1-2017,
// 8.2): the first of LC_ALL, LC_CTYPE and LANG that is set decides. Where none is, it does, as
// nearly all do today.
func ShowsUTF8(env func(name string) (string, bool)) bool {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if value, _ := env(name); value != "" {
			_, charset, _ := strings.Cut(strings.ToLower(value), ".")
			charset, _, _ = strings.Cut(charset, "@")
			return charset == "utf-8" || charset == "utf8" || strings.EqualFold(value, "UTF-8") // the last is macOS's
		}
	}
	return true
}
