package finding

import (
	"fmt"
	"strings"
)

// General gives an entry's cause for whoever reads about a finding that is not about a connection
// of theirs.
func (e Entry) General() string {
	if text, ok := general[e.Code]; ok {
		return text
	}
	return e.Cause
}

// InWords gives a remedy with its places named in capitals, for whoever reads about a finding
// that is not about a connection of theirs.
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
			return "gharbor wallet add NAME"
		case "the-keyring":
			return "the keyring"
		case "tls-alone", "tls-first", "tls-unasked":
			return "the engine"
		case "accounts":
			return "that the profile names"
		case "before-login":
			return "tls"
		case "with":
			return "with the password that was sent"
		case "speaker":
			return "the server"
		case "unless":
			return " (or it has no such account, where the server does not say which)"
		case "hidden":
			return " (or there is none of that name, where the server does not say which)"
		case "here":
			return "this machine (or the last hop)"
		case "behind":
			return "LAST-HOP"
		case "direct":
			return "HOST"
		case "nothing":
			return "''"
		case "fix":
			return "(the command that fixes it)"
		}
		return strings.ToUpper(strings.NewReplacer("found-", "", "first-", "", "other-", "other ", "usual-",
			"usual ", "local-", "", "last-", "").Replace(name))
	})
}

// Page writes the page about every finding (Markdown), from the catalogue.
func Page() string {
	var b strings.Builder
	b.WriteString(`# Findings

<!-- Made from the table in internal/finding/catalogue.go; go test checks that it is up to date, and
UPDATE_DOCS=1 go test ./internal/finding writes it anew. -->

What a failed test means. Findings are grouped by the first word of their codes; codes stay as they are. Words in capitals are filled in from
the connection. ` + "`gharbor meaning CODE`" + ` prints an entry. Where waiting can help, ` + "`gharbor await`" + ` goes on; at all others it ends.
`)
	var groups []string
	grouped := map[string][]Entry{}
	for _, e := range catalogue {
		first, _, _ := strings.Cut(string(e.Code), ".")
		if grouped[first] == nil {
			groups = append(groups, first)
		}
		grouped[first] = append(grouped[first], e)
	}
	for _, group := range groups {
		fmt.Fprintf(&b, "\n## %s\n", group)
		entries(&b, grouped[group])
	}
	return b.String()
}

func entries(b *strings.Builder, list []Entry) {
	for _, e := range list {
		waiting := "Waiting does not help."
		if e.Waiting {
			waiting = "Waiting can help."
		}
		fmt.Fprintf(b, "\n### %s\n\n%s Met at the leg %s. %s\n\n", e.Code, e.General(), e.Code.Leg(), waiting)
		for i, remedy := range e.Try {
			fmt.Fprintf(b, "%d. %s\n", i+1, remedy.InWords())
		}
	}
}
