package secret

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"runtime"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"
)

// CredentialsHeader is the first line of a credential file.
const CredentialsHeader = "# gentle-harbor credentials 1"

// MaxCredentials is how many bytes a credential file may have.
const MaxCredentials = 32 << 20

// Credential is one entry of a credential file: a line in the block of an endpoint.
type Credential struct {
	Line  int // of the entry
	Block int // the line of its "at"
	Way   Way
	// Secret is not Given for an entry "without password".
	Secret Secret
}

// line is an entry as it stands in the file, not decoded yet.
type line struct {
	number, block int
	way           Way
	text          string // the secret as written, "" for "without password"
	start, end    int    // of the line in the file, its line end included
}

// block is an "at" line.
type block struct{ number, start, end, entries int }

// A credential file is UTF-8 text in lines:
//
//	file   = header *( blank / comment / at / entry )
//	at     = "at" 1*blank ENDPOINT [ 1*blank "tls" 1*blank ( "off" / "encrypt" / "verify" ) ]
//	entry  = 1*blank WORD [ 1*blank "on" 1*blank WORD ] ( ": " SECRET / 1*blank "without password" )
//	WORD   = a run of characters without blanks, colons, # and quotes / QUOTED
//	SECRET = PLAIN / QUOTED
//	PLAIN  = characters that can be seen and blanks; no blank at either end, no # and no quote at its start
//	QUOTED = between double quotes; \" \\ \n \r \t \xHH (a byte) \uHHHH \UHHHHHHHH (a character)
//
// scan reads one line after the other and calls visit for each entry; begin, when not nil, for each block. Its
// errors are *Problem values that name the line and never repeat it, since any part of it may be a password.
func scan(data []byte, path string, begin func(block), visit func(*line) error) error {
	if len(data) == 0 {
		return &Problem{Code: "secret.credentials-broken", Detail: fmt.Sprintf("%s:1: the file is empty; its first line is %q.", path, CredentialsHeader)}
	}
	return scanPart(part{text: string(data)}, path, begin, visit)
}

// part is a piece of a file that begins with the file or with an "at" line.
type part struct {
	text         string
	offset, line int // how much of the file comes before it
}

func scanPart(from part, path string, begin func(block), visit func(*line) error) error {
	fail := func(number int, format string, args ...any) error {
		return &Problem{Code: "secret.credentials-broken", Detail: fmt.Sprintf("%s:%d: ", path, number) + fmt.Sprintf(format, args...) + "."}
	}
	var entry line // the one that is read; what its block says stays in it
	inBlock, number, whole := false, from.line, from.text
	for offset := 0; offset < len(whole); {
		start := offset
		text := whole[start:]
		if end := strings.IndexByte(text, '\n'); end >= 0 {
			text, offset = text[:end], start+end+1
		} else {
			offset = len(whole)
		}
		number++
		text = strings.TrimSuffix(text, "\r")
		if number == 1 {
			if text != CredentialsHeader {
				return fail(1, "this is not the first line of a credential file that this version can read; it is %q", CredentialsHeader)
			}
			continue
		}
		trimmed := strings.TrimLeft(text, " \t")
		if len(trimmed) == 0 || trimmed[0] == '#' {
			continue
		}
		if len(text) > MaxSize {
			return fail(number, "the line is longer than %d KB", MaxSize>>10)
		}
		if len(trimmed) == len(text) {
			way, err := parseAt(text)
			if err != nil {
				return fail(number, "%v", err)
			}
			entry, inBlock = line{block: number, way: way}, true
			if begin != nil {
				begin(block{number: number, start: from.offset + start, end: from.offset + offset})
			}
			continue
		}
		if !inBlock {
			return fail(number, "an entry belongs to an endpoint: write a line such as \"at db.fellside.example:5432\" above it")
		}
		entry.way.User, entry.way.Database, entry.text = "", "", ""
		entry.number, entry.start, entry.end = number, from.offset+start, from.offset+offset
		if err := parseEntry(trimmed, &entry); err != nil {
			return fail(number, "%v", err)
		}
		if err := visit(&entry); err != nil {
			return err
		}
	}
	return nil
}

