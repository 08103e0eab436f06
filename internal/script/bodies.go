package script

import (
	"strings"

	"gentle-harbor/internal/engine"
)

// bodies follows the words of one statement, to know which semicolons are inside of it: those of
// a routine's body, which needs no word that ends it ("CREATE PROCEDURE", "BEGIN … END",
// "Compound Statements", "CREATE PACKAGE BODY", the manuals of the MySQL kin; "CREATE FUNCTION",
// "CREATE RULE", PostgreSQL's).
type bodies struct {
	l     engine.Language
	rules *rules

	words int
	first string // the first word
	kind  string // of what is made: procedure, function, …
	body  bool   // it may have a body
	ready bool   // the head has come so far that the body may begin
	// what was begun and not ended: begin, case, value (a case that is an expression), if, …, as
	// (what is declared before a begin)
	open      []string
	statement string // the first word of the statement of a body that is read
	handler   bool   // it declares what is done on a condition, and that has not begun yet
	before    string // the token before, in small letters
	single    bool   // the body is one statement, without a block, or has ended
	typed     bool   // it is said what a function gives
	depth     int    // of brackets
}

// rules are the words by which bodies are followed.
type rules struct {
	// made are the kinds of what a statement can make: those with a body are true. The others are
	// here because a word of a body can be their name.
	made map[string]bool
	// ready has, for a kind, the word behind which its body may begin; the body of any other may
	// begin anywhere in its head.
	ready map[string]string
	// alone are the words that begin a body without anything that is made.
	alone map[string]bool
	// names are the tokens of a head behind which a name or a type comes, and no body.
	names map[string]bool
	// starters are the tokens behind which a statement of a block begins.
	starters map[string]bool
	// cases are the tokens behind which a case begins none.
	cases map[string]bool
	// compound and atomic say what a word does in a body of the MySQL kin, and in one of the
	// standard's own form: begin atomic … end. They give the word as it is remembered.
	compound, atomic map[string]func(b *bodies, word string) string
}

func set(words string) map[string]bool {
	all := map[string]bool{}
	for _, word := range strings.Fields(words) {
		all[word] = true
	}
	return all
}

func usualRules() *rules {
	r := &rules{
		made:     set("procedure function trigger event package rule"),
		ready:    map[string]string{"trigger": "row", "event": "do"},
		alone:    set("if case loop while repeat for"),
		names:    set(". procedure function body returns character"),
		starters: set("; begin atomic do loop repeat : then else"),
		cases:    set(". end"),
		compound: map[string]func(*bodies,
			string) string{"end": (*bodies).end, "begin": (*bodies).begin, "case": (*bodies).choice, "do": (*bodies).do, "as": (*bodies).as, "is": (*bodies).as, "handler": (*bodies).onCondition, "returns": (*bodies).gives, "return": (*bodies).gives},
		atomic: map[string]func(*bodies, string) string{"end": (*bodies).endAtomic, "atomic": (*bodies).beginAtomic},
	}
	for _, kind := range []string{"table", "view", "user"} {
		r.made[kind] = false
	}
	r.alone["begin not"] = true // begin not atomic
	for _, word := range []string{"if", "loop", "while", "repeat", "for"} {
		r.compound[word] = (*bodies).block
	}
	for _, word := range []string{"select", "insert", "delete", "replace", "set", "drop", "alter", "create",
		"execute", "prepare", "show", "kill", "rename", "revoke"} {
		r.compound[word] = (*bodies).one
	}
	return r
}

var usual = usualRules()

// inside reports whether a semicolon is inside of the statement.
func (b *bodies) inside() bool {
	return len(b.open) > 0 || b.body && b.kind == "rule" && b.depth > 0
}

// settled reports whether no word that follows can change that no semicolon is inside of the
// statement.
func (b *bodies) settled() bool {
	return b.words > 0 && !b.body && b.first != "create" && b.first != "alter" && (b.first != "begin" || b.words > 1)
}

// see follows a token, which is neither space nor a comment.
func (b *bodies) see(kind engine.TokenKind, text string) {
	switch {
	case kind == engine.Word:
		text = b.word(strings.ToLower(text))
		b.words++
	case kind == engine.Quoted:
		text = "'"
	case text == "(":
		b.depth++
	case text == ")":
		b.depth = max(0, b.depth-1)
	case text == ";":
		b.handler = false
	}
	b.before = text
}

