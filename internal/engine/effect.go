package engine

import (
	"slices"
	"strings"
)

// mostCalls is how many names of one statement are looked up.
const mostCalls = 2000

// Sort says what a statement does. What it does not know is a change.
func (l Language) Sort(statement string) Sorted {
	if l.Objects != nil {
		return l.Objects(statement)
	}
	for _, mark := range l.Executable {
		if strings.Contains(statement, mark) {
			return Sorted{Why: "a comment that the server runs", Destroys: l.destroys(statement)}
		}
	}
	first := l.First(statement)
	switch {
	case first == l.Copying && first != "" && !l.copiesOut(statement):
	case slices.Contains(l.Reading.Reads, first):
		return l.reading(first, statement)
	case slices.Contains(l.Reading.Transaction, first), first == "set", first == "reset", first == "use":
		return l.session(first, statement)
	}
	return Sorted{Why: first, Destroys: l.destroys(statement)}
}

// BeginsRead reports whether a statement begins as one that reads.
func (l Language) BeginsRead(statement string) bool {
	return slices.Contains(l.Reading.Reads, l.First(statement))
}

// copiesOut reports whether a statement that copies gives what it reads to its client, and to
// nobody else.
func (l Language) copiesOut(statement string) bool {
	to := false
	for r := (&reader{l: l, rest: statement}); r.next(); {
		switch {
		case to:
			return r.text == "stdout" && r.kind == Word && !r.quoted
		case r.depth > 0 || r.kind != Word || r.quoted:
		case r.text == "from":
			return false
		}
		to = r.depth == 0 && r.kind == Word && !r.quoted && r.text == "to"
	}
	return false
}

// destroys says in which way a statement can remove a lot.
func (l Language) destroys(statement string) string {
	if word := l.begins(statement, l.Reading.Destroys, nil); word != "" {
		return word
	}
	first := l.First(statement)
	if !slices.Contains(l.Reading.Wherever, first) {
		return ""
	}
	r := &reader{l: l, rest: statement}
	for r.next() {
		if r.kind == Word && r.depth == 0 && r.text == "where" {
			return ""
		}
	}
	return first + " without where"
}

// reader goes through a statement, a token at a time, without space and comments. A name in
// quotes is a word without them.
type reader struct {
	l      Language
	rest   string
	kind   TokenKind
	text   string // a word in small letters, a name as it is
	quoted bool   // it is a name in quotes
	depth  int    // of brackets
}

func (r *reader) next() bool {
	for len(r.rest) > 0 {
		n, kind := Token(r.l.Lexical, r.rest, true)
		part := r.rest[:n]
		r.rest = r.rest[n:]
		switch {
		case kind == Space, kind == Comment:
			continue
		case kind == Quoted && r.l.names(part[0]):
			r.kind, r.text, r.quoted = Word, unquoted(part, false), true
			return true
		case kind == Word:
			part = lower(part)
		case part == "(":
			r.depth++
		case part == ")":
			r.depth--
		}
		r.kind, r.text, r.quoted = kind, part, false
		return true
	}
	return false
}

// reading looks for what makes a change of a statement that begins as one that reads.
func (l Language) reading(first, statement string) Sorted {
	r := &reader{l: l, rest: statement}
	s := Sorted{Effect: Reads}
	calls := map[string]bool{}
	explains := slices.Contains(l.Reading.Explains, first)
	var words []string // the last ones
	before, beforeThat := "", ""
	listed := first != "with" // the names of a with are past
	for r.next() {
		called := strings.HasPrefix(l.Begin(r.rest), "(")
		switch {
		case r.kind == Mark:
			words = words[:0]
		case l.Escapes && before == "&" && beforeThat == "u" && (r.kind == Quoted || r.quoted): // a name in quotes whose signs are numbers
			return Sorted{Why: "u&"}
		case r.kind == Word:
			if !r.quoted && before != "." {
				words = append(words, r.text)
				words = words[max(0, len(words)-5):]
				if why := l.unless(words); why != "" &&
					(!explains || !l.Reading.ExplainsChanges || strings.HasPrefix(why, "analy")) {
					return Sorted{Why: why}
				}
				inner := before == "(" || before == ")" || explains && !l.Reading.ExplainsChanges
				if inner && !called && !(explains && l.Reading.ExplainsChanges) && slices.Contains(l.Reading.Inner, r.text) {
					return Sorted{Why: r.text}
				}
				if r.depth == 0 && r.text == "select" {
					listed = true
				}
			}
			listing := !listed && r.depth == 0 && (before == "with" || before == "recursive" || before == "," || before == "as")
			if called && l.Reading.outside(r.text) {
				return Sorted{Why: r.text}
			}
			switch {
			case listing, before == "as" && l.Reading.Native != nil:
			case l.Reading.Native == nil: // a function of one row can be written like a column
				calls[r.text] = true
			case called && (r.quoted || before == "." || !l.Reading.Native[lower(r.text)]):
				return Sorted{Why: r.text}
			case called: // people's function can have that name, too, and be called where a space is before the bracket
				calls[lower(r.text)] = true
			}
			if len(calls) > mostCalls {
				return Sorted{Why: "too many names to look up"}
			}
		}
		beforeThat, before = before, r.text
		if r.kind == Quoted {
			before = "'"
		}
	}
	for name := range calls {
		s.Calls = append(s.Calls, name)
	}
	slices.Sort(s.Calls)
	return s
}

