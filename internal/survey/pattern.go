package survey

import (
	"strings"
	"unicode"
)

// Pattern gives what reports whether a text fits a pattern: * stands for any letters and ? for one; without them any part fits. Capitals are ignored.
func Pattern(pattern string) func(text string) bool {
	fold := func(text string) []rune { return []rune(strings.Map(unicode.ToLower, text)) }
	p := fold(pattern)
	if !strings.ContainsAny(pattern, "*?") {
		part := string(p)
		return func(text string) bool { return strings.Contains(string(fold(text)), part) }
	}
	return func(text string) bool { return fits(p, fold(text)) }
}

// fits goes through a text once, and back to the last star where something does not fit.
func fits(p, text []rune) bool {
	star, from := -1, 0
	i, j := 0, 0
	for j < len(text) {
		switch {
		case i < len(p) && p[i] == '*':
			star, from = i, j
			i++
		case i < len(p) && (p[i] == '?' || p[i] == text[j]):
			i, j = i+1, j+1
		case star >= 0:
			from++
			i, j = star+1, from
		default:
			return false
		}
	}
	for i < len(p) && p[i] == '*' {
		i++
	}
	return i == len(p)
}
