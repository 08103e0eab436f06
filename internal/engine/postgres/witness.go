package postgres

import (
	"context"
	"fmt"
	"strings"

	"gentle-harbor/internal/finding"
)

// Witness implements engine.Witness. Messages may be in any language: what they name is found by
// comparing their words with what is there.
func (s *session) Witness(ctx context.Context, p *finding.Problem) []string {
	if s.pg.IsClosed() || s.pg.TxStatus() == 'E' {
		return nil
	}
	words := p.Words.Bare()
	switch p.Code {
	case finding.QueryDatabaseInUse:
		return s.holders(ctx, p, words)
	case finding.QueryNoSuchBase, finding.QueryNoSuchObject:
		return s.near(ctx, p, words)
	case finding.QueryNoRight:
		return s.owner(ctx, p, words)
	}
	return nil
}

// quoted gives the first text in double quotes, "" for none.
func quoted(words string) string {
	_, rest, _ := strings.Cut(words, `"`)
	name, _, _ := strings.Cut(rest, `"`)
	return name
}

// holders says who has a database open, as far as this user can see it.
func (s *session) holders(ctx context.Context, p *finding.Problem, words string) []string {
	name := quoted(words)
	if name == "" { // the message for the session's own has no name
		p.Set(finding.FactOwnOpen, s.login.Database)
		return []string{"this session has it open itself"}
	}
	rows, err := s.texts(ctx, "select pid, coalesce(usename, '?'), coalesce(pg_catalog.host(client_addr), 'the "+
		"socket'), application_name, pid = pg_catalog.pg_backend_pid() from pg_catalog.pg_stat_activity "+
		"where datname = "+literal(name)+" order by pid limit 6")
	if err != nil {
		return nil
	}
	var seen []string
	for _, row := range rows {
		if len(row) != 5 {
			return nil
		}
		line := fmt.Sprintf("session %s of user %s, from %s, has it open", row[0], row[1], row[2])
		if len(row[3]) > 0 {
			line += fmt.Sprintf(" (%s)", row[3])
		}
		if len(seen) == 5 {
			line = "and others"
		}
		seen = append(seen, line)
	}
	return seen
}

// near names what is there and has a name like the missing one.
func (s *session) near(ctx context.Context, p *finding.Problem, words string) []string {
	missing := quoted(words)
	if missing == "" {
		return nil
	}
	statement := "select datname from pg_catalog.pg_database where not datistemplate limit 2000"
	if p.Code == finding.QueryNoSuchObject {
		if at := strings.LastIndexByte(missing, '.'); at >= 0 {
			missing = missing[at+1:]
		}
		statement = "select relname from pg_catalog.pg_class where relkind in ('r','v','m','p','f') and " +
			"pg_catalog.pg_table_is_visible(oid) and relnamespace <> 'pg_catalog'::regnamespace limit 2000"
	}
	rows, err := s.texts(ctx, statement)
	if err != nil {
		return nil
	}
	p.Missing = missing
	for _, row := range rows {
		p.Names = append(p.Names, string(row[0]))
	}
	return nil
}

// owner says whose the thing is that a right is missing for, and which statement grants it.
func (s *session) owner(ctx context.Context, p *finding.Problem, words string) []string {
	var names []string
	for _, word := range strings.FieldsFunc(words, func(r rune) bool { return strings.ContainsRune(" \"'«»„“”", r) }) {
		names = append(names, literal(word))
	}
	if len(names) == 0 || len(names) > 50 {
		return nil
	}
	rows, err := s.texts(ctx, "select n.nspname, c.relname, pg_catalog.pg_get_userbyid(c.relowner) from "+
		"pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace where c.relkind in "+
		"('r','v','m','p','f') and c.relname in ("+strings.Join(names,
		", ")+") limit 2")
	if err != nil || len(rows) != 1 || len(rows[0]) != 3 {
		return nil
	}
	p.Set(finding.FactOwner, string(rows[0][2]))
	switch right := p.Facts[finding.FactRight]; right {
	case "select", "insert", "update", "delete":
		p.Set(finding.FactRightStatement,
			"grant "+right+" on "+quote(string(rows[0][0]))+"."+quote(string(rows[0][1]))+" to "+quote(s.login.User))
	}
	return []string{fmt.Sprintf("the owner of %s.%s is %s", rows[0][0], rows[0][1], rows[0][2])}
}
