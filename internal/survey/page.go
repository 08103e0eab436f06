package survey

import (
	"context"
	"strconv"

	"gentle-harbor/internal/engine"
)

// Counted is a line of the page about a server: how many of a list there are, and the largest.
type Counted struct {
	Kind    Listing
	Outcome Outcome
	// Largest is the name of the row with the most of something, "" where nothing is known to be
	// larger; Most is how much, in the unit of the column By.
	Largest, By string
	Most        int64
	// Marked is how many rows are of a sort, which is said by MarkedAs: "superuser" of users.
	Marked   int64
	MarkedAs string
}

// measured is what the rows of a list are compared by, and what of them is counted.
var measured = map[engine.List]struct{ by, mark string }{
	engine.ListDatabases: {by: "size"}, engine.ListSchemas: {by: "tables"}, engine.ListTables: {by: "size"},
	engine.ListUsers: {mark: "superuser"}, engine.ListSettings: {mark: "needs_restart"},
}

// Page counts what a server has, one list after the other; next is told of each.
func Page(ctx context.Context, from engine.Surveyor, system bool, next func(Counted) error) error {
	for _, kind := range Listings {
		if kind.List == engine.ListColumns { // tables have them
			continue
		}
		c := &counter{of: Counted{Kind: kind, By: measured[kind.List].by, MarkedAs: measured[kind.List].mark},
			name: -1, by: -1, mark: -1}
		outcome, err := Take(ctx, from, Request{List: kind.List, System: system}, c)
		if err != nil {
			return err
		}
		c.of.Outcome = outcome
		if err := next(c.of); err != nil {
			return err
		}
	}
	return nil
}

// counter takes rows to count them.
type counter struct {
	of             Counted
	name, by, mark int // places of columns
}

// Columns implements engine.Rows.
func (c *counter) Columns(columns []engine.Column) error {
	for i, column := range columns {
		switch {
		case column.Kind == engine.Null:
		case column.Name == c.of.Kind.Searched[0]:
			c.name = i
		case column.Name == c.of.By:
			c.by = i
		case column.Name == c.of.MarkedAs:
			c.mark = i
		}
	}
	return nil
}

// Row implements engine.Rows.
func (c *counter) Row(cells []engine.Cell) error {
	if c.mark >= 0 && cells[c.mark].Text == "true" {
		c.of.Marked++
	}
	if c.by >= 0 && c.name >= 0 && !cells[c.by].Null {
		if n, err := strconv.ParseInt(cells[c.by].Text, 10, 64); err == nil && n > c.of.Most {
			c.of.Most, c.of.Largest = n, cells[c.name].Text
			if c.of.Kind.List == engine.ListTables && c.name > 0 {
				c.of.Largest = cells[c.name-1].Text + "." + c.of.Largest
			}
		}
	}
	return nil
}

// Bytes implements engine.Rows.
func (*counter) Bytes([]byte) error { return engine.Malformed("data instead of rows") }
