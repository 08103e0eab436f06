package script

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
)

// Bound is a statement in which each value has a place that the engine understands.
type Bound struct {
	Statement
	// To is the text for the server, and Values go to its places, in their order.
	To     string
	Values []engine.Value

	moves []move
}

// move is where the two texts differ: from a byte of To on, a byte of To is that many bytes
// further on in Text.
type move struct{ at, by int }

// From gives the byte of the statement's own text for a byte of To.
func (b Bound) From(at int) int {
	by := 0
	for _, m := range b.moves {
		if at < m.at {
			break
		}
		by = m.by
	}
	return at + by
}

// PlaceError is the error of a value that has no place where it stands.
type PlaceError struct {
	Spot
	Say string
}

// Error says what is wrong.
func (e *PlaceError) Error() string { return e.Say }

// token is a word of a statement, a value's place, a quote, or one other character.
type token struct {
	kind  rune   // 'w' word, 'v' value, 'q' quote, else the character
	text  string // in small letters; a value's name as it is
	at    int
	end   int
	depth int
}

// Values are what statements may name.
type Values struct {
	Given map[string]engine.Value
	Used  map[string]bool                          // by the statements that were bound
	Near  func(word string, names []string) string // gives the name that was probably meant, "" for none
}

// Unused gives the names that no statement has used, in order.
func (v Values) Unused() []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(v.Given)), func(name string) bool { return v.Used[name] })
}

// Bind puts places for values where a statement says {{name}}. Outside of quotes and comments
// each such name must be known, and stand where the engine takes a value. Nothing of a value
// becomes text. Its error is a *PlaceError.
func Bind(l engine.Language, s Statement, values Values) (Bound, error) {
	b := Bound{Statement: s, To: s.Text}
	if !strings.Contains(s.Text, "{{") {
		return b, object(l, b)
	}
	wrong := func(at int, format string, of ...any) (Bound, error) {
		return b, &PlaceError{s.Where(at), fmt.Sprintf(format, of...)}
	}
	list, err := tokens(l, s, values.Given)
	if err != nil {
		return b, err
	}
	var to strings.Builder
	numbers, done := map[string]int{}, 0
	for i, t := range list {
		if t.kind != 'v' {
			continue
		}
		v, known := values.Given[t.text]
		if !known {
			names := slices.Sorted(maps.Keys(values.Given))
			switch like := values.Near(t.text, names); {
			case like != "":
				return wrong(t.at, "no value has the name %s; did you mean {{%s}}?", t.text, like)
			case len(names) > 0:
				return wrong(t.at, "no value has the name %s; there are %s", t.text, strings.Join(names, ", "))
			}
			return wrong(t.at, "no value has the name %s: give one with --let %s=VALUE, or, where the braces "+
				"are a text of yours, put it into quotes",
				t.text, t.text)
		}
		values.Used[t.text] = true
		if l.Objects == nil && len(l.Values) == 0 {
			return wrong(t.at, "statements of this kind of server take no values beside them yet: write the "+
				"value into the statement")
		}
		if word := l.First(s.Text); l.Objects == nil && !slices.Contains(l.Values, word) {
			return wrong(t.at, "a statement that begins with %s takes no values; those that do begin with %s",
				word, strings.Join(l.Values, ", "))
		}
		if say := misplaced(l, list, i); say != "" {
			return wrong(t.at, "%s", say)
		}
		place := l.Place(len(b.Values) + 1)
		switch n := numbers[t.text]; {
		case l.Numbered && n > 0:
			place = l.Place(n)
		default:
			b.Values = append(b.Values, v)
			numbers[t.text] = len(b.Values)
		}
		to.WriteString(s.Text[done:t.at])
		to.WriteString(place)
		done = t.end
		b.moves = append(b.moves, move{to.Len(), done - to.Len()})
	}
	to.WriteString(s.Text[done:])
	b.To = to.String()
	return b, object(l, b)
}

const wanted = `a statement for this kind of server is one object of JSON, such as {"ping": 1}`

