package report

import "strings"

// Colours, by what they stand for. They are never the only sign.
const (
	Good   = "32"
	Bad    = "31;1"
	Strong = "1"
	Faint  = "90" // grey; what a terminal makes of "faint" can be darker than the text
)

// marks stand for colours in a text on its way to a [Text]. They are characters for private use, which
// outside.Cell escapes in every text from outside.
var marks = map[string]rune{Good: '\uf8a1', Bad: '\uf8a2', Strong: '\uf8a3', Faint: '\uf8a4'}

const ends = '\uf8a0'

// Paint marks a text for a [Text] to show in a colour.
func Paint(colour, text string) string { return string(marks[colour]) + text + string(ends) }

var colours = strings.NewReplacer(
	string(marks[Good]), "\x1b["+Good+"m", string(marks[Bad]), "\x1b["+Bad+"m",
	string(marks[Strong]), "\x1b["+Strong+"m", string(marks[Faint]), "\x1b["+Faint+"m", string(ends), "\x1b[0m",
)

// kept are the characters that a Text lets pass although outside.Unsafe names them.
var kept = "\n\t" + string(marks[Good]) + string(marks[Bad]) + string(marks[Strong]) + string(marks[Faint]) + string(ends)