func parseAt(text string) (Way, error) {
	rest, ok := strings.CutPrefix(text, "at")
	if !ok || rest != "" && rest[0] != ' ' && rest[0] != '\t' {
		return Way{}, errors.New(`a line without a blank before it begins with "at" and an endpoint, or with #; an entry is indented`)
	}
	rest = strings.Trim(rest, " \t")
	if rest == "" {
		return Way{}, errors.New(`an endpoint is missing behind "at", such as db.fellside.example:5432`)
	}
	place, more := rest, ""
	if end := strings.IndexAny(rest, " \t"); end >= 0 {
		place, more = rest[:end], rest[end:]
	}
	endpoint, err := ParseEndpoint(place)
	if err != nil {
		return Way{}, err
	}
	if endpoint.Database != "" {
		return Way{}, errors.New(`a database is named in the entry, as in "warden_app on bunkhouse: …"`)
	}
	way := Way{Endpoint: endpoint, TLS: endpoint.WeakestTLS()}
	if more != "" {
		words := strings.Fields(more)
		if len(words) != 2 || words[0] != "tls" || strength(words[1]) < 0 {
			return Way{}, errors.New(`behind the endpoint stands nothing, or "tls" with off, encrypt or verify`)
		}
		way.TLS = words[1]
	}
	return way, nil
}

// parseEntry reads an entry without its indentation.
func parseEntry(text string, entry *line) error {
	user, rest, err := word(text)
	if err != nil {
		return err
	}
	entry.way.User = user
	if after, ok := strings.CutPrefix(rest, " on "); ok {
		if entry.way.Database, rest, err = word(strings.TrimLeft(after, " \t")); err != nil {
			return err
		}
	}
	value, ok := strings.CutPrefix(rest, ": ")
	if !ok {
		if strings.TrimRight(rest, " \t") == " without password" {
			return nil
		}
		return errors.New(`an entry is "USER: PASSWORD" or "USER on DATABASE: PASSWORD", with a blank behind the colon; a name with blanks or signs stands in quotes; an empty password is "", and an account that has none is "USER without password"`)
	}
	if len(value) == 0 {
		return errors.New(`the password is missing; an empty one is written ""`)
	}
	if value[0] == '"' {
		end, err := quotedEnd(value)
		if err != nil {
			return err
		}
		if strings.TrimRight(value[end:], " \t") != "" {
			return errors.New("nothing may follow the closing quote; a quote inside is written \\\"")
		}
		entry.text = value[:end]
		return nil
	}
	switch last := value[len(value)-1]; {
	case value[0] == ' ' || value[0] == '\t':
		return errors.New("there is more than one blank behind the colon; a password that begins with a blank stands in quotes, else take the blanks away")
	case last == ' ' || last == '\t':
		return errors.New("the line ends in a blank; a password that ends in one stands in quotes, else take the blank away")
	}
	if reason := notPlain(value); reason != "" {
		return errors.New(reason)
	}
	entry.text = value
	return nil
}

// notPlain tells why a text cannot stand without quotes, "" when it can.
func notPlain(value string) string {
	ascii := true
	for i := range len(value) {
		c := value[i]
		if c == '#' {
			return "a # makes it unclear whether a comment begins; put a password with a # into quotes"
		}
		if c < ' ' || c == 0x7f {
			return "there is a character that cannot be seen; put the password into quotes and write it as \\t or \\xHH"
		}
		ascii = ascii && c < 0x80
	}
	if ascii {
		return ""
	}
	if !utf8.ValidString(value) {
		return "the password is not UTF-8 text; put it into quotes and write each such byte as \\xHH"
	}
	for _, r := range value {
		if !unicode.IsPrint(r) {
			return "there is a character that cannot be seen; put the password into quotes and write it as \\uHHHH"
		}
	}
	return ""
}

// word reads a user's or a database's name, in quotes or not.
func word(text string) (name, rest string, err error) {
	if len(text) > 0 && text[0] == '"' {
		end, err := quotedEnd(text)
		if err != nil {
			return "", "", err
		}
		name, err = unquote(text[:end])
		if err == nil && (name == "" || !clear(name)) {
			err = errors.New("a name is empty or holds a character that cannot be seen")
		}
		return name, text[end:], err
	}
	end, plain := 0, true
	for end < len(text) && text[end] != ' ' && text[end] != ':' && text[end] != '\t' && text[end] != '#' && text[end] != '"' {
		plain = plain && text[end] > ' ' && text[end] < 0x7f
		end++
	}
	if end == 0 {
		return "", "", errors.New("a name is missing; one with blanks or signs stands in quotes")
	}
	if !plain && !clear(text[:end]) {
		return "", "", errors.New("a name holds a character that cannot be seen")
	}
	return text[:end], text[end:], nil
}

// quotedEnd gives where a quoted text ends, behind its closing quote.
func quotedEnd(text string) (int, error) {
	for i := 1; i < len(text); i++ {
		switch text[i] {
		case '\\':
			i++
		case '"':
			return i + 1, nil
		}
	}
	return 0, errors.New("the closing quote is missing")
}

