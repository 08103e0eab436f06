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
	Line   int // of the entry
	Block  int // the line of its "at"
	Target target.Target
	// Secret is not Given for an entry "without password".
	Secret secret.Secret
}

// line is an entry as it is in the file, not decoded yet.
type line struct {
	number, block int
	dest          target.Target
	text          string // the secret as written, "" for "without password"
	start, end    int    // of the line in the file, its line end included
}

// block is an "at" line.
type block struct{ number, start, end, entries int }

// A credential file is UTF-8 text in lines:
//
//	file   = header *( empty / comment / at / entry )
//	at     = "at" 1*WSP ENDPOINT [ 1*WSP "tls" 1*WSP ( "off" / "encrypt" / "verify" ) ]
//	         [ 1*WSP "ca" 1*WSP WORD ] [ 1*WSP "name" 1*WSP WORD ]
//	entry  = 1*WSP WORD [ 1*WSP "on" 1*WSP WORD ] ( ": " SECRET / 1*WSP "without password" )
//	WORD   = a run of characters without spaces, colons, # and quotes / QUOTED
//	SECRET = PLAIN / QUOTED
//	PLAIN  = characters that can be seen and spaces; no space at either end, no # and no quote at its start
//	QUOTED = between double quotes; \" \\ \n \r \t \xHH (a byte) \uHHHH \UHHHHHHHH (a character)
//
// scan reads one line after the other and calls visit for each entry; begin, when not nil, for
// each block. Its errors are *finding.Problem values that name the line and never repeat it,
// since any part of it may be a password.
func scan(data []byte, path string, begin func(block), visit func(*line) error) error {
	if len(data) == 0 {
		return &finding.Problem{Code: finding.SecretCredentialsBroken,
			Facts: finding.Facts{finding.FactDetail: fmt.Sprintf("%s:1: the file is empty; its first line is %q.",
				path, Header)}}
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
		return &finding.Problem{Code: finding.SecretCredentialsBroken,
			Facts: finding.Facts{finding.FactDetail: fmt.Sprintf("%s:%d: ", path, number) + fmt.Sprintf(format,
				args...) + "."}}
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
			dest, err := parseAt(text)
			if err != nil {
				return fail(number, "%v", err)
			}
			entry, inBlock = line{block: number, dest: dest}, true
			if begin != nil {
				begin(block{number: number, start: from.offset + start, end: from.offset + offset})
			}
			continue
		}
		if !inBlock {
			return fail(number, "an entry belongs to an endpoint: write a line such as \"at db.fellside.example:5432\" above it")
		}
		entry.dest.User, entry.dest.Database, entry.text = "", "", ""
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
		return target.Target{}, errors.New(`a line without a space before it begins with "at" and an endpoint, or with #; an entry is indented`)
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
	dest := target.Target{Endpoint: endpoint, TLS: endpoint.WeakestTLS()}
	if more != "" {
		if err := parseTrust(more, &dest); err != nil {
			return target.Target{}, err
		}
	}
	return dest, nil
}

// parseTrust reads what may follow an endpoint: how it is encrypted, and who is trusted for which
// name.
func parseTrust(more string, dest *target.Target) error {
	wrong := errors.New(`behind the endpoint stands nothing, or "tls" with off, encrypt or verify, "ca" with a file, "name" with the certificate's name, "defined" as it was written for an alias or a container, in this order`)
	for rest := strings.Trim(more, " \t"); rest != ""; {
		end := strings.IndexAny(rest, " \t")
		if end < 0 {
			return wrong
		}
		key := rest[:end]
		value, left, err := word(strings.TrimLeft(rest[end:], " \t"))
		if err != nil || value == "" || left != "" && left[0] != ' ' && left[0] != '\t' {
			return wrong
		}
		switch {
		case dest.Defined.How != "":
			return wrong
		case key == "defined" && dest.Alias+dest.Container != "":
			var ok bool
			if dest.Defined, ok = target.ParseDefinition(value); !ok {
				return wrong
			}
		case key == "tls" && dest.Authority == "" && dest.ServerName == "" && target.Strength(value) >= 0:
			dest.TLS = value
		case key == "ca" && dest.Authority == "" && dest.ServerName == "":
			dest.Authority = value
		case key == "name" && dest.ServerName == "":
			dest.ServerName = strings.ToLower(value)
		default:
			return wrong
		}
		rest = strings.Trim(left, " \t")
	}
	if dest.TLS != "verify" && (dest.Authority != "" || dest.ServerName != "") {
		return errors.New(`"ca" and "name" have a use only with tls verify`)
	}
	return nil
}

