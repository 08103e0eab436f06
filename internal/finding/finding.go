// Package finding says what a failed leg means: its cause in a sentence, what was seen that proves it, and
// what to try next, best first.
//
// The catalogue is one table, in catalogue.go. An entry's texts have places in braces that are filled from
// what is known of the connection; a remedy with a place that nobody can fill is left out, so that no advice
// is given which does not fit.
package finding

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/shell"
)

// Finding is what a failed leg means, ready to be shown: whatever a text was filled with, it holds no control
// characters.
type Finding struct {
	Code  string   `json:"code"`
	Leg   string   `json:"leg"`
	Cause string   `json:"cause"`
	Seen  []string `json:"seen"`
	Try   []string `json:"try"`
}

// Entry is what the catalogue holds for a code.
type Entry struct {
	Code  string // LEG.WORDS
	Cause string
	// Mends tells that time may mend it by itself: a server that is starting, a port that is not open yet.
	Mends bool
	// Try holds remedies, best first. In these texts {name} is filled in as it is, {name!} as one word of a
	// shell's command line, and {name"} as a quoted name inside SQL.
	Try []string
}

// Leg gives the leg that a code belongs to.
func Leg(code string) string {
	leg, _, _ := strings.Cut(code, ".")
	return leg
}

// Lookup gives the catalogue's entry for a code.
func Lookup(code string) (Entry, bool) {
	for _, entry := range catalogue {
		if entry.Code == code {
			return entry, true
		}
	}
	return Entry{}, false
}

// All gives the whole catalogue, in the order of the legs.
func All() []Entry { return append([]Entry(nil), catalogue...) }

// Make fills the entry of a code from about, with seen as its evidence. A code that the catalogue does not
// have becomes its leg's entry for the unknown.
func Make(code string, about map[string]string, seen ...string) Finding {
	entry, known := Lookup(code)
	if !known {
		if entry, known = Lookup(Leg(code) + ".unknown"); !known {
			entry, _ = Lookup("query.unknown")
		}
	}
	f := Finding{Code: entry.Code, Leg: Leg(entry.Code), Seen: append([]string{}, seen...), Try: []string{}}
	f.Cause, _ = fill(entry.Cause, about)
	for _, remedy := range entry.Try {
		text, whole := fill(remedy, about)
		if whole {
			f.Try = append(f.Try, text)
		}
	}
	return f
}

// Overrides is the name in about under which the flags of this run stand, one a line ("--port 6021"). A
// command in a remedy repeats them behind {subject}, so that it is about the same connection, but for those
// that the remedy itself sets anew.
const Overrides = "overrides"

var flagWord = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`--[a-z-]+`) })

// carried gives the overrides that a remedy's command has to repeat.
func carried(remedy, overrides string) string {
	set := flagWord().FindAllString(remedy, -1)
	if slices.Contains(set, "--socket") {
		set = append(set, "--host", "--port")
	}
	var kept strings.Builder
	for line := range strings.Lines(overrides) {
		line = strings.TrimSuffix(line, "\n")
		name, _, _ := strings.Cut(line, " ")
		if line != "" && !slices.Contains(set, name) {
			kept.WriteString(" " + line)
		}
	}
	return kept.String()
}

var blank = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\{([a-z-]+)([!"]?)\}`) })

// fill puts values in the place of {name}; it tells whether all of them were known.
func fill(text string, about map[string]string) (string, bool) {
	whole := true
	return blank().ReplaceAllStringFunc(text, func(match string) string {
		parts := blank().FindStringSubmatch(match)
		value, known := about[parts[1]]
		// A value that cannot be shown as it is cannot be typed either: no command is made of it.
		whole = whole && known && value != "" && outside.Clean(value)
		value = outside.Cell(value)
		if parts[1] == "subject" && known {
			return shell.Word(value) + carried(text, about[Overrides])
		}
		switch parts[2] {
		case "!":
			return shell.Word(value)
		case `"`:
			mark := about["quote"]
			return mark + strings.ReplaceAll(value, mark, mark+mark) + mark
		}
		return value
	}), whole
}

// Words gives a text of the catalogue with its places named in capitals, for whoever reads about a finding
// that is not about a connection of theirs.
func Words(text string) string {
	return blank().ReplaceAllStringFunc(text, func(match string) string {
		name := blank().FindStringSubmatch(match)[1]
		switch name {
		case "subject", "profile":
			return "NAME"
		case "keep", "keep-again":
			return "gharbor wallet put --profile NAME"
		case "the-keyring":
			return "the keyring"
		case "hidden":
			return " (or there is none of that name, where the server hides which)"
		case "detail", "mend":
			return map[string]string{"detail": "What was found is said in a sentence.", "mend": "The command that mends it is given."}[name]
		}
		return strings.ToUpper(strings.NewReplacer("found-", "", "first-", "", "other-", "other ", "usual-", "usual ", "local-", "").Replace(name))
	})
}

// Page writes the page about every finding (Markdown), from the catalogue.
func Page() string {
	var b strings.Builder
	b.WriteString(`# Findings

<!-- Made from the table in internal/finding/catalogue.go; go test checks that it is up to date, and
UPDATE_DOCS=1 go test ./internal/finding writes it anew. -->

What a failed leg means. A finding's code is LEG.WORDS; codes stay as they are. Words in capitals are filled in from the
connection. ` + "`gharbor meaning CODE`" + ` prints an entry. "Waiting" tells whether time may mend it by itself: ` + "`gharbor await`" + ` goes
on after such a one, and ends at the others.
`)
	leg := ""
	for _, e := range catalogue {
		if Leg(e.Code) != leg {
			leg = Leg(e.Code)
			fmt.Fprintf(&b, "\n## The leg %s\n", leg)
		}
		waiting := "cannot mend it"
		if e.Mends {
			waiting = "may mend it"
		}
		fmt.Fprintf(&b, "\n### %s\n\n%s\n\nWaiting %s.\n\n", e.Code, e.General(), waiting)
		for i, remedy := range e.Try {
			fmt.Fprintf(&b, "%d. %s\n", i+1, Words(remedy))
		}
	}
	return b.String()
}
