package cli

import (
	"context"
	"fmt"

	"gentle-harbor/internal/checkup"
)

var testCommand = command{
	name: "test", synopsis: "NAME… | CONNECTION-STRING | -",
	about: "walk the whole way to a database, leg by leg, and say how it went",
	text: `One real connection is made and watched. Each leg of the way (settings, secret, name, port, greeting, tls,
login, database, query) is shown with its time and what it saw. At the first leg that fails, the finding says why,
what was seen, and what to try.

A setting given as a flag holds for this run only.`,
	examples: []string{"gharbor test huts/local", "gharbor test huts/local --port 5433", "gharbor test --json huts/local archive/ledger", "gharbor test - < connection-string.txt"},
	settings: true, connects: true, json: true,
	run: runTest,
}

func runTest(ctx context.Context, c *call) error {
	names, err := c.profiles()
	if err != nil {
		return err
	}
	var reports []*checkup.Report
	code, failed := 0, 0
	for _, name := range names {
		to, err := c.target(ctx, name, len(names) > 1)
		if err != nil {
			return err
		}
		report, err := c.checker(to.known).Test(ctx, to.Effective)
		if err != nil {
			return err
		}
		reports = append(reports, report)
		if !c.json {
			c.printReport(c.Stdout, to.Effective, report)
		}
		if report.Exit != 0 {
			failed++
			if code != 0 && code != report.Exit {
				code = 1
			} else {
				code = report.Exit
			}
		}
	}
	if c.json {
		if err := writeJSON(c.Stdout, map[string]any{"profiles": reports}); err != nil {
			return err
		}
	} else if len(names) > 1 {
		fmt.Fprintf(c.Stdout, "%d profiles: %d in, %d failed\n", len(names), len(names)-failed, failed)
	}
	if code != 0 {
		return exit{code: code}
	}
	return nil
}
