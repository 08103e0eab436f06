package credentials

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Add gives a credential file's content with an entry in it, instead of an earlier one of the
// same user, endpoint and database; was reports whether there was one. Empty data makes a new
// file. Every other line stays as it is. The error is a *finding.Problem.
func Add(data []byte, path string, dest target.Target, s secret.Secret) (changed []byte, was bool, err error) {
	if len(dest.Hops) > 0 {
		return nil, false, &finding.Problem{Code: finding.SecretUnusable,
			Facts: finding.Facts{finding.FactDetail: "A credential file cannot bind a password to hops; store " +
				"it in the wallet."}}
	}
	if strings.ContainsAny(dest.Socket, " \t") {
		return nil, false, &finding.Problem{Code: finding.SecretUnusable,
			Facts: finding.Facts{finding.FactDetail: "A credential file cannot name a socket whose path has " +
				"spaces; store the password in the wallet."}}
	}
	if len(data) == 0 {
		data = []byte(Header + "\n")
	}
	earlier := false
	if dest.Alias+dest.Container != "" { // an entry of before may be in a block for another definition
		var removed int
		var err error
		if data, removed, err = Remove(data, path, dest); err != nil {
			return nil, false, err
		}
		earlier = removed > 0
	}
	text := "  " + quoteName(dest.User)
	if dest.Database != "" {
		text += " on " + quoteName(dest.Database)
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
		if from < 0 && atIs(data[b.start:b.end], dest) {
			from, to, mine = b.end, b.end, b.number
		}
	}, func(l *line) error {
		if l.block == mine && !was {
			from, to = l.end, l.end
		}
		if l.dest.Key() == dest.Key() && l.dest.TLS == dest.TLS && l.dest.SameTrust(dest) && !was {
			from, to, was = l.start, l.end, true
		}
		return nil
	})
	if err != nil {
		return nil, false, err
	}
	text += end
	if from < 0 {
		from, to, text = len(data), len(data), heading(dest)+end+text
	}
	changed = append(append(bytes.Clone(data[:from]), text...), data[to:]...)
	// What was written must be what is read.
	list, err := Parse(changed, path)
	if err != nil {
		return nil, false, err
	}
	for _, c := range list {
		if c.Target.Key() == dest.Key() && c.Target.TLS == dest.TLS && c.Target.SameTrust(dest) &&
			c.Secret.Given() == s.Given() && c.Secret.Reveal() == s.Reveal() {
			return changed, was || earlier, nil
		}
	}
	return nil, false, &finding.Problem{Code: finding.SecretUnusable,
		Facts: finding.Facts{finding.FactDetail: "A credential file cannot have this entry; store it in the wallet."}}
}

// heading writes the line that begins a block.
func heading(dest target.Target) string {
	head := "at " + (target.Endpoint{Host: dest.Host, Port: dest.Port, Socket: dest.Socket, Alias: dest.Alias,
		Container: dest.Container, Cloud: dest.Cloud}).Place()
	if dest.TLS != dest.WeakestTLS() {
		head += " tls " + dest.TLS
	}
	if dest.Authority != "" {
		head += " ca " + quoteName(dest.Authority)
	}
	if dest.ServerName != "" {
		head += " name " + quoteName(dest.ServerName)
	}
	if dest.Alias+dest.Container != "" {
		head += " defined " + dest.Defined.String()
	}
	return head
}

// Confirm gives a credential file's content in which what is stored for an alias may go where the
// alias leads now, and how many blocks changed. The error is a *finding.Problem.
func Confirm(data []byte, path, alias string, now target.Definition) (changed []byte, blocks int, err error) {
	var at []block
	if err := scan(data, path, func(b block) { at = append(at, b) }, func(*line) error { return nil }); err != nil {
		return nil, 0, err
	}
	changed = data
	for _, b := range slices.Backward(at) {
		line := bytes.TrimRight(data[b.start:b.end], "\r\n")
		dest, err := parseAt(string(line))
		if err != nil || dest.Alias != alias || dest.Defined.String() == now.String() {
			continue
		}
		dest.Defined = now
		blocks++
		changed = slices.Concat(changed[:b.start], []byte(heading(dest)), changed[b.start+len(line):])
	}
	return changed, blocks, nil
}

// atIs reports whether an "at" line opens the block that an entry for a target belongs to.
func atIs(text []byte, dest target.Target) bool {
	at, err := parseAt(string(bytes.TrimRight(text, "\r\n")))
	return err == nil && at.Place() == dest.Place() && at.Socket == dest.Socket &&
		at.Defined.String() == dest.Defined.String() && at.TLS == dest.TLS && at.SameTrust(dest)
}

// Remove gives a credential file's content without the entries of a user at an endpoint, and how
// many they were. A block that they leave without any line of its own goes too. The error is a
// *finding.Problem.
func Remove(data []byte, path string, dest target.Target) (changed []byte, removed int, err error) {
	var blocks []block
	var gone [][2]int
	err = scan(data, path, func(b block) { blocks = append(blocks, b) }, func(l *line) error {
		if l.dest.Key() == dest.Key() {
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

// maxTroubles is how many troubles Check lists.
const maxTroubles = 1000

// Check lists entries that can never serve: two that are equally specific, which every match
// refuses, and blocks without an entry. After a thousand it looks no further. The error is a
// *finding.Problem: the file cannot be used at all.
func Check(data []byte, path string) (entries int, list []Trouble, err error) {
	first := map[string]int{}
	var open *block
	found := func(line int, what string) {
		switch n := len(list); {
		case n < maxTroubles:
			list = append(list, Trouble{line, what})
		case n == maxTroubles:
			list = append(list, Trouble{line,
				fmt.Sprintf("more than %d troubles were found; those from here on are not listed", maxTroubles)})
		}
	}
	close := func() {
		if open != nil && open.entries == 0 {
			found(open.number, "no entry stands below this endpoint")
		}
	}
	err = scan(data, path, func(b block) { close(); open = &b }, func(l *line) error {
		entries++
		open.entries++
		if _, err := l.decode(path); err != nil {
			return err
		}
		if before, twice := first[l.dest.Key()]; twice {
			found(l.number, fmt.Sprintf("the same user at the same endpoint is in line %d already; neither can "+
				"serve while both are there",
				before))
		} else {
			first[l.dest.Key()] = l.number
		}
		return nil
	})
	if err == nil {
		close()
	}
	return entries, list, err
}

// quoteSecret writes a secret as a credential file holds it: plain where that is clear, else in
// quotes.
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
