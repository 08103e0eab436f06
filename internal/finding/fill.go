package finding

import (
	"regexp"
	"strings"
	"sync"

	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/shell"
)

var blank = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\{([a-z-]+)([!?@"]?)\}`) })

// fill puts values instead of {name}; it reports whether all of them were known, and can be typed.
func fill(text string, about Facts) (string, bool) {
	whole := true
	for _, of := range []Fact{FactTitle, FactLocalTitle} { // names of engines are said as they are written
		if value := about[of]; value != "" && strings.ContainsRune("AEIO", rune(value[0])) {
			text = strings.NewReplacer("a {"+string(of), "an {"+string(of), "A {"+string(of), "An {"+string(of)).Replace(text)
		}
	}
	return blank().ReplaceAllStringFunc(text, func(match string) string {
		parts := blank().FindStringSubmatch(match)
		value, known := about[Fact(parts[1])]
		// A value that cannot be shown as it is cannot be typed either: no command is made of it.
		whole = whole && known && value != "" && outside.Clean(value)
		value = outside.Cell(value)
		switch parts[2] {
		case "!":
			return shell.Word(value)
		case "?":
			return shell.Look(value)
		case "@":
			return shell.Posix.Word(value)
		case `"`:
			mark := about[FactQuote]
			return mark + strings.ReplaceAll(value, mark, mark+mark) + mark
		}
		return value
	}), whole
}
