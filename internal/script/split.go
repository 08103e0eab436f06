// Package script takes a text of statements apart, where the engine would, and puts the places of values into them. It knows nothing of commands or of
// printing.
package script

import (
	"regexp"
	"strings"
	"sync"
	"unicode/utf8"

	"gentle-harbor/internal/engine"
)

// Statement is one statement of a text.
type Statement struct {
	// Text has no semicolon at its end. Comments before and in it stay.
	Text string
	// Line and Column are where its first word is, from 1. A column is a character.
	Line, Column int
	// line and column are where Text begins.
	line, column int
}

// Spot is a place in a text: its line and its column, from 1, the line as far as it belongs to one statement, and the character of it that is marked,
// from 1.
type Spot struct {
	Line, Column int
	Text         string
	Mark         int
}

// Where gives the place of a byte of the statement's text in the text that it comes from.
func (s Statement) Where(at int) Spot {
	at = max(0, min(at, len(s.Text)))
	before := s.Text[:at]
	begin := strings.LastIndexByte(before, '\n') + 1
	spot := Spot{Line: s.line + strings.Count(before, "\n"), Mark: utf8.RuneCountInString(before[begin:]) + 1}
	if spot.Column = spot.Mark; begin == 0 {
		spot.Column += s.column - 1
	}
	text, _, _ := strings.Cut(s.Text[begin:], "\n")
	spot.Text = strings.TrimSuffix(text, "\r")
	return spot
}

// routine begins a statement whose body has semicolons of its own.
var routine = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)^create\s+(or\s+replace\s+)?(definer\s*=\s*\S+\s+)?(aggregate\s+)?(procedure|function|trigger|event|package)\b`)
})

// Split gives the statements of a text, in order: what is between semicolons that are outside of quotes and comments, as the language has them.
// Space and comments alone are no statement; executable comments of the MySQL kin are. A statement that makes a routine goes to the end of the
// text, for its body has semicolons too. A quote that is not closed goes to the end of the text: the server says so. A byte-order mark is dropped.
func Split(l engine.Lexical, text string) []Statement {
	text = strings.TrimPrefix(text, "\ufeff")
	var list []Statement
	from := 0
	add := func(to int) {
		if s, is := statement(l, text, from, to); is {
			list = append(list, s)
		}
	}
	for i := 0; i < len(text); {
		if n := l.Skip(text[i:]); n > 0 {
			i += n
			continue
		}
		if text[i] == ';' && !routine().MatchString(l.Begin(text[from:i])) {
			add(i)
			from = i + 1
		}
		i++
	}
	add(len(text))
	return list
}

// statement gives what a text has between two places, false where that is space and comments alone.
func statement(l engine.Lexical, text string, from, to int) (Statement, bool) {
	part := text[from:to]
	begin := from + len(part) - len(strings.TrimLeft(part, " \t\r\n\f\v"))
	first := l.Begin(part)
	if first == "" && !strings.Contains(part, "/*!") && !strings.Contains(part, "/*M!") {
		return Statement{}, false
	}
	at := from + len(part) - len(first)
	if first == "" {
		at = begin
	}
	s := Statement{Text: strings.TrimSpace(part)}
	s.Line, s.Column = lineAndColumn(text, at)
	s.line, s.column = lineAndColumn(text, begin)
	return s, true
}

// lineAndColumn gives the line and the column of a byte, from 1.
func lineAndColumn(text string, at int) (line, column int) {
	before := text[:at]
	return strings.Count(before, "\n") + 1, utf8.RuneCountInString(before[strings.LastIndexByte(before, '\n')+1:]) + 1
}
