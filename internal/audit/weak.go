package audit

import (
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/target"
)

// tradeWords are what an account of a database is called or protected with before anyone has
// thought about it.
var tradeWords = []string{
	"password", "passwort", "pass", "pwd", "passphrase", "secret", "geheim", "key", "login", "user", "username",
	"account", "guest", "admin", "administrator", "root", "owner",
	"master", "test", "testing", "demo", "sample", "example", "default", "temp", "temporary", "change",
	"database", "data", "db", "dba", "sql", "server",
	"service", "local", "localhost", "dev", "development", "staging", "production", "backup", "welcome",
	"hello", "letmein", "enter", "open",
}

// keyRows are the rows of letters and digits on keyboards, and the alphabet.
var keyRows = []string{"qwertyuiop", "qwertzuiop", "azertyuiop", "asdfghjkl", "qsdfghjklm", "zxcvbnm",
	"yxcvbnm", "abcdefghijklmnopqrstuvwxyz", "01234567890"}

// lookalikes are signs that stand for letters.
var lookalikes = strings.NewReplacer("@", "a", "0", "o", "1", "i", "3", "e", "$", "s", "5", "s", "4", "a", "7",
	"t", "!", "i")

// guess says why a password is easy to guess, "" when it is not known to be: in any case, and
// with any digits and signs behind it. Names are those of the account's surroundings.
func guess(text string, names ...string) string {
	word := strings.ToLower(text)
	bare := strings.TrimRight(word, "0123456789!.?-_#$*")
	forms := []string{word, bare, strings.ReplaceAll(bare, "-", ""), lookalikes.Replace(word), lookalikes.Replace(bare)}
	is := func(test func(form string) bool) bool {
		return slices.ContainsFunc(forms, func(form string) bool { return form != "" && test(form) })
	}
	switch {
	case is(func(form string) bool {
		return slices.ContainsFunc(names, func(name string) bool { return len(name) > 1 && strings.EqualFold(form, name) })
	}):
		return "the name of its user, its host or its database"
	case is(func(form string) bool { return slices.Contains(tradeWords, form) || isEngine(form) }):
		return "a word of the trade"
	case run(word) || bare != "" && run(bare):
		return "a run of keys, letters or digits"
	}
	return ""
}

// run reports whether a text is one character again and again, or a run of keys, in either
// direction.
func run(text string) bool {
	letters := []rune(text)
	if len(letters) < 3 {
		return len(letters) > 0 && strings.Trim(text, "0123456789") == ""
	}
	if strings.Trim(text, string(letters[0])) == "" {
		return true
	}
	slices.Reverse(letters)
	return slices.ContainsFunc(keyRows, func(row string) bool {
		return strings.Contains(row, text) || strings.Contains(row, string(letters))
	})
}

// isEngine reports whether a word is what people call an engine.
func isEngine(word string) bool {
	return slices.ContainsFunc(known.Infos(), func(info engine.Info) bool {
		return slices.Contains(info.Words, word) || slices.Contains(info.Schemes, word)
	})
}

// weak judges the passwords that could be had without asking anybody or running anything.
func (a *auditor) weak() {
	type use struct {
		places, where []string
		servers       [][]string // of each place
		met           map[string]bool
	}
	same := map[string]*use{}
	for _, h := range a.held {
		severity := Serious
		if h.dest.Socket != "" || target.Literal(h.dest.Host) {
			severity = Warning // who can reach the server is on this machine already
		}
		text := h.text.Reveal()
		switch {
		case text == "":
			a.add(severity, "weak", h.place(), h.mend(), "the password of %s at %s is empty", h.dest.User, h.dest.Place())
			continue
		case strings.EqualFold(text, h.dest.User):
			a.add(severity, "weak", h.place(), h.mend(), "the password of %s at %s is the account's name",
				h.dest.User, h.dest.Place())
		default:
			names := append(strings.Split(h.dest.Host, "."), h.dest.Host, h.dest.User, h.dest.Database)
			if why := guess(text, names...); why != "" {
				a.add(severity, "weak", h.place(), h.mend(),
					"the password of %s at %s is easy to guess: it is %s", h.dest.User, h.dest.Place(), why)
			}
		}
		u := same[text]
		if u == nil {
			u = &use{met: map[string]bool{}}
			same[text] = u
		}
		if where := h.dest.Place(); !u.met[where] {
			u.met[where] = true
			u.where, u.places, u.servers = append(u.where, where), append(u.places, h.place()),
				append(u.servers, h.dest.Servers())
		}
	}
	for _, h := range a.held { // in the order in which they were met
		text := h.text.Reveal()
		if u := same[text]; u != nil {
			if n := apart(u.servers); n > 1 {
				a.add(Warning, "weak", a.some(u.places), "Give each server a password of its own",
					"the same password is used for %d servers: %s", n, a.some(u.where))
			}
			delete(same, text)
		}
	}
}

// some lists the first of many words.
func (a *auditor) some(words []string) string {
	if a.All || len(words) <= fewNames {
		return strings.Join(words, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(words[:ofAKind], ", "), len(words)-ofAKind)
}

// apart counts servers: places with an address in common are one, as an alias and an address of
// it are.
func apart(places [][]string) int {
	above := make([]int, len(places)) // of each place one that is the same server; itself for the one that is counted
	root := func(i int) int {
		for above[i] != i {
			above[i] = above[above[i]]
			i = above[i]
		}
		return i
	}
	first := map[string]int{} // the place that an address was met in
	for i, place := range places {
		above[i] = i
		for _, address := range place {
			if other, met := first[address]; met {
				above[root(i)] = root(other)
			} else {
				first[address] = i
			}
		}
	}
	n := 0
	for i := range above {
		if above[i] == i {
			n++
		}
	}
	return n
}