// parseEntry reads an entry without its indentation.
func parseEntry(text string, entry *line) error {
	user, rest, err := word(text)
	if err != nil {
		return err
	}
	entry.dest.User = user
	if after, ok := strings.CutPrefix(rest, " on "); ok {
		if entry.dest.Database, rest, err = word(strings.TrimLeft(after, " \t")); err != nil {
			return err
		}
	}
	value, ok := strings.CutPrefix(rest, ": ")
	if !ok {
		if strings.TrimRight(rest, " \t") == " without password" {
			return nil
		}
		return errors.New(`an entry is "USER: PASSWORD" or "USER on DATABASE: PASSWORD", with a space behind the colon; a name with spaces or signs is in quotes; an empty password is "", and an account that has none is "USER without password"`)
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
		return errors.New("there is more than one space behind the colon; a password that begins with a space " +
			"is in quotes, else take the spaces away")
	case last == ' ' || last == '\t':
		return errors.New("the line ends in a space; a password that ends in one is in quotes, else take the space away")
	}
	if reason := notPlain(value); reason != "" {
		return errors.New(reason)
	}
	entry.text = value
	return nil
}

// notPlain says why a text cannot stand without quotes, "" when it can.
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
			err = errors.New("a name is empty or has a character that cannot be seen")
		}
		return name, text[end:], err
	}
	end, plain := 0, true
	for end < len(text) && text[end] != ' ' && text[end] != ':' && text[end] != '\t' && text[end] != '#' &&
		text[end] != '"' {
		plain = plain && text[end] > ' ' && text[end] < 0x7f
		end++
	}
	if end == 0 {
		return "", "", errors.New("a name is missing; one with spaces or signs is in quotes")
	}
	if !plain && !target.IsVisible(text[:end]) {
		return "", "", errors.New("a name has a character that cannot be seen")
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
	c := Entry{Line: l.number, Block: l.block, Target: l.dest}
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
		return c, &finding.Problem{Code: finding.SecretCredentialsBroken,
			Facts: finding.Facts{finding.FactDetail: fmt.Sprintf("%s:%d: %v.", path, l.number, err)}}
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
	if errors.As(err, &problem) && problem.Code == finding.SecretFileMissing {
		problem.Code = finding.SecretCredentialsMissing
		if _, e := os.Stat(path); errors.Is(e, fs.ErrNotExist) {
			problem.Facts[finding.FactDetail] = "There is no credential file " + path + "."
			problem.Tried = []string{"credential file " + path + ": there is none"}
		}
	}
	return data, err
}

// File is the path of a credential file, as a secret.Keeper.
type File string

// Look gives the entry that serves.
func (f File) Look(_ context.Context, dest target.Target, _ secret.How) (secret.Secret, secret.Source, error) {
	c, err := Match(string(f), dest)
	if err != nil {
		return secret.Secret{}, secret.Source{}, err
	}
	saw := fmt.Sprintf("from the credential file %s, line %d", f, c.Line)
	if !c.Secret.Given() {
		saw = fmt.Sprintf("none, as the credential file %s says in line %d", f, c.Line)
	}
	return c.Secret, secret.Source{Kind: secret.Credentials, Saw: saw, Kept: &c.Target}, nil
}
