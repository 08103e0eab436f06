package engine

import (
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// Timestamp is the kind of a value that has a date and a time, and may have a zone.
const Timestamp Kind = "timestamp"

// ValueKinds are the kinds of the values that a person can give to a statement; a value of the
// kind [Null] is none.
var ValueKinds = []Kind{Integer, Decimal, Boolean, Text, Bytes, Date, Time, Timestamp, JSON, Null}

// Value is what a person gives to a statement beside its text. It travels beside the text, too,
// as a parameter, and never becomes a part of it.
type Value struct {
	Name string
	Kind Kind // of ValueKinds
	// Text is the value as its kind is written: digits, true or false, the bytes themselves, and
	// dates and times as in ISO 8601 with a space between the two.
	Text string
}

// PlaceName is the name in an object that stands where a value goes, in a statement that is an
// object.
const PlaceName = "$gharbor"

// Place is how a statement's text says where its n-th value goes, from 1.
func (l Language) Place(n int) string {
	if l.Objects != nil {
		return fmt.Sprintf(`{%q:%d}`, PlaceName, n)
	}
	if l.Numbered {
		return fmt.Sprintf("$%d", n)
	}
	return "?"
}

// Commits gives the words by which a statement ends a transaction, may end one, or cannot be in
// one, "" for any other. It knows what the engine's documentation says of the first words, and
// does not look into comments that are run; what else cannot be in a transaction, the server
// refuses.
func (l Language) Commits(statement string) string {
	for _, mark := range l.Executable {
		if strings.Contains(statement, mark) {
			return mark
		}
	}
	if word := l.begins(statement, l.Committing, l.NotCommitting); word != "" {
		return word
	}
	first := l.First(statement)
	word := l.CommittingBy[first]
	fields := strings.FieldsFunc(strings.ToLower(l.Bare(statement)), func(r rune) bool {
		return r != '_' && (r < 'a' || r > 'z')
	})
	if word == "" || !slices.Contains(fields, word) {
		return ""
	}
	return first + " … " + word
}

// Notice is what a server says beside a result: a note, a warning.
type Notice struct {
	Level  string // such as NOTICE or Warning, the server's word
	Number string // the server's code for it
	Text   outside.Raw
	Detail outside.Raw
	Hint   outside.Raw
}

// MostNotices is how many notices of one statement are handed on.
const MostNotices = 50

// OtherPlaces is the problem of a statement in which the server sees another number of places for
// values than was filled.
func OtherPlaces(sees, filled int) error {
	return &finding.Problem{Code: finding.QueryPlaces,
		Facts: finding.Facts{finding.FactWhat: fmt.Sprintf("The server sees %d of them, and %d have a value",
			sees, filled)}}
}