// object checks a statement that is to be an object, before anything is sent.
func object(l engine.Language, b Bound) error {
	if l.Objects == nil {
		return nil
	}
	say, at := "", len(b.To)
	var syntax *json.SyntaxError
	var whole map[string]json.RawMessage
	switch err := json.Unmarshal([]byte(b.To), &whole); {
	case !strings.HasPrefix(b.To, "{"):
		say, at = wanted, 0
	case errors.As(err, &syntax) && syntax.Offset >= int64(len(b.To)):
		say = "the object ends too early: a bracket or a quote is not closed"
	case errors.As(err, &syntax):
		say, at = "it is no JSON (RFC 8259) here: names and texts stand in double quotes, with a colon between "+
			"a name and its value and commas between the pairs",
			int(syntax.Offset)-1
	case err != nil, whole == nil:
		say, at = wanted, 0
	case l.First(b.To) == "":
		say, at = "the object is empty: its first name is the command, such as {\"ping\": 1}", 0
	default:
		return nil
	}
	return &PlaceError{b.Where(b.From(max(0, at))), say}
}

// tokens takes a statement apart. A known name in a quote is an error: a value would be a part of
// the text there.
func tokens(l engine.Language, s Statement, values map[string]engine.Value) ([]token, error) {
	var list []token
	depth := 0
	for i := 0; i < len(s.Text); {
		rest := s.Text[i:]
		n, kind := engine.Token(l.Lexical, rest, true)
		switch kind {
		case engine.Comment, engine.Space:
			i += n
			continue
		case engine.Quoted:
			for _, name := range slices.Sorted(maps.Keys(values)) {
				if at := strings.Index(rest[:n], "{{"+name+"}}"); at >= 0 {
					return nil, &PlaceError{s.Where(i + at),
						fmt.Sprintf("{{%s}} is in quotes, where it is a text like any other: write it without the quotes",
							name)}
				}
			}
			list = append(list, token{'q', rest[:n], i, i + n, depth})
			i += n
			continue
		}
		t := token{at: i, depth: depth}
		switch c := rest[0]; {
		case strings.HasPrefix(rest, "{{"):
			end := strings.Index(rest, "}}")
			if end < 0 || !isName(strings.TrimSpace(rest[2:max(2, end)])) {
				return nil, &PlaceError{s.Where(i),
					"{{ begins the place of a value: write {{name}}, with letters, digits and _ between the braces"}
			}
			t.kind, t.text, n = 'v', strings.TrimSpace(rest[2:end]), end+2
		case kind == engine.Word:
			t.kind, t.text = 'w', strings.ToLower(rest[:n])
		case c == '(':
			t.kind = '('
			depth++
		case c == ')':
			depth = max(0, depth-1)
			t.kind, t.depth = ')', depth
		default:
			t.kind = rune(c)
		}
		t.end = i + n
		list = append(list, t)
		i += n
	}
	return list, nil
}

// naming are words after which a name stands, and no value.
var naming = []string{"from", "join", "into", "update", "table", "as", "database", "schema", "column", "index",
	"view", "user", "role", "use", "collate", "call"}

// between are functions that have words of their own between their arguments.
var between = []string{"extract", "substring", "substr", "mid", "trim", "overlay", "position"}

