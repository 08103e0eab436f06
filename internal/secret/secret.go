// Package secret holds passwords and the references that lead to them.
//
// A password lives in a [Secret] from the moment it is read until a driver sends it. A Secret
// prints as [Mask] by every route there is: fmt with any verb, JSON, YAML, text, slog, and
// reflection over a struct that holds one. Only [Secret.Reveal] gives the text, and a search for
// that word finds every place that uses it.
//
// A [Reference] says where a secret comes from, never what it is, and is what a profile holds. A
// [Finder] follows references.
package secret

import (
	"fmt"
	"io"
	"log/slog"

	"gentle-harbor/internal/outside"
)

// Mask is what a Secret prints as.
const Mask = outside.Mask

// Secret is a password or another text that nobody may see. The zero value is "no secret at all",
// which is not the same as an empty password: see [Secret.Given].
type Secret struct {
	// A function, so that even reflection over an unexported field meets an address and not the
	// text. (fmt follows a pointer for some verbs.)
	text func() string
}

// New wraps text, which may be empty, as a Secret.
func New(text string) Secret { return Secret{func() string { return text }} }

// Given reports whether there is a secret, be it an empty one.
func (s Secret) Given() bool { return s.text != nil }

// Reveal gives the text itself, "" when there is none. It is for the drivers alone.
func (s Secret) Reveal() string {
	if s.text == nil {
		return ""
	}
	return s.text()
}

// String gives [Mask], as all other printing does.
func (s Secret) String() string { return Mask }

// GoString gives [Mask].
func (s Secret) GoString() string { return Mask }

// Format writes [Mask] with every verb.
func (s Secret) Format(f fmt.State, _ rune) { _, _ = io.WriteString(f, Mask) }

// MarshalText gives [Mask].
func (s Secret) MarshalText() ([]byte, error) { return []byte(Mask), nil }

// MarshalJSON gives [Mask] as a JSON string.
func (s Secret) MarshalJSON() ([]byte, error) { return []byte(`"` + Mask + `"`), nil }

// MarshalYAML gives [Mask].
func (s Secret) MarshalYAML() (any, error) { return Mask, nil }

// LogValue gives [Mask].
func (s Secret) LogValue() slog.Value { return slog.StringValue(Mask) }

// Same reports whether two secrets have the same text, or both have none.
func (s Secret) Same(other Secret) bool {
	return s.Given() == other.Given() && s.Reveal() == other.Reveal()
}
