package engine

// Ability is something that the sessions of some engines can do and those of others cannot.
type Ability string

// The abilities, each with the interface that a session of the engine has then.
const (
	Runs   Ability = "run statements"         // [Runner]
	Lists  Ability = "list databases"         // [Lister]
	Grants Ability = "say what a user may do" // [Rights]
	Pools  Ability = "say who answers"        // [Shared]
	Leads  Ability = "follow clients' logins" // [Usher], of the engine itself
)
