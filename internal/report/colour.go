package report

import (
	"strings"
)

// Colours, by what they stand for. They are never the only sign.
const (
	Good   = "32"
	Bad    = "31;1"
	Strong = "1"
	Paper  = "30;107" // black on white, for what a camera reads
	Faint  = "90"     // grey; what a terminal makes of "faint" can be darker than the text
)

// marks stand for colours in a text on its way to a [Text]. They are characters for private use,
// which outside.Cell escapes in every text from outside.
var marks = map[string]rune{Good: '\uf8a1', Bad: '\uf8a2', Strong: '\uf8a3', Faint: '\uf8a4', Paper: '\uf8a5'}

const ends = '\uf8a0'

// Paint marks a text for a [Text] to show in a colour.
func Paint(colour, text string) string { return string(marks[colour]) + text + string(ends) }

// replaced gives a replacer of all marks, by what each becomes.
func replaced(by func(colour string) string, end string) *strings.Replacer {
	pairs := []string{string(ends), end}
	for colour, mark := range marks {
		pairs = append(pairs, string(mark), by(colour))
	}
	return strings.NewReplacer(pairs...)
}

// colours makes what a terminal takes of marks; unmarked takes them out, since they take no room.
var (
	colours  = replaced(func(colour string) string { return "\x1b[" + colour + "m" }, "\x1b[0m")
	unmarked = replaced(func(string) string { return "" }, "")
)

// kept are the characters that a Text lets pass although outside.Unsafe names them.
var kept = func() string {
	all := "\n\t" + string(ends)
	for _, mark := range marks {
		all += string(mark)
	}
	return all
}()
