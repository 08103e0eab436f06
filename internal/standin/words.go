package standin

import (
	"errors"
	"regexp"
	"strings"
	"sync"
)

// errSeveral refuses a text with more than one statement, as real servers do where a statement
// comes by itself.
var errSeveral = errors.New("several statements")

// pieces are the parts of a statement's text: comments, quoted text, one character of the rest.
var pieces = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile("(?s)--[^\n]*|/\\*.*?\\*/|'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|`[^`]*`|.")
})

func comment(piece string) bool {
	return strings.HasPrefix(piece, "--") || strings.HasPrefix(piece, "/*")
}

// several reports whether a text has more than one statement.
func several(text string) bool {
	ended := false
	for _, piece := range pieces().FindAllString(text, -1) {
		switch {
		case comment(piece) || strings.TrimSpace(piece) == "":
		case piece == ";":
			ended = true
		case ended:
			return true
		}
	}
	return false
}

// selected gives the texts between the first select of a statement and its from, nil where they
// cannot be told apart.
func selected(text string) []string {
	var items []string
	var item strings.Builder
	depth := 0
	for _, piece := range pieces().FindAllString(strings.TrimSpace(text), -1) {
		switch {
		case comment(piece):
			piece = " "
		case piece == "(":
			depth++
		case piece == ")":
			depth--
		case piece == ";" && depth == 0:
			piece = ""
		case piece == "," && depth == 0:
			items = append(items, item.String())
			item.Reset()
			continue
		}
		item.WriteString(piece)
		if depth == 0 && (strings.HasSuffix(strings.ToLower(item.String()), " from ") ||
			strings.HasSuffix(strings.ToLower(item.String()), "\nfrom ")) {
			rest := item.String()
			item.Reset()
			item.WriteString(rest[:len(rest)-len(" from ")])
			break
		}
	}
	items = append(items, item.String())
	first, is := cutFold(strings.TrimSpace(items[0]), "select ")
	if !is {
		return nil
	}
	items[0] = first
	for i := range items {
		items[i] = strings.TrimSpace(items[i])
	}
	return items
}

func cutFold(text, prefix string) (string, bool) {
	if len(text) < len(prefix) || !strings.EqualFold(text[:len(prefix)], prefix) {
		return "", false
	}
	return text[len(prefix):], true
}

// They are compiled when first needed: every start of the program would pay for them.
var (
	plainColumn = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^([A-Za-z_]\w*\.)*[A-Za-z_]\w*$`) })
	called      = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(?:\w+\.)?(\w+)\s*\(`) })
	castTo      = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?is)^cast\s*\((.*)\s+as\s+(\w+)[^)]*\)$`)
	})
)

// wordsOfItsOwn are functions of SQL that are written without brackets.
var wordsOfItsOwn = []string{"current_user", "session_user", "current_date", "current_time",
	"current_timestamp", "current_catalog", "current_schema"}

// name gives a result's columns the names that a real server of the family gives them. Those with
// a name of their own keep it.
func (d *data) name(r *result, written string) {
	items := selected(written)
	if len(items) != len(r.columns) {
		return // with a star, or several selects
	}
	for i, item := range items {
		alias := r.columns[i]
		lower := strings.ToLower(item)
		own := false
		for _, word := range wordsOfItsOwn {
			own = own || lower == word
		}
		if !own && plainColumn().MatchString(item) ||
			plainColumn().MatchString(alias) && strings.HasSuffix(lower, " "+strings.ToLower(alias)) ||
			strings.HasSuffix(item, `"`+alias+`"`) {
			continue
		}
		if d.server.family() == "postgres" {
			r.columns[i] = postgresName(lower)
		} else {
			r.columns[i] = item
		}
	}
}

// postgresName names a column as PostgreSQL does: after the function, the type of a cast, or
// "?column?".
func postgresName(item string) string {
	for _, word := range wordsOfItsOwn {
		if item == word {
			return word
		}
	}
	if found := castTo().FindStringSubmatch(item); found != nil {
		if inner := strings.TrimSpace(found[1]); plainColumn().MatchString(inner) {
			return inner[strings.LastIndex(inner, ".")+1:]
		}
		return found[2]
	}
	if strings.HasPrefix(item, "case ") {
		return "case"
	}
	if found := called().FindStringSubmatch(item); found != nil && strings.HasSuffix(item, ")") &&
		balanced(item[len(found[0]):len(item)-1]) {
		return found[1]
	}
	return "?column?"
}

// balanced reports whether each bracket of a text is closed in it, and none is closed that was
// not opened.
func balanced(text string) bool {
	depth := 0
	for _, piece := range pieces().FindAllString(text, -1) {
		switch piece {
		case "(":
			depth++
		case ")":
			if depth--; depth < 0 {
				return false
			}
		}
	}
	return depth == 0
}