// misplaced says why a value cannot be where it is, "" where it may be. What it does not know,
// the server decides, which sees a parameter there.
func misplaced(l engine.Language, list []token, i int) string {
	t := list[i]
	before, after := token{}, token{}
	if l.Objects != nil {
		if i == 0 || !strings.ContainsRune(":[,", list[i-1].kind) || i+1 < len(list) && list[i+1].kind == ':' {
			return fmt.Sprintf("{{%s}} stands where a name is wanted, and a value is no name: it goes behind a "+
				"colon, or into a list",
				t.text)
		}
		return ""
	}
	if i > 0 {
		before = list[i-1]
	}
	if i+1 < len(list) {
		after = list[i+1]
	}
	asName := fmt.Sprintf("{{%s}} is where a name is wanted, and a value is no name: write the name itself into "+
		"the statement",
		t.text)
	switch {
	case before.kind == 'w' && before.end == t.at,
		after.at == t.end && (after.kind == 'w' || after.kind >= '0' && after.kind <= '9'):
		return fmt.Sprintf("{{%s}} is a part of a word: a value stands alone", t.text)
	case before.kind == 'w' && slices.Contains(l.Types, before.text) && !(i > 1 && list[i-2].kind == '.'):
		return fmt.Sprintf("after the word %s only a text in quotes can stand: write cast({{%s}} as %s)",
			before.text, t.text, before.text)
	case before.kind == '.', after.kind == '.', before.kind == '@', after.kind == '(' && after.at == t.end,
		before.kind == ':' && i > 1 && list[i-2].kind == ':':
		return asName
	case before.kind == 'w' && slices.Contains(naming, before.text) && !(before.text == "from" && fromInside(list, i)):
		return asName
	case columnList(list, i):
		return asName
	case before.kind == 'w' && before.text == "set" && after.kind == '=':
		return asName
	}
	if words := sorts(list, i); words != "" {
		return fmt.Sprintf("{{%s}} alone after %s sorts and groups nothing, since a value is the same in every "+
			"row: write the column's name itself, or choose between columns with case",
			t.text, words)
	}
	return ""
}

// fromInside reports whether the word before a token is a from inside of a function, or of "is
// distinct from".
func fromInside(list []token, i int) bool {
	if i > 1 && list[i-2].text == "distinct" {
		return true
	}
	for j := i - 1; j > 0; j-- {
		if list[j].kind == '(' && list[j].depth == list[i].depth-1 {
			return list[j-1].kind == 'w' && slices.Contains(between, list[j-1].text)
		}
	}
	return false
}

// columnList reports whether a token is in the list of an insert's columns.
func columnList(list []token, i int) bool {
	for j := i - 1; j > 1; j-- {
		if list[j].kind != '(' || list[j].depth != list[i].depth-1 {
			continue
		}
		if first := list[j+1]; first.kind == '(' ||
			slices.Contains([]string{"select", "with", "values", "table"}, first.text) {
			return false
		}
		k := j - 1 // the name, with its schema
		for k > 1 && list[k-1].kind == '.' {
			k -= 2
		}
		return k > 0 && (list[k].kind == 'w' || list[k].kind == 'q') && list[k-1].text == "into"
	}
	return false
}

// ends are words that end a list of what is sorted or grouped by.
var ends = []string{"having", "limit", "offset", "fetch", "for", "window", "order", "rows", "range", "groups",
	"union", "except", "intersect", "into", "with", "returning", "procedure"}

// sorts gives the words after which a value is an item of its own in a list of what is sorted or
// grouped by, "" where it is none.
func sorts(list []token, i int) string {
	// Brackets around the value alone do not count.
	from, to := i, i
	for from > 0 && to+1 < len(list) && list[from-1].kind == '(' && list[to+1].kind == ')' &&
		!(from > 1 && list[from-2].kind == 'w' && list[from-2].text != "by") {
		from, to = from-1, to+1
	}
	depth := list[from].depth
	for to+1 < len(list) && slices.Contains([]string{"asc", "desc", "nulls", "first", "last"}, list[to+1].text) {
		to++
	}
	if to+1 < len(list) && list[to+1].kind != ',' && list[to+1].kind != ')' && list[to+1].kind != ';' &&
		!slices.Contains(ends, list[to+1].text) {
		return ""
	}
	if from > 0 && list[from-1].kind != ',' && list[from-1].text != "by" {
		return ""
	}
	for j := from - 1; j > 0; j-- {
		switch t := list[j]; {
		case t.depth > depth:
		case t.depth < depth, t.kind == 'w' && slices.Contains(ends, t.text) && t.text != "order":
			return ""
		case t.kind == 'w' && t.text == "by":
			if by := list[j-1].text; by == "order" || by == "group" || by == "partition" {
				return by + " by"
			}
			return ""
		}
	}
	return ""
}
