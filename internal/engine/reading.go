package engine

import (
	"slices"
	"strings"
)

// Reading says how an engine's statements are told apart by what they do.
type Reading struct {
	// Reads are the first words of statements that may read and nothing else, and Unless are
	// words in them, one behind the other, which say more.
	Reads, Unless []string
	// Inner are words by which a statement in a statement changes something: behind a bracket.
	Inner []string
	// Explains are those of Reads that show how another statement would run, and ExplainsChanges
	// says that a transaction which only reads takes them about any.
	Explains        []string
	ExplainsChanges bool
	// Outside are functions of the engine with effects that outlive a transaction which only
	// reads; a star at the end stands for any rest.
	Outside []string
	// Native are the engine's own functions, and words behind which a bracket stands; nil where
	// the server's catalogue says which are its own.
	Native map[string]bool
	// Transaction are the first words of statements about transactions, and Beginning those of
	// them that begin one.
	Transaction, Beginning []string
	// Settings are the settings of a session that any statement may set, and Modes those that
	// decide whether transactions may change something.
	Settings, Modes []string
	// OnlyBefore and OnlyAfter are statements before and behind one that begins a transaction: it
	// only reads then.
	OnlyBefore, OnlyAfter string
	// Destroys are the beginnings of statements that remove a lot, and Wherever the first words
	// of those that do without where.
	Destroys, Wherever []string
}

// Effect is what a statement does, as far as its text says.
type Effect int

// The effects of statements.
const (
	Changes   Effect = iota // it changes something, or it is not known that it does not
	Reads                   // it reads, unless it calls a function that does more: see [Sorted.Calls]
	Passes                  // it is about the session or its transaction alone
	Begins                  // it begins a transaction of the person's
	Unguarded               // it has the next transactions change something: that is for a guard to say
)

// Sorted is what the text of a statement says of what it does.
type Sorted struct {
	Effect Effect
	// Why are the words of the statement that make it a change.
	Why string
	// Calls are names in it that may be functions: it is a change where one of them is not the
	// engine's own.
	Calls []string
	// Destroys says in which way it can remove a lot, "" for none.
	Destroys string
}

// outside reports whether a function's effects outlive a transaction.
func (r Reading) outside(name string) bool {
	name = lower(name)
	return slices.ContainsFunc(r.Outside, func(each string) bool {
		begin, any := strings.CutSuffix(each, "*")
		return name == each || any && strings.HasPrefix(name, begin)
	})
}

// lower gives a name in small letters, as servers take it that is not in quotes: letters of ASCII
// alone.
func lower(text string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'A' && r <= 'Z' {
			return r + 'a' - 'A'
		}
		return r
	}, text)
}
