package script

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"gentle-harbor/internal/engine"
)

// forms says how a value of each kind is written.
var forms = map[engine.Kind]struct{ looks, say string }{
	engine.Integer:   {`^[+-]?[0-9]{1,400}$`, "digits, such as -12"},
	engine.Decimal:   {`^[+-]?([0-9]{1,400}(\.[0-9]{0,400})?|\.[0-9]{1,400})([eE][+-]?[0-9]{1,4})?$`, "digits, such as 2310.50"},
	engine.Boolean:   {`^(true|false)$`, "true or false"},
	engine.Bytes:     {`^\\x([0-9a-fA-F]{2})*$`, `\x and two digits for each byte, such as \x00ff`},
	engine.Date:      {`^[0-9]{4}-[0-9]{2}-[0-9]{2}$`, "a day, such as 2026-02-14"},
	engine.Time:      {`^-?[0-9]{2,3}:[0-5][0-9](:[0-5][0-9](\.[0-9]{1,9})?)?([+-][0-9]{2}(:?[0-9]{2})?|Z)?$`, "such as 18:30 or 18:30:05.25"},
	engine.Timestamp: {`^[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-5][0-9](:[0-5][0-9](\.[0-9]{1,9})?)?([+-][0-9]{2}(:?[0-9]{2})?|Z)?$`, "such as '2026-02-14 18:30:05'"},
	engine.JSON:      {``, `JSON (RFC 8259), such as '{"beds": 12}'`},
	engine.Text:      {``, "text in UTF-8"},
}

var looks = sync.OnceValue(func() map[engine.Kind]*regexp.Regexp {
	all := map[engine.Kind]*regexp.Regexp{}
	for kind, form := range forms {
		all[kind] = regexp.MustCompile(form.looks)
	}
	return all
})

// Kinds lists what a value can be, as a person writes it.
func Kinds() []string {
	var list []string
	for _, kind := range engine.ValueKinds {
		list = append(list, string(kind))
	}
	return list
}

// LetError is the error of a value that cannot be taken as it is written. It shows no part of the value.
type LetError struct {
	Name, Say string
}

// Error says what is wrong.
func (e *LetError) Error() string {
	if e.Name == "" {
		return e.Say
	}
	return "the value " + e.Name + " " + e.Say
}

// named takes NAME or NAME:KIND apart.
func named(word string) (name string, kind engine.Kind, err error) {
	name, of, typed := strings.Cut(word, ":")
	if !isName(name) {
		return "", "", &LetError{"", "the name of a value is letters, digits and _, and begins with a letter"}
	}
	if !typed {
		return name, engine.Text, nil
	}
	if kind = engine.Kind(of); !slices.Contains(engine.ValueKinds, kind) {
		return name, "", &LetError{name, fmt.Sprintf("has no kind of its own; there are %s", strings.Join(Kinds(), ", "))}
	}
	return name, kind, nil
}

// isName reports whether a word can be a value's name.
func isName(word string) bool {
	for i, r := range []byte(word) {
		if !(r|0x20 >= 'a' && r|0x20 <= 'z' || r == '_' && i > 0 || i > 0 && r >= '0' && r <= '9') {
			return false
		}
	}
	return word != "" && len(word) <= 100
}

// Let reads a value as NAME:KIND=VALUE, as NAME=VALUE for a text, or as NAME:null for no value. Its error is a *LetError.
func Let(word string) (engine.Value, error) {
	left, text, given := strings.Cut(word, "=")
	name, kind, err := named(left)
	switch {
	case err != nil:
		return engine.Value{}, err
	case kind == engine.Null && given:
		return engine.Value{}, &LetError{name, "is null, and is given a text: leave out = and what follows it"}
	case kind == engine.Null:
		return engine.Value{Name: name, Kind: kind}, nil
	case !given:
		return engine.Value{}, &LetError{name, "has no = and no text; one without a value is " + name + ":null"}
	}
	if kind == engine.Bytes {
		if !looks()[kind].MatchString(text) {
			return engine.Value{}, &LetError{name, "is none of the kind bytes: write " + forms[kind].say}
		}
		data, _ := hex.DecodeString(text[2:])
		return engine.Value{Name: name, Kind: kind, Text: string(data)}, nil
	}
	return checked(engine.Value{Name: name, Kind: kind, Text: text})
}

// LetFrom takes the content of a file as the value that NAME or NAME:KIND says. Texts and bytes are taken as they are; of the other kinds one line end
// at the end is cut. Its error is a *LetError.
func LetFrom(word, content string) (engine.Value, error) {
	name, kind, err := named(word)
	switch {
	case err != nil:
		return engine.Value{}, err
	case kind == engine.Null:
		return engine.Value{}, &LetError{name, "is null, and takes no file"}
	case kind == engine.Bytes:
		return engine.Value{Name: name, Kind: kind, Text: content}, nil
	case kind != engine.Text:
		content = strings.TrimSuffix(strings.TrimSuffix(content, "\n"), "\r")
	}
	return checked(engine.Value{Name: name, Kind: kind, Text: content})
}

// checked refuses a value that is not written as its kind is.
func checked(v engine.Value) (engine.Value, error) {
	ok := utf8.ValidString(v.Text) && (forms[v.Kind].looks == "" || looks()[v.Kind].MatchString(v.Text))
	switch v.Kind {
	case engine.JSON:
		ok = ok && json.Valid([]byte(v.Text))
	case engine.Date, engine.Timestamp:
		day, clock := v.Text[:min(10, len(v.Text))], v.Text[min(10, len(v.Text)):]
		if _, err := time.Parse(time.DateOnly, day); err != nil {
			ok = false
		}
		if clock != "" {
			v.Text = day + " " + clock[1:]
		}
	case engine.Integer, engine.Decimal:
		v.Text = strings.TrimPrefix(v.Text, "+")
	}
	if !ok {
		return engine.Value{}, &LetError{v.Name, fmt.Sprintf("is none of the kind %s: write %s", v.Kind, forms[v.Kind].say)}
	}
	return v, nil
}
