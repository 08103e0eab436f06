package script

import (
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
)

// bodies follows the words of one statement, to know which semicolons are inside of it: those of a routine's body, which needs no word that ends it
// ("CREATE PROCEDURE", "BEGIN … END", "Compound Statements", the manuals of the MySQL kin; "CREATE FUNCTION", "CREATE RULE", PostgreSQL's).
type bodies struct {
	l engine.Language

	words  int
	first  string   // the first word
	kind   string   // of what is made: procedure, table, …
	body   bool     // it may have a body
	open   []string // what was begun and not ended: begin, case, value (a case that is an expression), if, loop, while, repeat, for, package
	before string   // the token before, in small letters
	ended  bool     // the token before was end
	single bool     // the body is one statement, without a block
	depth  int      // of brackets
}

// made are the kinds of what a statement can make; those with a body are true.
var made = map[string]bool{
	"procedure": true, "function": true, "trigger": true, "event": true, "package": true, "rule": true,
	"table": false, "view": false, "index": false, "database": false, "schema": false, "user": false, "role": false, "sequence": false, "server": false, "type": false, "domain": false, "extension": false, "materialized": false,
	"tablespace": false, "aggregate": false, "operator": false, "policy": false, "publication": false, "subscription": false, "cast": false, "collation": false, "statistics": false, "language": false,
}

// inside reports whether a semicolon is inside of the statement.
func (b *bodies) inside() bool {
	return len(b.open) > 0 || b.body && b.kind == "rule" && b.depth > 0
}

// settled reports whether no word that follows can change that no semicolon is inside of the statement.
func (b *bodies) settled() bool {
	return b.words > 0 && !b.body && b.first != "create" && b.first != "alter" && (b.first != "begin" || b.words > 1)
}

// see follows a token, which is neither space nor a comment.
func (b *bodies) see(kind engine.TokenKind, text string) {
	if kind == engine.Word {
		text = strings.ToLower(text)
		b.word(text)
		b.words++
	} else {
		switch {
		case text == "(":
			b.depth++
		case text == ")":
			b.depth = max(0, b.depth-1)
		case kind == engine.Quoted:
			text = "'"
		}
		b.ended = false
	}
	b.before = text
}

func (b *bodies) top() string {
	if len(b.open) == 0 {
		return ""
	}
	return b.open[len(b.open)-1]
}

func (b *bodies) push(what string) { b.open = append(b.open, what) }

func (b *bodies) pop() {
	if len(b.open) > 0 {
		b.open = b.open[:len(b.open)-1]
	}
}

func (b *bodies) word(word string) {
	ended := b.ended
	b.ended = false
	switch {
	case b.words == 0:
		b.first = word
		if b.l.Compound && slices.Contains([]string{"if", "case", "loop", "while", "repeat", "for"}, word) {
			b.body = true
			b.push(word)
			return
		}
	case b.kind == "" && (b.first == "create" || b.first == "alter"):
		if has, is := made[word]; is {
			b.kind, b.body = word, has && (b.first == "create" || word == "event" && b.l.Compound)
			return
		}
	}
	if b.l.Compound && b.words == 1 && b.first == "begin" && word == "not" { // begin not atomic
		b.body = true
		b.push("begin")
		return
	}
	if !b.body {
		return
	}
	if b.l.Compound {
		b.compound(word, ended)
	} else {
		b.atomic(word)
	}
}

// atomic follows a body of the standard's own form: begin atomic … end.
func (b *bodies) atomic(word string) {
	switch {
	case word == "atomic" && b.before == "begin":
		b.push("begin")
	case word == "case" && len(b.open) > 0:
		b.push("value")
	case word == "end":
		b.pop()
	}
}

// compound follows a body of the MySQL kin.
func (b *bodies) compound(word string, ended bool) {
	switch word {
	case "select", "insert", "update", "delete", "replace", "set", "drop", "alter", "create", "call", "return", "with", "truncate", "load", "lock", "grant", "revoke", "execute", "prepare", "show", "kill", "signal":
		if len(b.open) == 0 && b.before != "before" && b.before != "after" && b.before != "or" { // not what a trigger is for
			b.single = true
		}
	case "end":
		b.pop()
		b.ended = true
	case "begin":
		if b.before != "." && b.before != "xa" {
			b.push("begin")
		}
	case "as", "is": // the list of what a package has
		if b.kind == "package" && len(b.open) == 0 {
			b.push("package")
		}
	case "case":
		switch {
		case ended:
		case b.starts():
			b.push("case")
		default:
			b.push("value")
		}
	case "if", "loop", "while", "repeat", "for":
		if !ended && b.starts() {
			b.push(word)
		}
	case "each", "exists": // for each row; create … if not exists
		if len(b.open) == 1 && (b.top() == "for" && b.before == "for") {
			b.pop()
		}
	}
}

// starts reports whether a statement of a body begins at the word that comes.
func (b *bodies) starts() bool {
	switch b.before {
	case ";", "begin", "atomic", "do", "loop", "repeat", ":":
		return true
	case "then", "else":
		return b.top() != "value"
	case "row", "procedure", "function", "trigger", "event", "body", "package":
		return b.before == "row"
	}
	if len(b.open) > 0 || b.single {
		return false
	}
	// Before the body there is only its head: a name, arguments, what the routine is. A body of one statement begins with another word.
	return !slices.Contains([]string{"return", "select", "set", "when", "and", "or", "not", "where", "values", "in", "like", "between", "by", "on", "=", ",", "(", "+", "-", "*", "/", "<", ">", "|", "&", "!", "%", "^", "~", "."}, b.before)
}
