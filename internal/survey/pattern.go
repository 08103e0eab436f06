package survey

import (
	"strings"
	"unicode"

	"gentle-harbor/internal/engine"
)

// Pattern gives what reports whether a text fits a pattern: * stands for any letters and ? for
// one; without them any part fits. Capitals are ignored.
func Pattern(pattern string) func(text string) bool {
	fold := func(text string) string { return strings.Map(unicode.ToLower, text) }
	folded := fold(pattern)
	if !strings.ContainsAny(pattern, "*?") {
		return func(text string) bool { return strings.Contains(fold(text), folded) }
	}
	return func(text string) bool { return engine.Wild{Many: '*', One: '?'}.Fits(folded, fold(text)) }
}
