package secret

import (
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/target"
)

// Picker finds, among what is offered one after the other, what serves on a way: the most specific. It also
// remembers what came nearest.
type Picker struct {
	Way target.Target

	best, tie   int
	found, tied bool
	rank        [3]int
	near        int
	nearest     target.Target
	nearScore   int
}

// Offer takes what is kept for w; id names it afterwards, such as a line's number.
func (p *Picker) Offer(id int, w *target.Target) {
	sameUser := w.User == p.Way.User
	sameHost := w.Socket == p.Way.Socket && (w.Socket != "" || target.Covers(w.Host, p.Way.Host))
	if !sameUser && !sameHost {
		return
	}
	score := 1
	if sameHost {
		score += 4
		if w.Port == 0 || w.Port == p.Way.Port {
			score += 2
		}
	}
	if sameUser {
		score += 3
	}
	if score > p.nearScore {
		p.near, p.nearest, p.nearScore = id, *w, score
	}
	if !sameUser || !sameHost || len(w.Differs(p.Way)) > 0 {
		return
	}
	rank := w.Specific()
	switch order := slices.Compare(rank[:], p.rank[:]); {
	case !p.found || order > 0:
		p.best, p.rank, p.found, p.tied = id, rank, true, false
	case order == 0:
		p.tie, p.tied = id, true
	}
}

// Best gives the id of what serves.
func (p *Picker) Best() (id int, found bool) { return p.best, p.found }

// Tie gives the id of another that serves just as well as the best.
func (p *Picker) Tie() (id int, tied bool) { return p.tie, p.tied }

// Near gives what came nearest to serving and why it does not; differs is empty when there is nothing near.
func (p *Picker) Near() (id int, kept target.Target, differs []string) {
	if p.nearScore == 0 {
		return 0, target.Target{}, nil
	}
	return p.near, p.nearest, p.nearest.Differs(p.Way)
}

// Missing gives the problem of a place that keeps nothing which serves: nothing at all, or something that is
// bound to another user, endpoint or way. Where names the place, such as "the wallet".
func (p *Picker) Missing(where, label string) *finding.Problem {
	if _, kept, differs := p.Near(); len(differs) > 0 {
		return &finding.Problem{Code: "secret.bound-elsewhere", Facts: map[string]string{"detail": fmt.Sprintf("%s has a password of %s that is not sent on this way: %s.", upper(where), kept.User, strings.Join(differs, "; "))},
			Tried: []string{label + ": of what it has, nothing is for this way; the nearest: " + strings.Join(differs, "; ")}}
	}
	return &finding.Problem{Code: "secret.not-kept", Facts: map[string]string{"detail": fmt.Sprintf("%s keeps nothing for %s at %s.", upper(where), p.Way.User, p.Way.Place())},
		Tried: []string{label + ": nothing for " + p.Way.User + " at " + p.Way.Place()}}
}

func upper(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}