func (b *bodies) top() string {
	if len(b.open) == 0 {
		return ""
	}
	return b.open[len(b.open)-1]
}

func (b *bodies) push(what string) { b.open, b.handler = append(b.open, what), false }

func (b *bodies) pop() {
	if len(b.open) > 0 {
		b.single = b.single || len(b.open) == 1 && b.top() != "value"
		b.open = b.open[:len(b.open)-1]
	}
}

// word follows a word, and gives it as it is remembered.
func (b *bodies) word(word string) string {
	making := b.first == "create" || b.first == "alter"
	switch {
	case b.words == 0:
		b.first = word
		if b.l.Compound && b.rules.alone[word] {
			b.body = true
			b.push(word)
			return word
		}
	case b.words == 1 && b.l.Compound && b.rules.alone[b.first+" "+word]:
		b.body = true
		b.push(b.first)
	case b.kind == "" && making:
		if has, is := b.rules.made[word]; is {
			b.kind, b.body = word, has && (b.first == "create" || word == "event" && b.l.Compound)
			b.ready = b.rules.ready[word] == ""
		}
		return word
	}
	switch {
	case !b.body:
		return word
	case !b.l.Compound:
		if does := b.rules.atomic[word]; does != nil {
			return does(b, word)
		}
		return word
	}
	if len(b.open) > 0 && !b.handler && b.starts() {
		b.statement = word
	}
	was := word
	if does := b.rules.compound[word]; does != nil {
		was = does(b, word)
	}
	b.ready = b.ready || b.depth == 0 && word == b.rules.ready[b.kind]
	return was
}

// starts reports whether a statement of a body may begin at the word that comes.
func (b *bodies) starts() bool {
	switch {
	case b.handler:
		return b.before != "handler"
	case len(b.open) > 0:
		return b.rules.starters[b.before] && b.top() != "value"
	}
	return b.ready && !b.single && b.depth == 0 && !b.rules.names[b.before]
}

func (b *bodies) block(word string) string {
	if b.starts() {
		b.push(word)
	}
	return word
}

func (b *bodies) begin(word string) string {
	if b.starts() {
		if b.top() == "as" || b.top() == "package" {
			b.pop()
		}
		b.push(word)
	}
	return word
}

func (b *bodies) end(word string) string {
	switch {
	case b.top() == "value":
		b.pop()
	case b.starts(), b.statement == "until":
		b.pop()
		b.statement = ""
	}
	return word
}

func (b *bodies) choice(word string) string {
	switch {
	case b.rules.cases[b.before]:
	case b.starts():
		b.push("case")
	default:
		b.push("value")
	}
	return word
}

// one follows the first word of a statement in which a word of a body is something else: if
// exists, if(…), for update.
func (b *bodies) one(word string) string {
	if b.starts() {
		b.single, b.handler = b.single || len(b.open) == 0, false
	}
	return word
}

// do follows the statement of that name, which is not the do of a loop.
func (b *bodies) do(word string) string {
	if b.starts() {
		b.one(word)
		return ""
	}
	return word
}

// gives follows what a function gives: a type, once, and then a value.
func (b *bodies) gives(word string) string {
	if len(b.open) > 0 || b.typed || b.kind != "function" {
		return b.one(word)
	}
	b.typed = true
	return "returns"
}

// as follows a routine of the other style, whose declarations come before its begin, and a
// package, which is a list of such ones.
func (b *bodies) as(word string) string {
	switch routine := b.statement == "procedure" || b.statement == "function"; {
	case b.depth > 0:
	case b.starts() && len(b.open) == 0 && b.kind == "package", b.top() == "package" && routine:
		b.statement = ""
		b.push(map[bool]string{true: "as", false: "package"}[routine])
		return ";"
	case b.starts() && len(b.open) == 0 && (b.kind == "procedure" || b.kind == "function"):
		b.push("as")
		return ";"
	}
	return word
}

func (b *bodies) onCondition(word string) string {
	b.handler = b.statement == "declare"
	return word
}

func (b *bodies) beginAtomic(word string) string {
	if b.before == "begin" {
		b.push("begin")
	}
	return word
}

func (b *bodies) endAtomic(word string) string {
	if b.rules.starters[b.before] { // else it is that of a case, which has no semicolon before it
		b.pop()
	}
	return word
}
