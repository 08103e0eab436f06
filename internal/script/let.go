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
var forms = map[engine.Kind]struct{ looks, say, example string }{
	engine.Integer: {`^[+-]?[0-9]{1,400}$`, "digits", "-12"},
	engine.Decimal: {`^[+-]?([0-9]{1,400}(\.[0-9]{0,400})?|\.[0-9]{1,400})([eE][+-]?[0-9]{1,4})?$`,
		"digits, with a point", "2310.50"},
	engine.Boolean: {`^(true|false)$`, "true or false", "true"},
	engine.Bytes:   {`^\\x([0-9a-fA-F]{2})*$`, `\x and two digits for each byte`, `'\x00ff'`},
	engine.Date:    {`^[0-9]{4}-[0-9]{2}-[0-9]{2}$`, "year, month and day", "2026-02-14"},
	engine.Time: {`^-?[0-9]{2,3}:[0-5][0-9](:[0-5][0-9](\.[0-9]{1,9})?)?([+-][0-9]{2}(:?[0-9]{2})?|Z)?$`,
		"hours and minutes, and what is finer", "18:30:05.25"},
	engine.Timestamp: {`^[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-5][0-9](:[0-5][0-9](\.[0-9]{1,9})?)?([+-][0-9]{2}(:?[0-9]{2})?|Z)?$`,
		"a day and a time", "'2026-02-14 18:30:05'"},
	engine.JSON: {``, `JSON (RFC 8259)`, `'{"beds": 12}'`},
	engine.Text: {``, "text in UTF-8", "Greystone"},
}

var looks = sync.OnceValue(func() map[engine.Kind]*regexp.Regexp {
	all := map[engine.Kind]*regexp.Regexp{}
	for kind, form := range forms {
		all[kind] = regexp.MustCompile(form.looks)
	}
	return all
})

// kinds lists what a value can be, as a person writes it.
func kinds() []string {
	var list []string
	for _, kind := range engine.ValueKinds {
		list = append(list, string(kind))
	}
	return list
}

// LetError is the error of a value that cannot be taken as it is written. It shows no part of the
// value.
type LetError struct {
	Name, Say string
	Example   string // a value that would be taken, as it is written
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
		return "", "", &LetError{"", "the name of a value is letters, digits and _, and begins with a letter",
			"since:date=2026-02-14"}
	}
	if !typed {
		return name, engine.Text, nil
	}
	if kind = engine.Kind(of); !slices.Contains(engine.ValueKinds, kind) {
		return name, "", &LetError{name,
			fmt.Sprintf("has a kind that there is not; there are %s", strings.Join(kinds(), ", ")),
			name + ":integer=5"}
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

// Let reads a value as NAME:KIND=VALUE, as NAME=VALUE for a text, or as NAME:null for no value.
// Its error is a *LetError.
func Let(word string) (engine.Value, error) {
	left, text, given := strings.Cut(word, "=")
	name, kind, err := named(left)
	switch {
	case err != nil:
		return engine.Value{}, err
	case kind == engine.Null && given:
		return engine.Value{}, &LetError{name, "is null, and is given a text: leave out = and what follows it",
			name + ":null"}
	case kind == engine.Null:
		return engine.Value{Name: name, Kind: kind}, nil
	case !given:
		return engine.Value{}, &LetError{"",
			"a value is written as NAME:KIND=VALUE, or as NAME:null for none, and there is no =",
			"since:date=2026-02-14"}
	}
	if kind == engine.Bytes {
		if !looks()[kind].MatchString(text) {
			return engine.Value{}, wrongKind(name, kind)
		}
		data, _ := hex.DecodeString(text[2:])
		return engine.Value{Name: name, Kind: kind, Text: string(data)}, nil
	}
	return checked(engine.Value{Name: name, Kind: kind, Text: text})
}

// LetFrom takes the content of a file as the value that NAME or NAME:KIND says. Texts and bytes
// are taken as they are; of the other kinds one line end at the end is cut. Its error is a
// *LetError.
func LetFrom(word, content string) (engine.Value, error) {
	name, kind, err := named(word)
	switch {
	case err != nil:
		return engine.Value{}, err
	case kind == engine.Null:
		return engine.Value{}, &LetError{name, "is null, and takes no file", name + ":null"}
	case kind == engine.Bytes:
		return engine.Value{Name: name, Kind: kind, Text: content}, nil
	case kind != engine.Text:
		content = strings.TrimSuffix(strings.TrimSuffix(content, "\n"), "\r")
	}
	return checked(engine.Value{Name: name, Kind: kind, Text: content})
}

// wrongKind is the error of a value that is not written as its kind is.
func wrongKind(name string, kind engine.Kind) error {
	return &LetError{name, fmt.Sprintf("is not of the kind %s, which is written as %s", kind, forms[kind].say),
		fmt.Sprintf("%s:%s=%s", name, kind, forms[kind].example)}
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
		return engine.Value{}, wrongKind(v.Name, v.Kind)
	}
	return v, nil
}