// unquote reads a quoted text.
func unquote(text string) (string, error) {
	inner := text[1 : len(text)-1]
	if !utf8.ValidString(inner) {
		return "", errors.New("the text between the quotes is not UTF-8; write each such byte as \\xHH")
	}
	if strings.IndexByte(inner, '\\') < 0 {
		return inner, seen(inner)
	}
	var b strings.Builder
	for rest := inner; rest != ""; {
		if rest[0] != '\\' {
			end := strings.IndexByte(rest, '\\')
			if end < 0 {
				end = len(rest)
			}
			if err := seen(rest[:end]); err != nil {
				return "", err
			}
			b.WriteString(rest[:end])
			rest = rest[end:]
			continue
		}
		value, multibyte, after, err := strconv.UnquoteChar(rest, '"')
		if err != nil || !strings.ContainsRune(`"\nrtxuU`, rune(rest[1])) {
			return "", errors.New(`an escape is not known; there are \" \\ \n \r \t \xHH \uHHHH and \UHHHHHHHH`)
		}
		if multibyte || value < utf8.RuneSelf {
			b.WriteRune(value)
		} else {
			b.WriteByte(byte(value))
		}
		rest = after
	}
	return b.String(), nil
}

// simple tells whether a quoted text has nothing in it that could be wrong.
func simple(text string) bool {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c > '~' || c == '\\' {
			return false
		}
	}
	return true
}

func seen(text string) error {
	for i := range len(text) {
		c := text[i]
		if c < ' ' || c == 0x7f {
			return errors.New("a character between the quotes cannot be seen; write it as \\t or \\xHH")
		}
	}
	return nil
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
	if name != "" && !strings.ContainsAny(name, " \t:#\"\\") && clear(name) {
		return name
	}
	return quoteText(name)
}

// decode gives an entry with its secret.
func (l *line) decode(path string) (Credential, error) {
	c := Credential{Line: l.number, Block: l.block, Way: l.way}
	if l.text == "" {
		return c, nil
	}
	text, err := l.text, error(nil)
	if l.text[0] == '"' {
		text, err = unquote(l.text)
	}
	if err == nil {
		err = usable(text)
	}
	if err != nil {
		return c, &Problem{Code: "secret.credentials-broken", Detail: fmt.Sprintf("%s:%d: %v.", path, l.number, err)}
	}
	c.Secret = New(text)
	return c, nil
}

// ParseCredentials reads a whole credential file; path is for its messages. The error is a *Problem.
func ParseCredentials(data []byte, path string) ([]Credential, error) {
	var list []Credential
	err := scan(data, path, nil, func(l *line) error {
		c, err := l.decode(path)
		list = append(list, c)
		return err
	})
	return list, err
}

// ReadCredentials reads a credential file once it is known to be safe. The error is a *Problem.
func ReadCredentials(path string) ([]Credential, error) {
	data, err := readCredentials(path)
	if err != nil {
		return nil, err
	}
	return ParseCredentials(data, path)
}

func readCredentials(path string) ([]byte, error) {
	data, err := ReadGuarded(path, MaxCredentials)
	var problem *Problem
	if errors.As(err, &problem) && problem.Code == "secret.file-missing" {
		problem.Code = "secret.credentials-missing"
		if _, e := os.Stat(path); errors.Is(e, fs.ErrNotExist) {
			problem.Detail = "There is no credential file " + path + "."
			problem.Tried = []string{"credential file " + path + ": there is none"}
		}
	}
	return data, err
}

// Match finds the entry of a credential file that serves on a way, without keeping the others. The error is a
// *Problem: the file cannot be used, keeps nothing for the way, or has two entries that serve equally well.
func Match(path string, way Way) (Credential, error) {
	data, err := readCredentials(path)
	if err != nil {
		return Credential{}, err
	}
	return MatchIn(data, path, way)
}

