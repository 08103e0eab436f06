// Package talk is what a prompt goes by: what was typed, and whether it is whole; what the prompt
// says; which lines are remembered; and a person's settings. It knows nothing of terminals.
package talk

import (
	"fmt"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/script"
)

// Lead is the word before the session's own words, and before the outside commands.
const Lead = "gharbor"

// Input is what was typed up to Enter.
type Input struct {
	// Words are what comes after the lead word; nil for statements.
	Words []string
	// Statements are those that the text ends, in order. Each ends with a semicolon.
	Statements []script.Statement
	// Awaited says what is still to come, "" for nothing.
	Awaited string
}

// probe is a word that is a statement of its own behind a text which is whole.
const probe = "gharbor_end_of_text"

// Read takes a text apart, as the language of the session has it. Its error is about the words
// after the lead word.
func Read(l engine.Language, text string) (Input, error) {
	if rest, leads := lead(text); leads {
		words, err := Split(strings.TrimSuffix(rest, ";"))
		return Input{Words: words}, err
	}
	all := script.Split(l, text+"\n"+probe)
	if len(all) == 0 {
		return Input{Awaited: awaited(l, text)}, nil
	}
	last := all[len(all)-1]
	if strings.TrimSpace(last.Text) == probe || l.First(last.Text) == probe {
		return Input{Statements: all[:len(all)-1]}, nil
	}
	return Input{Awaited: awaited(l, text)}, nil
}

// lead reports whether a text begins with the lead word, and gives what comes after it.
func lead(text string) (rest string, leads bool) {
	after, is := strings.CutPrefix(strings.TrimSpace(text), Lead)
	if !is || after != "" && !strings.ContainsAny(after[:1], " \t\n;") {
		return "", false
	}
	return strings.TrimSpace(after), true
}

// awaited says what keeps a text from being whole.
func awaited(l engine.Language, text string) string {
	line, inside := 1, false
	for rest := text + "\n\n\n"; rest != ""; {
		n, kind := engine.Token(l.Lexical, rest, false)
		if n == 0 {
			switch kind {
			case engine.Quoted:
				return fmt.Sprintf("quote open since line %d", line)
			case engine.Comment:
				return fmt.Sprintf("comment open since line %d", line)
			}
			break
		}
		inside = inside || kind == engine.Mark && rest[:n] == ";"
		line += strings.Count(rest[:n], "\n")
		rest = rest[n:]
	}
	switch {
	case inside:
		return "the statement goes on; its end and ; are to come"
	case strings.TrimSpace(text) == "":
		return ""
	}
	return "; ends the statement"
}

// Split takes words apart at spaces. What is between quotation marks of one kind is one word, or
// a part of one; a backslash stands for itself.
func Split(text string) ([]string, error) {
	words := []string{}
	var word strings.Builder
	begun, quote := false, rune(0)
	for _, r := range text {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(r)
		case r == '\'' || r == '"':
			quote, begun = r, true
		case r == ' ' || r == '\t' || r == '\n' || r == '\r':
			if begun {
				words = append(words, word.String())
			}
			word.Reset()
			begun = false
		default:
			begun = true
			word.WriteRune(r)
		}
	}
	if quote != 0 {
		return nil, fmt.Errorf("the quotation mark %c is not closed", quote)
	}
	if begun {
		words = append(words, word.String())
	}
	return words, nil
}
