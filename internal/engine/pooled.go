package engine

import (
	"context"
	"errors"
	"slices"
	"strings"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// Shared is a session whose server may give each transaction another session, and what is set in
// one to the next client.
type Shared interface {
	// Shared reports that a pooler is in between which the profile does not say to give each
	// client a session of its own. It may ask the server.
	Shared(ctx context.Context) (bool, error)
}

// IsShared is [Shared] for any session: one that cannot say is not shared.
func IsShared(ctx context.Context, s Session) (bool, error) {
	shared, can := As[Shared](s)
	if !can {
		return false, nil
	}
	return shared.Shared(ctx)
}

// Pooled is the problem of what would outlive a transaction in a session that others get: what is
// the subject of "… would".
func Pooled(what string) *finding.Problem {
	return &finding.Problem{Code: finding.DatabasePooled, Facts: finding.Facts{finding.FactWhat: what}}
}

// Refused reports whether a server has refused a statement, with a code of its own, and the
// session goes on.
func Refused(err error) bool {
	var p *finding.Problem
	if errors.As(err, &p) && p.Code == finding.QueryNotSent {
		return true
	}
	return p != nil && !p.Number.Empty() && !p.Code.Closed() && p.Code != finding.DatabaseNoServer
}

// EachKnown asks for some values in one statement. Where the server does not know one of them,
// each is asked for alone, and those that it does not know are refused: servers that only speak
// the protocol know fewer. Ask is given the values, and the place of the first.
func EachKnown(values []string, ask func(at int, values []string) error) (refused []bool, err error) {
	refused = make([]bool, len(values))
	if err := ask(0, values); !Refused(err) {
		return refused, err
	}
	for i := range values {
		switch err := ask(i, values[i:i+1]); {
		case Refused(err):
			refused[i] = true
		case err != nil:
			return nil, err
		}
	}
	return refused, nil
}

// Named says what a server is, by what it calls itself in a line such as "PostgreSQL 15.18 on …":
// its own name where that is not the kind's, its version, and the kind's version whose protocol
// it speaks then, "" where it is of the kind.
func Named(line, kind, version string) (product, its, speaks string) {
	words := strings.Fields(line)
	i := slices.IndexFunc(words, func(word string) bool {
		digits := strings.TrimPrefix(word, "v")
		return digits != "" && digits[0] >= '0' && digits[0] <= '9'
	})
	if i < 1 || strings.EqualFold(strings.Join(words[:i], " "), kind) {
		return kind, version, ""
	}
	return outside.Cell(strings.Join(words[:min(i, 4)], " ")), strings.Trim(words[i],
		",;()"), strings.TrimSpace(kind + " " + version)
}
