package engine

import "slices"

// Language is what the statements of an engine are written in, and how they are read.
type Language struct {
	Name string // such as SQL; "" for an engine that takes no statements
	Lexical
}

// Ability is something that the sessions of some engines can do and those of others cannot.
type Ability string

// The abilities, each with the interface that a session of the engine has then.
const (
	Runs   Ability = "run statements"         // [Runner]
	Lists  Ability = "list databases"         // [Lister]
	Grants Ability = "say what a user may do" // [Rights]
	Pools  Ability = "say who answers"        // [Shared]
)

// Able reports whether the sessions of an engine can do something.
func (i Info) Able(a Ability) bool { return slices.Contains(i.Can, a) }
