package budget

import (
	"regexp"
	"strconv"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// The bounds of one text with variables in it. The library that fills them in looks for the end
// of each again and again, so that its time grows as a power of their number and their nesting.
const (
	TemplateSize  = 64 << 10
	TemplateMarks = 100 // "$"
	TemplateDepth = 8   // "${" in each other
)

// Template says whether a text's variables may be filled in; a text without any may be of any
// size. The error is an [ExceededError].
func Template(text string) error {
	marks := strings.Count(text, "$")
	switch {
	case marks == 0:
		return nil
	case len(text) > TemplateSize:
		return &ExceededError{"bytes, with variables in them", TemplateSize}
	case marks > TemplateMarks:
		return &ExceededError{"variables (marks $) in one text", TemplateMarks}
	}
	depth := 0
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '{' && i > 0 && text[i-1] == '$':
			if depth++; depth > TemplateDepth {
				return &ExceededError{"variables in each other's defaults", TemplateDepth}
			}
		case text[i] == '}' && depth > 0:
			depth--
		}
	}
	return nil
}

// maxWork bounds how many pairs of a variable and a place that may name it are looked at in one
// file.
const maxWork = 1 << 20

// Variables says whether a file of NAME=VALUE lines may be given to a library, which replaces the
// names of variables by their values: what all values become together is at most limit bytes, and
// each text with variables in it is one that [Template] allows. Outer gives the variables that
// the file may use without saying them; nil for none. The error is an [ExceededError].
//
// It counts without a grammar of its own, since libraries differ in where a quoted value ends: a
// "$" counts for every NAME before it whose value might still go on there. So the count is never
// below what any library makes of the file.
func Variables(text string, outer func(name string) (string, bool), limit int) error {
	if len(text) > limit {
		return &ExceededError{"bytes", limit}
	}
	for _, form := range []string{text, unescaped(text)} {
		if !strings.Contains(form, "$") {
			continue
		}
		if err := (&counting{lengths: map[string]int{}, outer: outer, limit: limit, total: len(text)}).all(form); err != nil {
			return err
		}
	}
	return nil
}

// octal are the escapes that one library turns into characters before it looks for variables.
var octal = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\\0[0-7]{3}`) })

// unescaped writes what an octal escape stands for in its place, where that can be a part of a
// variable's name.
func unescaped(text string) string {
	if !strings.Contains(text, `\0`) {
		return ""
	}
	return octal().ReplaceAllStringFunc(text, func(match string) string {
		n, err := strconv.ParseUint(match[2:], 8, 32)
		if err != nil || n > 0x7f || !inName(rune(n)) && !strings.ContainsRune("${(", rune(n)) {
			return match
		}
		return string(rune(n))
	})
}

// all counts a whole text.
func (c *counting) all(text string) error {
	for i := 0; i < len(text); i++ {
		var err error
		switch text[i] {
		case '\n':
			err = c.close(i, func(v *value) bool { return !v.quoted })
		case '"', '\'':
			if quote := text[i]; text[i-min(i, 1)] != '\\' { // an escaped one ends the value for some libraries alone
				err = c.close(i, func(v *value) bool { return v.quoted && text[v.from] == quote && v.from < i })
			}
		case '=', ':':
			c.begin(text, i)
		case '$':
			err = c.name(text, i)
		}
		if err != nil {
			return err
		}
	}
	return c.close(len(text), func(*value) bool { return true })
}

// value is a value that has begun.
type value struct {
	name          string
	from          int // of its first byte
	quoted        bool
	marks, length int
}

type counting struct {
	lengths map[string]int // of the longest value that each name had so far
	open    []*value
	outer   func(name string) (string, bool)
	total   int
	work    int
	limit   int
}

// begin opens the value that a "=" or ":" at i may begin.
func (c *counting) begin(text string, i int) {
	end := len(strings.TrimRightFunc(text[:i], func(r rune) bool { return r != '\n' && space(r) }))
	start := end
	for start > 0 {
		r, size := utf8.DecodeLastRuneInString(text[:start])
		if !inName(r) {
			break
		}
		start -= size
	}
	if start == end {
		return
	}
	from := i + 1
	for from < len(text) {
		r, size := utf8.DecodeRuneInString(text[from:])
		if r == '\n' || !space(r) {
			break
		}
		from += size
	}
	c.open = append(c.open, &value{name: text[start:end], from: from,
		quoted: from < len(text) && (text[from] == '"' || text[from] == '\'')})
}

// space reports what libraries skip around a name: Unicode's spaces, and the single bytes of two
// of them.
func space(r rune) bool { return r == utf8.RuneError || unicode.IsSpace(r) }

// inName reports what a variable's name may consist of where it is used. Two letters outside of
// ASCII equal "s" and "k" where capitals are ignored.
func inName(r rune) bool {
	return r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == 'ſ' || r == 'K'
}

// name counts the variable that a "$" at i may name.
func (c *counting) name(text string, i int) error {
	rest := strings.TrimPrefix(strings.TrimPrefix(text[i+1:], "("), "{")
	end := strings.IndexFunc(rest, func(r rune) bool { return !inName(r) })
	if end < 0 {
		end = len(rest)
	}
	capitals := strings.IndexFunc(rest[:end], func(r rune) bool { return r >= 'a' && r <= 'z' || r > 0x7f })
	if capitals < 0 {
		capitals = end
	}
	longest := 0
	for _, name := range []string{rest[:end], rest[:capitals]} { // the second where a library takes capitals alone
		longest = max(longest, c.lengths[name])
		if c.outer != nil {
			if text, set := c.outer(name); set {
				longest = max(longest, len(text))
			}
		}
	}
	for _, v := range c.open {
		if c.work++; c.work > maxWork {
			return &ExceededError{"steps to count what its variables become", maxWork}
		}
		v.length += longest
		if v.marks++; v.marks > TemplateMarks {
			return &ExceededError{"variables (marks $) in one value", TemplateMarks}
		}
		if v.length > c.limit {
			return c.over()
		}
	}
	return nil
}

func (c *counting) over() error {
	return &ExceededError{"bytes, once its variables are filled in", c.limit}
}

// close ends the values that a byte at i ends.
func (c *counting) close(i int, ends func(*value) bool) error {
	kept := c.open[:0]
	for _, v := range c.open {
		if c.work++; c.work > maxWork {
			return &ExceededError{"steps to count what its variables become", maxWork}
		}
		if !ends(v) {
			kept = append(kept, v)
			continue
		}
		if v.marks > 0 && i-v.from > TemplateSize {
			return &ExceededError{"bytes in a value with variables in it", TemplateSize}
		}
		length := v.length + max(i-v.from, 0)
		if c.total += v.length; c.total > c.limit {
			return c.over()
		}
		c.lengths[v.name] = max(c.lengths[v.name], length)
	}
	c.open = kept
	return nil
}
