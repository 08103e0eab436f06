package report

import (
	"regexp"
	"strings"
	"sync"

	"github.com/jedib0t/go-pretty/v6/text"
)

// wide gives how many columns a text takes.
func wide(s string) int { return text.StringWidth(unmarked.Replace(s)) }

// gap finds the second column of a line of two, such as a flag and what it is for.
var gap = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^\s*\S.*?\s{2,}(\S)`) })

// hanging gives the indent of the further lines of a line that is folded.
func hanging(line string, columns int) string {
	if at := gap().FindStringSubmatchIndex(line); at != nil {
		if n := wide(line[:at[2]]); n <= columns/2 {
			return strings.Repeat(" ", n)
		}
	}
	lead := line[:len(line)-len(strings.TrimLeft(line, " "))]
	return lead[:min(len(lead), columns/2)] + "  "
}

// folded breaks a line at spaces so that it fits into columns. A word alone that does not fit
// stays whole, so that it can be copied.
func folded(line, indent string, columns int) string {
	if columns <= 0 || wide(line) <= columns {
		return line
	}
	var b strings.Builder
	body := strings.TrimLeft(line, " ")
	b.WriteString(line[:len(line)-len(body)])
	at, fresh := len(line)-len(body), true
	for rest := body; rest != ""; {
		word := rest
		if i := strings.IndexByte(strings.TrimLeft(rest, " "), ' '); i >= 0 {
			word = rest[:len(rest)-len(strings.TrimLeft(rest, " "))+i]
		}
		rest = rest[len(word):]
		if n := wide(word); fresh || at+n <= columns || strings.TrimSpace(word) == "" {
			b.WriteString(word)
			at, fresh = at+n, false
			continue
		}
		word = strings.TrimLeft(word, " ")
		b.WriteString("\n" + indent + word)
		at = len(indent) + wide(word)
	}
	return b.String()
}

// fit folds what is longer than the columns of a terminal.
func fit(s string, columns int) string {
	if columns <= 0 || len(s) <= columns {
		return s
	}
	lines := strings.Split(s, "\n")
	for i, line := range lines {
		lines[i] = fitted(line, columns)
	}
	return strings.Join(lines, "\n")
}

// fitted folds one line. A command on a line of its own goes on after a backslash, so that it can
// be copied.
func fitted(line string, columns int) string {
	if command := strings.TrimLeft(line, " "); len(command) < len(line) &&
		strings.HasPrefix(command, "gharbor ") && wide(line) > columns {
		return strings.ReplaceAll(folded(line, line[:len(line)-len(command)]+"    ", columns-2), "\n", " \\\n")
	}
	return folded(line, hanging(line, columns), columns)
}

// breaks are the characters after which a word may be cut.
const breaks = "./:@,-_"

// cut shortens a cell to a width, with an ellipsis: after a whole word, or a part of a name or an
// address, where one is there.
func cut(cell string, width int) string {
	if before, after, several := strings.Cut(cell, "\n"); several {
		return cut(before, width) + "\n" + cut(after, width)
	}
	if wide(cell) <= width {
		return cell
	}
	kept, at := "", 0
	for _, r := range cell {
		if n := text.StringWidth(string(r)); at+n > width-1 {
			break
		} else {
			kept, at = kept+string(r), at+n
		}
	}
	lead := len(kept) - len(strings.TrimLeft(kept, " "))
	if i := strings.LastIndexByte(kept, ' '); i > lead {
		return strings.TrimRight(kept[:i], " ,;") + " …"
	}
	if i := strings.LastIndexAny(kept, breaks); i > lead {
		return kept[:i+1] + "…"
	}
	return kept + "…"
}
