package guard

import (
	"maps"
	"slices"

	"gentle-harbor/internal/engine"
)

// Plan is what is known of statements before they run.
type Plan struct {
	Statements int
	// Changes is how many of them may change something, as far as their texts say.
	Changes int
	// Destroys says which of them can remove a lot: each kind once, in order.
	Destroys []string
	// Open says that more statements may come.
	Open bool

	calls map[string]call
}

// call is a name that may be a function: in how many statements it is, and where the first one is.
type call struct {
	statements int
	where      string
}

// Bounds of a plan: what is more is asked about while it runs.
const (
	mostDestroys = 5
	mostNames    = 20_000
)

// Add adds a statement, which is where the words say, and gives what it does.
func (p *Plan) Add(l engine.Language, level Level, text, where string) engine.Sorted {
	p.Statements++
	if level == None || level == "" {
		if l.BeginsRead(text) { // nothing is asked about a read
			return engine.Sorted{Effect: engine.Reads}
		}
	}
	s := l.Sort(text)
	switch s.Effect {
	case engine.Changes:
		p.Changes++
	case engine.Reads:
		for _, name := range s.Calls {
			c, known := p.calls[name]
			if !known {
				if p.calls == nil {
					p.calls = map[string]call{}
				}
				if len(p.calls) >= mostNames {
					break
				}
				c.where = where
			}
			c.statements++
			p.calls[name] = c
		}
	}
	if s.Destroys != "" && !slices.Contains(p.Destroys, s.Destroys) && len(p.Destroys) < mostDestroys {
		p.Destroys = append(p.Destroys, s.Destroys)
	}
	return s
}

// Names gives the names that may be functions.
func (p *Plan) Names() []string { return slices.Sorted(maps.Keys(p.calls)) }

// Called counts the statements that call functions of people as changes, and says where the first
// one is.
func (p *Plan) Called(foreign []string) (where string) {
	for i, name := range foreign {
		c := p.calls[name]
		p.Changes = min(p.Statements, p.Changes+c.statements)
		if i == 0 {
			where = c.where
		}
	}
	return where
}
