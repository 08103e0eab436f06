// Package finding says what a failed leg means: its cause in a sentence, what was seen that
// proves it, and what to try next, best first.
//
// The catalogue is one table, in catalogue.go. An entry's texts have places in braces that are
// filled from what is known of the connection; a remedy with a place that nobody can fill is left
// out, so that no advice is given which does not fit.
package finding

import (
	"maps"
	"slices"
	"strings"
)

// Finding is what a failed leg means, ready to be shown: it never holds control
// characters.
type Finding struct {
	Code  Code     `json:"code"`
	Leg   string   `json:"leg"`
	Cause string   `json:"cause"`
	Seen  []string `json:"seen"`
	Try   []Remedy `json:"try"`
}

// Lookup gives the catalogue's entry for a code.
func Lookup(code Code) (Entry, bool) {
	for _, entry := range catalogue {
		if entry.Code == code {
			return entry, true
		}
	}
	return Entry{}, false
}

// All gives the whole catalogue, in the order of the legs.
func All() []Entry { return append([]Entry(nil), catalogue...) }

// Make fills the entry of a code from about, with seen as its evidence. A code that the catalogue
// does not have becomes its leg's entry for the unknown.
func Make(code Code, about About, seen ...string) Finding {
	entry, known := Lookup(code)
	if !known {
		if entry, known = Lookup(Code(code.Leg() + ".unknown")); !known {
			entry, _ = Lookup(QueryUnknown)
		}
	}
	f := Finding{Code: entry.Code, Leg: entry.Code.Leg(), Seen: append([]string{}, seen...), Try: []Remedy{}}
	f.Cause, _ = fill(entry.Cause, about.Facts)
	if strings.HasPrefix(f.Cause, "a ") || strings.HasPrefix(f.Cause, "an ") { // what was found stands first
		f.Cause = strings.ToUpper(f.Cause[:1]) + f.Cause[1:]
	}
	if hop := about.Facts[FactHop]; hop != "" && hop == about.Facts[FactHopAddress] {
		f.Cause = strings.Replace(f.Cause, hop+" ("+hop+")", hop, 1)
	}
	about.Facts = maps.Clone(about.Facts)
	for _, line := range seen {
		if speaker, _, said := strings.Cut(line, " said: "); said && about.Facts != nil {
			about.Facts[FactSpeaker] = speaker
			break
		}
	}
	had := false
	for _, remedy := range entry.Try {
		if remedy.instead && had {
			continue
		}
		made, whole := remedy.filled(about)
		whole = whole && (len(made.Run) == 0 || !slices.Contains(about.Again.Lacks, made.Run[0]))
		if had = whole; whole {
			f.Try = append(f.Try, made)
		}
	}
	other := slices.DeleteFunc(slices.Clone(f.Try), func(r Remedy) bool {
		return len(r.Run) > 2 && r.Run[0] == "test" && about.Again.repeats(r.Run[2:])
	})
	if len(other) > 0 { // what was just run is not proposed
		f.Try = other
	}
	return f
}
