package secret

import (
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/target"
)

// Picker finds, among what is offered one after the other, what serves for a target: the most
// specific. It also remembers what came nearest.
type Picker struct {
	Target target.Target

	best, tie   int
	found, tied bool
	rank        [4]int
	near        int
	nearest     target.Target
	nearScore   int
}

// Offer takes what is stored for w; id names it afterwards, such as a line's number.
func (p *Picker) Offer(id int, w *target.Target) {
	sameUser := w.User == p.Target.User
	sameHost := w.Alias == p.Target.Alias && w.Container == p.Target.Container && w.Socket == p.Target.Socket &&
		(w.Alias+w.Container+w.Socket != "" || target.Covers(w.Host, p.Target.Host))
	if !sameUser && !sameHost || w.Service != p.Target.Service {
		return // a login by SSH and one to a database have nothing to do with each other
	}
	score := 1
	if sameHost {
		score += 4
		if w.Port == 0 || w.Port == p.Target.Port {
			score += 2
		}
	}
	if sameUser {
		score += 3
	}
	if score > p.nearScore {
		p.near, p.nearest, p.nearScore = id, *w, score
	}
	if !sameUser || !sameHost || len(w.Differs(p.Target)) > 0 {
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

// Near gives what came nearest to serving and why it does not; differs is empty when there is
// nothing near.
func (p *Picker) Near() (id int, kept target.Target, differs []string) {
	if p.nearScore == 0 {
		return 0, target.Target{}, nil
	}
	return p.near, p.nearest, p.nearest.Differs(p.Target)
}

// Missing gives the problem of a place that keeps nothing which serves: nothing at all, or
// something that is bound to another user, endpoint or route. Where names the place, such as "the
// wallet".
func (p *Picker) Missing(where, label string) *finding.Problem {
	if _, kept, differs := p.Near(); len(differs) > 0 {
		if kept.Container != "" && kept.Container == p.Target.Container && kept.User == p.Target.User &&
			kept.Defined.String() != p.Target.Defined.String() {
			return Changed(where, label, kept.User, differs)
		}
		if moved := kept.Moved(p.Target); kept.Alias != "" && kept.Alias == p.Target.Alias &&
			len(moved) == len(differs) && kept.User == p.Target.User {
			return heldBack(where, label, kept, moved)
		}
		return &finding.Problem{Code: finding.SecretBoundElsewhere,
			Facts: finding.Facts{finding.FactDetail: fmt.Sprintf("%s has a password of %s that is not for this connection: %s.",
				upper(where), kept.User, strings.Join(differs, "; "))},
			Tried: []string{label + ": it has nothing for this connection; the nearest: " + strings.Join(differs, "; ")}}
	}
	return &finding.Problem{Code: finding.SecretNotKept,
		Facts: finding.Facts{finding.FactDetail: fmt.Sprintf("%s has no entry for %s at %s.", upper(where),
			p.Target.User, p.Target.Place())},
		Tried: []string{label + ": nothing for " + p.Target.User + " at " + p.Target.Place()}}
}

// Moved is the problem of a secret that a kind of store keeps for an alias which stands for
// something else now.
func Moved(kind string, kept target.Target, moved []string) *finding.Problem {
	return heldBack("the "+kind, kind, kept, moved)
}

func heldBack(where, label string, kept target.Target, moved []string) *finding.Problem {
	fact := finding.FactInWallet
	if strings.HasPrefix(label, "credential") {
		fact = finding.FactInCredentials
	}
	return &finding.Problem{Code: finding.SecretAliasChanged,
		Facts: finding.Facts{fact: kept.Alias,
			finding.FactDetail: fmt.Sprintf("%s does not give the password of %s: %s.", upper(where), kept.User,
				strings.Join(moved, "; "))},
		Tried: []string{label + ": not given, since " + strings.Join(moved, "; ")}}
}

// Changed is the problem of a secret that is kept for a container of the same name that is not
// the same any more.
func Changed(where, label, user string, differs []string) *finding.Problem {
	return &finding.Problem{Code: finding.SecretContainerChanged,
		Facts: finding.Facts{finding.FactDetail: fmt.Sprintf("%s does not give the password of %s: %s.",
			upper(where), user, strings.Join(differs, "; "))},
		Tried: []string{label + ": not given, since " + strings.Join(differs, "; ")}}
}

func upper(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}
