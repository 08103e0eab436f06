package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/script"
)

// errOnlyListed ends a run that lists what would run.
var errOnlyListed = errors.New("only listed")

// listedStatement is a statement as --dry lists it.
type listedStatement struct {
	File      string   `json:"file,omitempty"`
	Line      int      `json:"line"`
	Column    int      `json:"column"`
	Statement string   `json:"statement"`
	Commits   string   `json:"commits,omitempty"` // the words by which it commits by itself
	Values    []string `json:"values"`
	Data      bool     `json:"data,omitempty"` // it reads lines that follow it
}

// listStatements prints what would run. Nothing is connected to, and no secret is asked for.
func listStatements(ctx context.Context, c *call, name string, p *script.Program, g statementGate) error {
	c.Harmless = true
	var all []listedStatement
	each := func(s script.Step) {
		l := listedStatement{File: s.File, Line: s.Line, Column: s.Column, Statement: s.Shown(p.Language),
			Commits: p.Language.Commits(s.To), Values: []string{}, Data: s.Data != nil}
		if !c.json {
			l.Statement = oneLine(l.Statement)
		}
		for _, v := range s.Values {
			l.Values = append(l.Values, v.Name)
		}
		all = append(all, l)
	}
	err := c.Connected(ctx, name, harbor.Work{Needs: engine.Runs,
		Ready: func(language engine.Language, level guard.Level) error {
			p.Language, g.language, g.level = language, language, level
			if _, err := checkProgram(p, g, each); err != nil {
				return err
			}
			return errOnlyListed
		}})
	if !errors.Is(err, errOnlyListed) {
		return err
	}
	if c.json {
		return report.JSON(c.Stdout, map[string]any{"statements": all, "included": append([]string{}, p.Included...)})
	}
	var rows [][]string
	for i, l := range all {
		where := fmt.Sprintf("line %d", l.Line)
		if l.File != "" {
			where = fmt.Sprintf("%s, line %d", l.File, l.Line)
		}
		var about []string
		if l.Commits != "" {
			about = append(about, "commits, or may")
		}
		if l.Data {
			about = append(about, "reads the lines below it")
		}
		if len(l.Values) > 0 {
			about = append(about, "values "+strings.Join(l.Values, ", "))
		}
		rows = append(rows, []string{fmt.Sprint(i + 1), where, l.Statement, strings.Join(about, "; ")})
	}
	report.Table(c.Stdout, []string{"", "where", "statement", "about it"}, rows, map[int]bool{0: true})
	fmt.Fprintf(c.Stderr, "%s, %s included; nothing was connected to\n",
		report.Count(int64(len(all)), "statement"), report.Count(int64(len(p.Included)), "file"))
	if p.Pipes() {
		c.Note("what comes from standard input is not listed: it can be read only once")
	}
	return nil
}

// oneLine gives the beginning of a statement, in one line.
func oneLine(statement string) string {
	text := strings.Join(strings.Fields(statement), " ")
	if r := []rune(text); len(r) > 60 {
		text = string(r[:59]) + "…"
	}
	return outside.Cell(text)
}
