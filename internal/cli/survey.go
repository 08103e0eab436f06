package cli

import (
	"context"
	"slices"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
)

var surveyCommand = command{
	name: "survey", synopsis: "NAME databases", about: "list what a server has: its databases, for now",
	text:     "Only what this user can see is listed.",
	examples: []string{"gharbor survey huts/local databases"},
	settings: true, connects: true, json: true,
	options: without(runSurvey),
}

// surveys are what a survey can list.
var surveys = []string{"databases"}

func runSurvey(ctx context.Context, c *call) error {
	name, what, ok := c.profileAnd()
	if !ok || !slices.Contains(surveys, what) {
		return usage("survey needs a profile's name and what to list: gharbor survey huts/local databases")
	}
	failed := func(f *harbor.Failed) (bool, error) {
		if !c.json {
			return false, nil
		}
		return false, report.JSON(c.Stdout, map[string]any{"columns": []string{}, "rows": []any{}, "finding": f.Finding})
	}
	return connected(ctx, c, name, harbor.Work{Needs: engine.Lists}, failed, func(lister engine.Lister, _ func(error) error) error {
		list, err := lister.Databases(ctx)
		if err != nil {
			return err
		}
		if c.json {
			cells := [][]any{}
			for _, d := range list {
				cells = append(cells, []any{d.Name, d.Owner, d.Encoding, d.MayOpen, d.Open})
			}
			return report.JSON(c.Stdout, map[string]any{"columns": []string{"database", "owner", "encoding", "may_open", "open"}, "rows": cells})
		}
		headings := []string{"database", "encoding", "may open", "open now"}
		owned := slices.ContainsFunc(list, func(d engine.Database) bool { return d.Owner != "" })
		if owned {
			headings = append(headings, "owner")
		}
		var rows [][]string
		for _, d := range list {
			row := []string{outside.Cell(d.Name), outside.Cell(d.Encoding), report.Yes(d.MayOpen, "yes", "no"), report.Yes(&d.Open, "yes", "")}
			if owned {
				row = append(row, outside.Cell(d.Owner))
			}
			rows = append(rows, row)
		}
		report.Table(c.Stdout, headings, rows, nil)
		return nil
	})
}