// MatchIn is Match on a file's content; path is for its messages.
func MatchIn(data []byte, path string, way Way) (Credential, error) {
	if len(data) == 0 {
		return Credential{}, scan(data, path, nil, nil)
	}
	parts := split(string(data), runtime.GOMAXPROCS(0))
	found := make([]matched, len(parts))
	var group errgroup.Group
	for i, each := range parts {
		group.Go(func() error {
			found[i] = each.match(path, way)
			return nil
		})
	}
	_ = group.Wait()
	picker := Picker{Way: way}
	var best line
	for _, m := range found {
		if m.err != nil {
			return Credential{}, m.err
		}
		if id, kept, differs := m.picker.Near(); len(differs) > 0 {
			picker.Offer(id, &kept)
		}
		if id, serves := m.picker.Best(); serves {
			picker.Offer(id, &m.best.way)
			if other, tied := m.picker.Tie(); tied {
				picker.Offer(other, &m.best.way)
			}
			if now, _ := picker.Best(); now == id {
				best = m.best
			}
		}
	}
	if _, serves := picker.Best(); !serves {
		return Credential{}, picker.Missing("the credential file "+path, "credential file "+path)
	}
	if other, tied := picker.Tie(); tied {
		return Credential{}, &Problem{Code: "secret.credentials-tie",
			Detail: fmt.Sprintf("%s has two entries that serve %s at %s equally well, in the lines %d and %d.", path, way.User, way.Place(), best.number, other)}
	}
	return best.decode(path)
}

// matched is what a part of a file has for a way.
type matched struct {
	picker Picker
	best   line
	err    error
}

func (p part) match(path string, way Way) matched {
	m := matched{picker: Picker{Way: way}}
	m.err = scanPart(p, path, nil, func(l *line) error {
		m.picker.Offer(l.number, &l.way)
		if id, found := m.picker.Best(); found && id == l.number {
			m.best = *l
		}
		if l.text == "" || l.text[0] != '"' || simple(l.text) {
			return nil
		}
		_, err := l.decode(path) // a mistake in any line is a mistake in the file
		return err
	})
	return m
}

// split cuts a large file into parts that can be read side by side.
func split(text string, most int) []part {
	const least = 128 << 10
	parts := []part{{text: text}}
	for n := min(most, len(text)/least); n > 1; n-- {
		last := &parts[len(parts)-1]
		size := len(last.text) / n
		cut := strings.Index(last.text[size:], "\nat ")
		if cut < 0 {
			break
		}
		cut += size + 1
		next := part{last.text[cut:], last.offset + cut, last.line + strings.Count(last.text[:cut], "\n")}
		last.text = last.text[:cut]
		parts = append(parts, next)
	}
	return parts
}

// AddCredential gives a credential file's content with an entry in it, in the place of an earlier one of the same
// user, endpoint and database; was tells whether there was one. Empty data makes a new file. Every other line
// stays as it is. The error is a *Problem.
func AddCredential(data []byte, path string, way Way, s Secret) (changed []byte, was bool, err error) {
	if len(way.Hops) > 0 {
		return nil, false, &Problem{Code: "secret.unusable", Detail: "A credential file cannot bind a password to hops; keep it in the wallet."}
	}
	if strings.ContainsAny(way.Socket, " \t") {
		return nil, false, &Problem{Code: "secret.unusable", Detail: "A credential file cannot name a socket whose path has blanks; keep the password in the wallet."}
	}
	if len(data) == 0 {
		data = []byte(CredentialsHeader + "\n")
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
		head := "at " + (Endpoint{Host: way.Host, Port: way.Port, Socket: way.Socket}).Place()
		if way.TLS != way.WeakestTLS() {
			head += " tls " + way.TLS
		}
		from, to, text = len(data), len(data), head+end+text
	}
	changed = append(append(bytes.Clone(data[:from]), text...), data[to:]...)
	// What was written must be what is read.
	list, err := ParseCredentials(changed, path)
	if err != nil {
		return nil, false, err
	}
	for _, c := range list {
		if c.Way.Key() == way.Key() && c.Way.TLS == way.TLS && c.Secret.Given() == s.Given() && c.Secret.Reveal() == s.Reveal() {
			return changed, was, nil
		}
	}
	return nil, false, &Problem{Code: "secret.unusable", Detail: "A credential file cannot hold this entry; keep it in the wallet."}
}

// atIs tells whether an "at" line opens the block that an entry for way belongs to.
func atIs(text []byte, way Way) bool {
	at, err := parseAt(string(bytes.TrimRight(text, "\r\n")))
	return err == nil && at.Place() == way.Place() && at.Socket == way.Socket && at.TLS == way.TLS
}

// RemoveCredential gives a credential file's content without the entries of a user at an endpoint, and how many
// they were. A block that they leave without any line of its own goes too. The error is a *Problem.
func RemoveCredential(data []byte, path string, way Way) (changed []byte, removed int, err error) {
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

// Trouble is something that CheckCredentials found.
type Trouble struct {
	Line int
	What string
}

// CheckCredentials lists entries that can never serve: two that are equally specific, which every match
// refuses, and blocks without an entry. The error is a *Problem: the file cannot be used at all.
func CheckCredentials(data []byte, path string) (entries int, list []Trouble, err error) {
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
