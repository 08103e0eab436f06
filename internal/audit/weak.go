package audit

import (
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/target"
)

// common are words that are tried first by whoever guesses: a short list, with and without digits and signs
// behind them.
var common = []string{
	"password", "passwort", "passw0rd", "p@ssw0rd", "secret", "geheim", "admin", "administrator", "root", "user", "guest", "test", "testing",
	"demo", "default", "changeme", "change-me", "letmein", "welcome", "login", "master", "database", "db", "qwerty", "qwertz", "azerty", "asdf",
	"abc", "abcd", "iloveyou", "dragon", "monkey", "sunshine", "football", "hello", "oracle",
	"1", "12", "123", "1234", "12345", "123456", "1234567", "12345678", "123456789", "1234567890", "0000", "1111", "111111", "666666", "654321",
}

// guessable tells whether a password is on the list, whatever its case and the digits and signs behind it.
func guessable(text string) bool {
	word := strings.ToLower(text)
	bare := strings.TrimRight(word, "0123456789!.?-_#$*")
	return slices.Contains(common, word) || bare != "" && slices.Contains(common, bare) || isEngine(word) || isEngine(bare)
}

// isEngine reports whether a word is what people call an engine.
func isEngine(word string) bool {
	return slices.ContainsFunc(known.Infos(), func(info engine.Info) bool {
		return slices.Contains(info.Words, word) || slices.Contains(info.Schemes, word)
	})
}

// weak judges the passwords that could be had without asking anybody or running anything.
func (a *auditor) weak() {
	type use struct{ places, where []string }
	same := map[string]*use{}
	for _, h := range a.held {
		severity := Serious
		if h.way.Socket != "" || target.Literal(h.way.Host) {
			severity = Warning // who can reach the server is on this machine already
		}
		text := h.text.Reveal()
		switch {
		case text == "":
			a.add(severity, "weak", h.place, h.mend, "the password of %s at %s is empty", h.way.User, h.way.Place())
			continue
		case strings.EqualFold(text, h.way.User):
			a.add(severity, "weak", h.place, h.mend, "the password of %s at %s is the account's name", h.way.User, h.way.Place())
		case guessable(text):
			a.add(severity, "weak", h.place, h.mend, "the password of %s at %s is on a short list of those that are tried first", h.way.User, h.way.Place())
		}
		u := same[text]
		if u == nil {
			u = &use{}
			same[text] = u
		}
		if !slices.Contains(u.where, h.way.Place()) {
			u.where, u.places = append(u.where, h.way.Place()), append(u.places, h.place)
		}
	}
	for _, h := range a.held { // in the order in which they were met
		text := h.text.Reveal()
		if u := same[text]; u != nil && len(u.where) > 1 {
			a.add(Warning, "weak", strings.Join(u.places, ", "), "Give each place a password of its own", "the same password is used at %d places: %s", len(u.where), strings.Join(u.where, ", "))
			delete(same, text)
		}
	}
}