// unless gives the words by which what was read so far is more than a reading, "" for none.
func (l Language) unless(words []string) string {
	text := " " + strings.Join(words, " ")
	for _, each := range l.Reading.Unless {
		if strings.HasSuffix(text, " "+each) {
			return each
		}
	}
	return ""
}

// session sorts statements about the session and its transactions.
func (l Language) session(first, statement string) Sorted {
	var words []string
	r := &reader{l: l, rest: statement}
	calls := false
	for r.next() && len(words) < 400 {
		switch {
		case r.kind == Word && !r.quoted, r.kind == Mark:
			words = append(words, r.text)
		default:
			words = append(words, "'"+r.text)
		}
		calls = calls || r.text == "("
	}
	text := " " + strings.Join(words, " ") + " "
	mode := strings.Contains(text, " read write ")
	for _, name := range l.Reading.Modes {
		mode = mode || strings.Contains(text, " "+name+" ") || strings.Contains(text, " '"+name+" ")
	}
	switch {
	case strings.HasPrefix(text, " begin not "): // begin not atomic: a block of statements
		return Sorted{Why: "begin not atomic"}
	case mode:
		return Sorted{Effect: Unguarded, Why: strings.Join(words[:min(len(words), 3)], " ")}
	case slices.ContainsFunc(l.Reading.Beginning, func(begin string) bool {
		return strings.HasPrefix(text, " "+begin+" ")
	}):
		return Sorted{Effect: Begins}
	case first == "use", slices.Contains(l.Reading.Transaction, first) && !strings.Contains(text, " prepared "):
		return Sorted{Effect: Passes}
	case len(words) < 400 && !calls && l.settings(words):
		return Sorted{Effect: Passes}
	}
	return Sorted{Why: strings.Join(words[:min(len(words), 2)], " ")}
}

// settings reports whether the words of a statement set nothing but settings of the session from
// the engine's list, or a person's own variables.
func (l Language) settings(words []string) bool {
	kind, words := words[0], words[1:]
	own := func(words []string) bool {
		if len(words) > 0 && slices.Contains([]string{"session", "local"}, words[0]) {
			words = words[1:]
		}
		if len(words) == 0 {
			return false
		}
		if kind == "set" && words[0] == "transaction" {
			return true // its mode was looked for
		}
		// @@session.name, @@name, @name.
		at := 0
		for at < len(words) && words[at] == "@" {
			at++
		}
		if at == 1 {
			return true
		}
		if at == 2 && len(words) > 4 && words[3] == "." && words[2] == "session" {
			at += 2
		}
		return at < len(words) && slices.ContainsFunc(l.Reading.Settings, func(name string) bool {
			return strings.EqualFold(name, words[at])
		})
	}
	if kind == "reset" {
		return len(words) == 1 && own(words)
	}
	for {
		next := slices.Index(words, ",")
		if l.Numbered { // a comma is in a list of values
			next = -1
		}
		one := words
		if next >= 0 {
			one, words = words[:next], words[next+1:]
		}
		if !own(one) {
			return false
		}
		if next < 0 {
			return true
		}
	}
}
