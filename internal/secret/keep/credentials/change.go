package credentials

import (
	"bytes"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Add gives a credential file's content with an entry in it, in the place of an earlier one of the same
// user, endpoint and database; was tells whether there was one. Empty data makes a new file. Every other line
// stays as it is. The error is a *finding.Problem.
func Add(data []byte, path string, way target.Target, s secret.Secret) (changed []byte, was bool, err error) {
	if len(way.Hops) > 0 {
		return nil, false, &finding.Problem{Code: "secret.unusable", Facts: map[string]string{"detail": "A credential file cannot bind a password to hops; keep it in the wallet."}}
	}
	if strings.ContainsAny(way.Socket, " \t") {
		return nil, false, &finding.Problem{Code: "secret.unusable", Facts: map[string]string{"detail": "A credential file cannot name a socket whose path has blanks; keep the password in the wallet."}}
	}
	if len(data) == 0 {
		data = []byte(Header + "\n")
	}
	text := "  " + quoteName(way.User)
	if way.Database != "" {
		text += " on " + quoteName(way.Database)
	}
	if s.Given() {
		text += ": " + quoteSecret(s.Reveal())
	} else {
		text += " without password"
	}
	end := "\n"
	if first, _, _ := bytes.Cut(data, []byte("\n")); bytes.HasSuffix(first, []byte("\r")) {
		end = "\r\n"
	}
	if data[len(data)-1] != '\n' {
		data = append(data[:len(data):len(data)], end...)
	}
	from, to, mine := -1, -1, 0 // mine is the block that it goes into, behind its last entry
	err = scan(data, path, func(b block) {
		if from < 0 && atIs(data[b.start:b.end], way) {
			from, to, mine = b.end, b.end, b.number
		}
	}, func(l *line) error {
		if l.block == mine && !was {
			from, to = l.end, l.end
		}
		if l.way.Key() == way.Key() && l.way.TLS == way.TLS && !was {
			from, to, was = l.start, l.end, true
		}
		return nil
	})
	if err != nil {
		return nil, false, err
	}
	text += end
	if from < 0 {
		head := "at " + (target.Endpoint{Host: way.Host, Port: way.Port, Socket: way.Socket}).Place()
		if way.TLS != way.WeakestTLS() {
			head += " tls " + way.TLS
		}
		from, to, text = len(data), len(data), head+end+text
	}
	changed = append(append(bytes.Clone(data[:from]), text...), data[to:]...)
	// What was written must be what is read.
	list, err := Parse(changed, path)
	if err != nil {
		return nil, false, err
	}
	for _, c := range list {
		if c.Way.Key() == way.Key() && c.Way.TLS == way.TLS && c.Secret.Given() == s.Given() && c.Secret.Reveal() == s.Reveal() {
			return changed, was, nil
		}
	}
	return nil, false, &finding.Problem{Code: "secret.unusable", Facts: map[string]string{"detail": "A credential file cannot hold this entry; keep it in the wallet."}}
}

// atIs tells whether an "at" line opens the block that an entry for way belongs to.
func atIs(text []byte, way target.Target) bool {
	at, err := parseAt(string(bytes.TrimRight(text, "\r\n")))
	return err == nil && at.Place() == way.Place() && at.Socket == way.Socket && at.TLS == way.TLS
}

// Remove gives a credential file's content without the entries of a user at an endpoint, and how many
// they were. A block that they leave without any line of its own goes too. The error is a *finding.Problem.
func Remove(data []byte, path string, way target.Target) (changed []byte, removed int, err error) {
	var blocks []block
	var gone [][2]int
	err = scan(data, path, func(b block) { blocks = append(blocks, b) }, func(l *line) error {
		if l.way.Key() == way.Key() {
			gone = append(gone, [2]int{l.start, l.end})
			return nil
		}
		blocks[len(blocks)-1].entries++
		return nil
	})
	if err != nil {
		return nil, 0, err
	}
	removed = len(gone)
	for i, b := range blocks {
		end := len(data)
		if i+1 < len(blocks) {
			end = blocks[i+1].start
		}
		for _, g := range gone {
			// Comments of a block that is left empty may be about it or about the next; they stay.
			if b.entries == 0 && g[0] > b.start && g[0] < end {
				gone = append(gone, [2]int{b.start, b.end})
				break
			}
		}
	}
	for offset := 0; offset < len(data); {
		next := offset + 1
		cut := false
		for _, g := range gone {
			if g[0] == offset {
				next, cut = g[1], true
			}
		}
		if !cut {
			if end := bytes.IndexByte(data[offset:], '\n'); end >= 0 {
				next = offset + end + 1
			} else {
				next = len(data)
			}
			changed = append(changed, data[offset:next]...)
		}
		offset = next
	}
	return changed, removed, nil
}

// Trouble is something that Check found.
type Trouble struct {
	Line int
	What string
}

// Check lists entries that can never serve: two that are equally specific, which every match
// refuses, and blocks without an entry. The error is a *finding.Problem: the file cannot be used at all.
func Check(data []byte, path string) (entries int, list []Trouble, err error) {
	first := map[string]int{}
	var open *block
	close := func() {
		if open != nil && open.entries == 0 {
			list = append(list, Trouble{open.number, "no entry stands below this endpoint"})
		}
	}
	err = scan(data, path, func(b block) { close(); open = &b }, func(l *line) error {
		entries++
		open.entries++
		if _, err := l.decode(path); err != nil {
			return err
		}
		if before, twice := first[l.way.Key()]; twice {
			list = append(list, Trouble{l.number, fmt.Sprintf("the same user at the same endpoint stands in line %d already; neither can serve while both are there", before)})
		} else {
			first[l.way.Key()] = l.number
		}
		return nil
	})
	if err == nil {
		close()
	}
	return entries, list, err
}

// quoteSecret writes a secret as a credential file holds it: plain where that is clear, else in quotes.
func quoteSecret(text string) string {
	if text != "" && text[0] != '"' && strings.TrimSpace(text) == text && notPlain(text) == "" {
		return text
	}
	return quoteText(text)
}

func quoteText(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for len(text) > 0 {
		r, size := utf8.DecodeRuneInString(text)
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, text[0])
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\r':
			b.WriteString(`\r`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < 0x80 && r >= ' ' && r != 0x7f || r > 0x80 && unicode.IsPrint(r):
			b.WriteRune(r)
		case r < 0x10000:
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			fmt.Fprintf(&b, `\U%08x`, r)
		}
		text = text[size:]
	}
	b.WriteByte('"')
	return b.String()
}

func quoteName(name string) string {
	if name != "" && !strings.ContainsAny(name, " \t:#\"\\") && target.IsVisible(name) {
		return name
	}
	return quoteText(name)
}
