package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/survey"
)

// How long a person who presses the tab key waits for names that a server has, and how many of
// those are offered.
const (
	peekTime   = 300 * time.Millisecond
	mostPeeked = 500
)

// namesThere gives the names of a list of what the profile's server has that begin with a text;
// none where nobody is at a terminal, or where it takes longer than a person waits. Given are the
// words before, without the last flag.
func (c *call) namesThere(ctx context.Context, cmd *command, list engine.List, given []string, begin string) []string {
	// a shell that completes hides what is said
	if _, atTerminal := report.Terminal(c.Stdin); !atTerminal || c.Who.Here() {
		return nil
	}
	of := c.newCall(cmd)
	if err := of.parse(given); err != nil {
		return nil
	}
	// Only a word that is sent off with Enter may lead elsewhere than the saved profile, or take
	// another secret there: what was pasted can have a tab in it.
	for setting := range of.Set {
		if setting != "database" {
			return nil
		}
	}
	names := of.names
	if profile, is := c.Env("GHARBOR_PROFILE"); is && profile != "" &&
		(len(names) == 0 || !slices.Contains(c.profileNames(), names[0])) {
		names = append([]string{profile}, names...)
	}
	if len(names) == 0 || !slices.Contains(c.profileNames(), names[0]) { // others are not agreed to
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, peekTime)
	defer cancel()
	found := make(chan []string, 1)
	go func() {
		p := &peeked{}
		of.Peek(ctx, names[0], func(session engine.Session) {
			if from, can := engine.As[engine.Surveyor](session); can {
				_, _ = survey.Take(ctx, from, survey.Request{List: list, Like: begin + "*", Names: true, Limit: mostPeeked}, p)
			}
		})
		found <- p.names
	}()
	select {
	case names := <-found:
		if ctx.Err() == nil {
			return names
		}
	case <-ctx.Done():
	}
	return nil
}

// peeked keeps the names of databases, or of tables: those of another schema than the usual one
// with it before them.
type peeked struct {
	names        []string
	schema, name int // places of columns
}

// Columns implements engine.Rows.
func (p *peeked) Columns(columns []engine.Column) error {
	place := func(name string) int {
		return slices.IndexFunc(columns, func(c engine.Column) bool { return c.Name == name })
	}
	p.schema, p.name = place("schema"), place("table")
	if p.name < 0 {
		p.name = place("database")
	}
	return nil
}

// Row implements engine.Rows.
func (p *peeked) Row(cells []engine.Cell) error {
	if p.name < 0 {
		return nil
	}
	name := cells[p.name].Text
	if p.schema >= 0 && cells[p.schema].Text != "public" {
		name = cells[p.schema].Text + "." + name
	}
	p.names = append(p.names, name)
	return nil
}

// Bytes implements engine.Rows.
func (*peeked) Bytes([]byte) error { return engine.Malformed("data instead of rows") }

// asksFor gives the list whose names a flag's value is one of, "" for none.
func asksFor(flag string) engine.List {
	switch flag {
	case "on":
		return engine.ListTables
	case "database":
		return engine.ListDatabases
	}
	return ""
}

// tableWanted reports whether the word after some others is the name of a table.
func tableWanted(cmd *command, given []string, place int) bool {
	return cmd.name == "load" && place == 1 ||
		cmd.name == "survey" && place == 2 && slices.Contains(given, "table") &&
			!strings.HasPrefix(given[len(given)-1], "-")
}
