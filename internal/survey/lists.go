// Package survey lists what a server has and who may do what there, as far as a user sees it.
// What is asked of a server is said by its engine; here is what holds for every engine: which
// rows are wanted, what of them is not shown, and what the rights were last time.
package survey

import (
	"slices"

	"gentle-harbor/internal/engine"
)

// Listing is a list that can be asked for by a word.
type Listing struct {
	List engine.List // its word is the plural of what is listed
	// On, Of and System say which of the narrowings the list has: by a table, by a user, and
	// whether it has objects of the system.
	On, Of, System bool
	// Searched are the columns that a pattern is about; with one of Full and a dot before it,
	// where the pattern has a dot.
	Searched, Full []string
}

// Listings are all of them, in the order in which a page has them.
var Listings = []Listing{
	{List: engine.ListDatabases, System: true, Searched: []string{"database"}},
	{List: engine.ListSchemas, System: true, Searched: []string{"schema"}},
	{List: engine.ListTables, System: true, Searched: []string{"table"}, Full: []string{"schema", "database"}},
	{List: engine.ListColumns, On: true, System: true, Searched: []string{"column"}},
	{List: engine.ListUsers, System: true, Searched: []string{"user"}},
	{List: engine.ListRights, On: true, Of: true, System: true, Searched: []string{"on"}},
	{List: engine.ListSettings, Searched: []string{"setting"}},
	{List: engine.ListSessions, System: true, Searched: []string{"user", "database", "program"}},
}

// Find gives the kind of a word.
func Find(word string) (Listing, bool) {
	i := slices.IndexFunc(Listings, func(k Listing) bool { return string(k.List) == word })
	if i < 0 {
		return Listing{}, false
	}
	return Listings[i], true
}

// OfTable are the lists about one table, in the order in which its page has them.
var OfTable = []engine.List{engine.ListColumns, engine.ListIndexes, engine.ListRefersTo, engine.ListReferredBy,
	engine.ListTriggers, engine.ListRights}
