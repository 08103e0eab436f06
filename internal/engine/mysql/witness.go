package mysql

import (
	"context"
	"regexp"
	"strings"
	"sync"

	"gentle-harbor/internal/finding"
)

// denied finds the right and the table in the words of a missing right: the right is before the
// first word in small letters, and names are in back quotes, or in quotes.
var denied = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile("^([A-Z][A-Z, ]*[A-Z]) [^`']*'[^']*'@'[^']*'[^`']*(?:`([^`]+)`\\.`([^`]+)`|'([^']+)')")
})

// inQuotes finds the first name in quotes; an apostrophe inside of a word begins none.
var inQuotes = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?:^|[^\pL])'([^']*)'`) })

// Witness implements engine.Witness.
func (s *session) Witness(ctx context.Context, p *finding.Problem) []string {
	words := p.Words.Bare()
	named := ""
	if met := inQuotes().FindStringSubmatch(words); met != nil {
		named = met[1]
	}
	switch p.Code {
	case finding.QueryNoSuchBase:
		if list, err := s.Databases(ctx); err == nil {
			p.Missing = named
			for _, each := range list {
				p.Names = append(p.Names, each.Name)
			}
		}
	case finding.QueryNoSuchObject:
		schema, table, ok := strings.Cut(named, ".")
		if !ok {
			return nil
		}
		if rows, err := s.texts(ctx, "select table_name from information_schema.tables where table_schema = "+literal(schema)+" limit 2000"); err == nil {
			p.Missing, p.Names = table, firsts(rows)
		}
	case finding.QueryNoRight:
		met := denied().FindStringSubmatch(words)
		user, host, ok := account(s.one(ctx, "select current_user()"))
		right := p.Facts[finding.FactRight]
		// the server's words decide no right, and no user
		if met == nil || !ok || user != s.wire.login.User || !strings.EqualFold(met[1], right) {
			return nil
		}
		table := quote(met[2]) + "." + quote(met[3])
		if met[4] != "" {
			table = quote(met[4])
			if schema := s.one(ctx, "select database()"); schema != "" {
				table = quote(schema) + "." + table
			}
		}
		p.Set(finding.FactRightStatement, "grant "+right+" on "+table+" to "+quote(user)+"@"+quote(host))
	}
	return nil
}
