package credentials

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Header is the first line of a credential file.
const Header = "# gentle-harbor credentials 1"

// MaxSize is how many bytes a credential file may have.
const MaxSize = 32 << 20

// Entry is one entry of a credential file: a line in the block of an endpoint.
type Entry struct {
	Line  int // of the entry
	Block int // the line of its "at"
	Way   target.Target
	// Secret is not Given for an entry "without password".
	Secret secret.Secret
}

// line is an entry as it stands in the file, not decoded yet.
type line struct {
	number, block int
	way           target.Target
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
// errors are *finding.Problem values that name the line and never repeat it, since any part of it may be a password.
func scan(data []byte, path string, begin func(block), visit func(*line) error) error {
	if len(data) == 0 {
		return &finding.Problem{Code: "secret.credentials-broken", Facts: map[string]string{"detail": fmt.Sprintf("%s:1: the file is empty; its first line is %q.", path, Header)}}
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
		return &finding.Problem{Code: "secret.credentials-broken", Facts: map[string]string{"detail": fmt.Sprintf("%s:%d: ", path, number) + fmt.Sprintf(format, args...) + "."}}
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
			if text != Header {
				return fail(1, "this is not the first line of a credential file that this version can read; it is %q", Header)
			}
			continue
		}
		trimmed := strings.TrimLeft(text, " \t")
		if len(trimmed) == 0 || trimmed[0] == '#' {
			continue
		}
		if len(text) > secret.MaxSize {
			return fail(number, "the line is longer than %d KB", secret.MaxSize>>10)
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

func parseAt(text string) (target.Target, error) {
	rest, ok := strings.CutPrefix(text, "at")
	if !ok || rest != "" && rest[0] != ' ' && rest[0] != '\t' {
		return target.Target{}, errors.New(`a line without a blank before it begins with "at" and an endpoint, or with #; an entry is indented`)
	}
	rest = strings.Trim(rest, " \t")
	if rest == "" {
		return target.Target{}, errors.New(`an endpoint is missing behind "at", such as db.fellside.example:5432`)
	}
	place, more := rest, ""
	if end := strings.IndexAny(rest, " \t"); end >= 0 {
		place, more = rest[:end], rest[end:]
	}
	endpoint, err := target.ParseEndpoint(place)
	if err != nil {
		return target.Target{}, err
	}
	if endpoint.Database != "" {
		return target.Target{}, errors.New(`a database is named in the entry, as in "warden_app on bunkhouse: …"`)
	}
	way := target.Target{Endpoint: endpoint, TLS: endpoint.WeakestTLS()}
	if more != "" {
		words := strings.Fields(more)
		if len(words) != 2 || words[0] != "tls" || target.Strength(words[1]) < 0 {
			return target.Target{}, errors.New(`behind the endpoint stands nothing, or "tls" with off, encrypt or verify`)
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
		if err == nil && (name == "" || !target.IsVisible(name)) {
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
	if !plain && !target.IsVisible(text[:end]) {
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

func seen(text string) error {
	for i := range len(text) {
		c := text[i]
		if c < ' ' || c == 0x7f {
			return errors.New("a character between the quotes cannot be seen; write it as \\t or \\xHH")
		}
	}
	return nil
}

// decode gives an entry with its secret.
func (l *line) decode(path string) (Entry, error) {
	c := Entry{Line: l.number, Block: l.block, Way: l.way}
	if l.text == "" {
		return c, nil
	}
	text, err := l.text, error(nil)
	if l.text[0] == '"' {
		text, err = unquote(l.text)
	}
	if err == nil {
		err = secret.Usable(text)
	}
	if err != nil {
		return c, &finding.Problem{Code: "secret.credentials-broken", Facts: map[string]string{"detail": fmt.Sprintf("%s:%d: %v.", path, l.number, err)}}
	}
	c.Secret = secret.New(text)
	return c, nil
}

// Parse reads a whole credential file; path is for its messages. The error is a *finding.Problem.
func Parse(data []byte, path string) ([]Entry, error) {
	var list []Entry
	err := scan(data, path, nil, func(l *line) error {
		c, err := l.decode(path)
		list = append(list, c)
		return err
	})
	return list, err
}

// Read reads a credential file once it is known to be safe. The error is a *finding.Problem.
func Read(path string) ([]Entry, error) {
	data, err := read(path)
	if err != nil {
		return nil, err
	}
	return Parse(data, path)
}

func read(path string) ([]byte, error) {
	data, err := secret.ReadGuarded(path, MaxSize)
	var problem *finding.Problem
	if errors.As(err, &problem) && problem.Code == "secret.file-missing" {
		problem.Code = "secret.credentials-missing"
		if _, e := os.Stat(path); errors.Is(e, fs.ErrNotExist) {
			problem.Facts["detail"] = "There is no credential file " + path + "."
			problem.Tried = []string{"credential file " + path + ": there is none"}
		}
	}
	return data, err
}

// File is the path of a credential file, as a secret.Keeper.
type File string

// Look gives the entry that serves.
func (f File) Look(_ context.Context, way target.Target, _ secret.How) (secret.Secret, string, error) {
	c, err := Match(string(f), way)
	if err != nil {
		return secret.Secret{}, "", err
	}
	saw := fmt.Sprintf("from the credential file %s, line %d", f, c.Line)
	if !c.Secret.Given() {
		saw = fmt.Sprintf("none, as the credential file %s says in line %d", f, c.Line)
	}
	return c.Secret, saw, nil
}
