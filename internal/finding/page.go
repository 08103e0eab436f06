package finding

import (
	"fmt"
	"strings"
)

// General gives an entry's cause for whoever reads about a finding that is not about a connection of theirs.
func (e Entry) General() string {
	if text, ok := general[e.Code]; ok {
		return text
	}
	return inWords(e.Cause)
}

// InWords gives a remedy with its places named in capitals, for whoever reads about a finding that is not about a
// connection of theirs.
func (r Remedy) InWords() string {
	text := inWords(r.Say)
	if len(r.Run) == 0 {
		return text
	}
	command := "gharbor " + inWords(strings.Join(r.Run, " "))
	if strings.HasPrefix(r.Run[0], "{keep") {
		command = inWords(r.Run[0])
	}
	if text == "" {
		return command
	}
	return text + ": " + command
}

func inWords(text string) string {
	return blank().ReplaceAllStringFunc(text, func(match string) string {
		name := blank().FindStringSubmatch(match)[1]
		switch name {
		case "subject", "profile":
			return "NAME"
		case "keep", "keep-again":
			return "gharbor wallet put --profile NAME"
		case "the-keyring":
			return "the keyring"
		case "with":
			return "with the password that was sent"
		case "unless":
			return " (or it has no such account, where the server hides which)"
		case "hidden":
			return " (or there is none of that name, where the server hides which)"
		case "detail":
			return "What was found is said in a sentence."
		case "here":
			return "this machine (or the last hop)"
		case "behind":
			return "LAST-HOP"
		case "direct":
			return "HOST"
		case "nothing":
			return "''"
		case "fix":
			return "The command that fixes it is given."
		}
		return strings.ToUpper(strings.NewReplacer("found-", "", "first-", "", "other-", "other ", "usual-", "usual ", "local-", "", "last-", "").Replace(name))
	})
}

// Page writes the page about every finding (Markdown), from the catalogue.
func Page() string {
	var b strings.Builder
	b.WriteString(`# Findings

<!-- Made from the table in internal/finding/catalogue.go; go test checks that it is up to date, and
UPDATE_DOCS=1 go test ./internal/finding writes it anew. -->

What a failed leg means. A finding's code is LEG.WORDS; codes stay as they are. Words in capitals are filled in from the
connection. ` + "`gharbor meaning CODE`" + ` prints an entry. Where waiting can help, ` + "`gharbor await`" + ` goes on; at all others it ends.
`)
	leg := ""
	for _, e := range catalogue {
		if e.Code.Leg() != leg {
			leg = e.Code.Leg()
			fmt.Fprintf(&b, "\n## The leg %s\n", leg)
		}
		waiting := "Waiting does not help."
		if e.Waiting {
			waiting = "Waiting can help."
		}
		fmt.Fprintf(&b, "\n### %s\n\n%s\n\n%s\n\n", e.Code, e.General(), waiting)
		for i, remedy := range e.Try {
			fmt.Fprintf(&b, "%d. %s\n", i+1, remedy.InWords())
		}
	}
	return b.String()
}
