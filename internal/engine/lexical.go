package engine

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"gentle-harbor/internal/finding"
)

// Language is what the statements of an engine are written in, and how they are read.
type Language struct {
	Name string // such as SQL; "" for an engine that takes no statements
	Lexical
	// Values lists the first words of the statements that take values, and Numbered says that the
	// places of values have numbers.
	Values   []string
	Numbered bool
	// Types are words after which a text in quotes may stand and a value may not.
	Types []string
	// Committing are the beginnings of statements that end a transaction, may end one, or cannot
	// be in one, and NotCommitting those that begin so and can. CommittingBy has, by first words,
	// a word anywhere that makes such a statement of others.
	Committing, NotCommitting []string
	CommittingBy              map[string]string
	// Executable are the beginnings of comments that the engine runs.
	Executable []string
	// Compound says that bodies of routines are blocks of statements without quotes around them;
	// else only begin atomic begins such a one.
	Compound bool
	// Whole are the first words of statements that have semicolons inside, and go on to the end
	// of the text; Single says that one statement is run at a time.
	Whole  []string
	Single bool
	// Begins lists the words that begin a statement.
	Begins []string
	// Local has the words before the name of a file of this machine, in a statement that begins
	// with the first of them; between them others may be.
	Local []string
	// Reading says how statements that read are told from others.
	Reading Reading
	// Follow gives how texts are written after a statement that may change it; nil where none does.
	Follow func(l Lexical, statement string) Lexical
	// Staying are the beginnings of statements that change their session beyond the transaction,
	// and Passing those that begin so and do not.
	Staying, Passing []string
	// Copying is the first word of a statement that may read data from its client: it says "from
	// stdin" then.
	Copying string
	// Objects says what a statement does, where each is one object of JSON (RFC 8259) and no
	// words; nil where it is words.
	Objects func(statement string) Sorted
}

// First gives the first word of a statement, see [Lexical.First]; the first name in it, as it is,
// where it is an object.
func (l Language) First(statement string) string {
	if l.Objects == nil {
		return l.Lexical.First(statement)
	}
	inner, is := strings.CutPrefix(l.Begin(statement), "{")
	if inner = l.Begin(inner); !is || !strings.HasPrefix(inner, `"`) {
		return ""
	}
	n, _ := Token(l.Lexical, inner, true)
	name := ""
	_ = json.Unmarshal([]byte(inner[:n]), &name)
	return name
}

// ReadsInput reports whether a statement says that it reads data from its client.
func (l Language) ReadsInput(statement string) bool {
	if l.Copying == "" || l.First(statement) != l.Copying {
		return false
	}
	fields := strings.Fields(strings.ToLower(strings.NewReplacer("(", " ", ")", " ", ";", " ").Replace(l.Bare(statement))))
	for i := range len(fields) - 1 {
		if fields[i] == "from" && (fields[i+1] == "stdin" || fields[i+1] == "stdout") {
			return true
		}
	}
	return false
}

// LocalFile gives the name of the file of this machine that a statement reads, and whether it
// names one.
func (l Language) LocalFile(statement string) (name string, is bool) {
	if len(l.Local) == 0 || l.First(statement) != l.Local[0] {
		return "", false
	}
	met := 0
	for text := statement; len(text) > 0; {
		n, kind := Token(l.Lexical, text, true)
		part := text[:n]
		text = text[n:]
		switch {
		case kind == Word && met < len(l.Local) && strings.EqualFold(part, l.Local[met]):
			met++
		case kind == Quoted && met == len(l.Local):
			return unquoted(part, l.Backslash), true
		case kind != Space && kind != Comment && (met == len(l.Local) || met > 0 && kind != Word):
			return "", false
		}
	}
	return "", false
}

// unquoted gives a text in quotes without them.
func unquoted(text string, backslash bool) string {
	quote := text[:1]
	body := strings.TrimSuffix(text[1:], quote)
	var b strings.Builder
	for i := 0; i < len(body); i++ {
		if backslash && body[i] == '\\' && i+1 < len(body) || strings.HasPrefix(body[i:], quote+quote) {
			i++
		}
		b.WriteByte(body[i])
	}
	return b.String()
}

// Several reports whether a text has something after the semicolon that ends its first statement,
// beside space and comments. A body of a routine may have semicolons too: the answer only
// explains a statement that a server has refused.
func (l Lexical) Several(text string) bool {
	ended := false
	for len(text) > 0 {
		n, kind := Token(l, text, true)
		switch {
		case kind == Comment || kind == Space:
		case ended && text[0] != ';':
			return true
		case kind == Mark && text[0] == ';':
			ended = true
		}
		text = text[n:]
	}
	return false
}

// Begin gives a text from its first word on, without the space and the comments before it.
func (l Lexical) Begin(text string) string {
	for len(text) > 0 {
		n, kind := Token(l, text, true)
		if kind != Comment && kind != Space {
			break
		}
		text = text[n:]
	}
	return text
}

// First gives the first word of a statement in small letters, behind any comments and brackets.
func (l Lexical) First(statement string) string {
	text := l.Begin(statement)
	for strings.HasPrefix(text, "(") {
		text = l.Begin(text[1:])
	}
	end := strings.IndexFunc(text, func(r rune) bool { return (r|0x20 < 'a' || r|0x20 > 'z') && r != '_' })
	if end < 0 {
		end = len(text)
	}
	return strings.ToLower(text[:end])
}

// Bare gives a text without its quotes and comments, each of which becomes a space.
func (l Lexical) Bare(text string) string {
	var b strings.Builder
	for len(text) > 0 {
		n, kind := Token(l, text, true)
		if kind == Quoted || kind == Comment {
			b.WriteByte(' ')
		} else {
			b.WriteString(text[:n])
		}
		text = text[n:]
	}
	return b.String()
}

// Lasting gives the first words of a statement that changes its session beyond the transaction,
// "" for any other.
func (l Language) Lasting(statement string) string {
	return l.begins(statement, l.Staying, l.Passing)
}

// mostHead is how much of a statement is looked at for its first words.
const mostHead = 4 << 10

// begins gives the words that a statement begins with, "" for none of them. Words are in small
// letters, and except are longer ones that do not count.
func (l Lexical) begins(statement string, words, except []string) string {
	head := l.Begin(statement)
	fields := strings.Fields(strings.ToLower(l.Bare(head[:min(len(head), mostHead)]))) // a comment parts words, too
	text := strings.Join(fields[:min(len(fields), 4)], " ") + " "
	begins := func(word string) bool { return strings.HasPrefix(text, word+" ") }
	if slices.ContainsFunc(except, begins) {
		return ""
	}
	i := slices.IndexFunc(words, begins)
	if i < 0 {
		return ""
	}
	return words[i]
}

// Explained names the refusal of several statements as that, and says which right a statement
// needs by its first word. Any other error is given as it is.
func (l Language) Explained(err error, text string) error {
	var p *finding.Problem
	if errors.As(err, &p) && p.Code == finding.QueryNoRight {
		p.Set(finding.FactRight, l.First(text))
	}
	if p == nil || p.Code != finding.QuerySyntax || !l.Several(text) {
		return err
	}
	several := *p
	several.Code = finding.QuerySeveral
	return &several
}
