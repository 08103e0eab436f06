// Package script takes a text of statements apart, where the engine would, and puts the places of
// values into them. It knows nothing of commands or of printing.
package script

import (
	"strings"
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

// Spot is a place in a text: its line and its column, from 1, the line as far as it belongs to
// one statement, and the character of it that is marked, from 1. Text is empty where a password
// may be in the statement: what is shown of one comes from here.
type Spot struct {
	Line, Column int
	Text         string
	Mark         int
}

// Where gives the place of a byte of the statement's text in the text that it comes from.
func (s Statement) Where(at int) Spot {
	spot, begin := s.spot(at)
	if !Secretive(s.Text) {
		text, _, _ := strings.Cut(s.Text[begin:], "\n")
		spot.Text = strings.TrimSuffix(text, "\r")
	}
	return spot
}

// spot gives a place without its text, and the byte of the statement at which its line begins.
func (s Statement) spot(at int) (Spot, int) {
	at = max(0, min(at, len(s.Text)))
	before := s.Text[:at]
	begin := strings.LastIndexByte(before, '\n') + 1
	spot := Spot{Line: s.line + strings.Count(before, "\n"), Mark: utf8.RuneCountInString(before[begin:]) + 1}
	if spot.Column = spot.Mark; begin == 0 {
		spot.Column += s.column - 1
	}
	return spot, begin
}

// Shown gives the statement as it can be shown: its first word alone where a password may be in it.
func (s Statement) Shown(l engine.Language) string {
	if Secretive(s.Text) {
		return l.First(s.Text) + " … (not shown, since a password may be in it)"
	}
	return s.Text
}

// passwords are parts of words that stand before a password.
var passwords = []string{"password", "pwd", "identified", "secret", "encrypt", "sasl"}

// Secretive reports whether a password may be in a text.
func Secretive(text string) bool {
	for i := range len(text) {
		switch text[i] | 0x20 {
		case 'p', 'i', 's', 'e':
			for _, word := range passwords {
				if len(text)-i >= len(word) && strings.EqualFold(text[i:i+len(word)], word) {
					return true
				}
			}
		}
	}
	return false
}

// Split gives the statements of a text, in order: what is between semicolons that are outside of
// quotes, comments and bodies of routines, as the language has them. Space and comments alone are
// no statement; executable comments of the MySQL kin are. A quote that is not closed goes to the
// end of the text: the server says so. A byte-order mark is dropped.
func Split(l engine.Language, text string) []Statement { return split(l, usual, text) }

func split(l engine.Language, with *rules, text string) []Statement {
	r := NewReader(l, strings.NewReader(text))
	r.rules = with
	var list []Statement
	for {
		piece, err := r.Next()
		if err != nil {
			return list
		}
		if piece.Include == "" {
			list = append(list, piece.Statement)
		}
	}
}
