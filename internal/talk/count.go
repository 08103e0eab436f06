package talk

import (
	"strings"

	"gentle-harbor/internal/engine"
)

// Counting gives the statement that counts the rows which an update or a delete would change: one
// of a single table, with a where and nothing else that says which rows. Ok is false for any
// other.
func Counting(l engine.Language, text string) (statement string, ok bool) {
	type token struct {
		text  string // in lower case for a word
		kind  engine.TokenKind
		at    int // where it begins, and where it ends
		end   int
		depth int
	}
	var tokens []token
	depth := 0
	for at := 0; at < len(text); {
		n, kind := engine.Token(l.Lexical, text[at:], true)
		if n == 0 {
			break
		}
		part := text[at : at+n]
		switch {
		case kind == engine.Space || kind == engine.Comment:
			if strings.HasPrefix(part, "/*!") || strings.HasPrefix(part, "/*M!") { // it runs
				return "", false
			}
			at += n
			continue
		case kind == engine.Mark && part == ")":
			depth--
		}
		if kind == engine.Word {
			part = strings.ToLower(part)
		}
		tokens = append(tokens, token{part, kind, at, at + n, depth})
		if kind == engine.Mark && part == "(" {
			depth++
		}
		at += n
	}
	word := func(i int, is string) bool {
		return i < len(tokens) && tokens[i].kind == engine.Word && tokens[i].text == is
	}
	i, verb := 0, ""
	switch {
	case word(0, "update"):
		i, verb = 1, "update"
	case word(0, "delete") && word(1, "from"):
		i, verb = 2, "delete"
	default:
		return "", false
	}
	// The table, and another name for it.
	from := i
	named := func(i int) bool {
		if i >= len(tokens) {
			return false
		}
		t := tokens[i]
		return t.kind == engine.Word && !reserved[t.text] ||
			t.kind == engine.Quoted && strings.ContainsAny(t.text[:1], l.Names)
	}
	if !named(i) {
		return "", false
	}
	for i++; i+1 < len(tokens) && tokens[i].text == "." && named(i+1); i += 2 {
	}
	if word(i, "as") {
		i++
		if !named(i) {
			return "", false
		}
		i++
	} else if named(i) {
		i++
	}
	table := text[tokens[from].at:tokens[i-1].end]
	if verb == "update" {
		if !word(i, "set") {
			return "", false
		}
		for i++; i < len(tokens) && !(tokens[i].depth == 0 && word(i, "where")); i++ {
			if tokens[i].depth == 0 && tokens[i].kind == engine.Word && more[tokens[i].text] {
				return "", false
			}
		}
	}
	if !word(i, "where") || i+1 >= len(tokens) || word(i+1, "current") {
		return "", false
	}
	for rest := i + 1; rest < len(tokens); rest++ {
		if t := tokens[rest]; t.depth == 0 && (t.kind == engine.Word && more[t.text] || t.text == ";") {
			return "", false
		}
	}
	return "select count(*) from " + table + " " + text[tokens[i].at:], true
}

// reserved are words that are no name of a table there, and more are words by which other rows
// than those of the where are changed, or fewer.
var (
	reserved = words("set where as from using join only low_priority quick ignore partition lateral")
	more     = words("from join using limit returning with order inner left right cross natural")
)

func words(text string) map[string]bool {
	set := map[string]bool{}
	for word := range strings.FieldsSeq(text) {
		set[word] = true
	}
	return set
}
