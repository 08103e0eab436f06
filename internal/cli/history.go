package cli

import (
	"context"
	"fmt"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/shell"
)

var historyCommand = command{
	name: "history", synopsis: "NAME", about: "show the tests of a profile, and what changed since the last good one",
	examples: []string{"gharbor history huts/staging", "gharbor history huts/staging --json"},
	json:     true,
	options:  without(runHistory),
}

func runHistory(_ context.Context, c *call) error {
	name, err := c.profile()
	if err != nil {
		return err
	}
	list, since, err := c.History(name)
	if err != nil {
		return err
	}
	if c.json {
		if list == nil {
			list = []checkup.Past{}
		}
		return report.JSON(c.Stdout, map[string]any{"profile": name, "tests": list, "changed": since})
	}
	if len(list) == 0 {
		fmt.Fprintf(c.Stdout, "%s was never tested. gharbor test %s tests it.\n", name, shell.Word(name))
		return nil
	}
	const shownRuns = 20
	var rows [][]string
	var times []float64
	for _, past := range list[max(0, len(list)-80):] {
		ms := past.MS
		if !past.OK {
			ms = -1
		}
		times = append(times, ms)
	}
	for _, past := range list[max(0, len(list)-shownRuns):] {
		state, what := "ok", past.Version+", "+past.Account
		if !past.OK {
			state, what = "FAILED", string(past.Code)
		}
		rows = append(rows, []string{past.When.Local().Format("2006-01-02 15:04:05"), state, fmt.Sprintf("%.1f", past.MS), past.Address, what})
		for i := range rows[len(rows)-1] {
			rows[len(rows)-1][i] = outside.Cell(rows[len(rows)-1][i])
		}
	}
	fmt.Fprintf(c.Stdout, "%s  %d tests remembered\n\n", paint(c.Stdout, strong, name), len(list))
	fmt.Fprintf(c.Stdout, "  %s\n  each test's time, the newest last; × is a failed one\n\n", chart(times))
	report.Table(c.Stdout, []string{"when", "", "ms", "address", "result"}, rows, map[int]bool{2: true})
	if good, ok := checkup.LastGood(list); ok && !list[len(list)-1].OK && !list[len(list)-1].Once {
		fmt.Fprintf(c.Stdout, "\nThe last test that passed was %s ago. What was different at the first one that failed:\n", age(time.Since(good.When)))
		if len(since) == 0 {
			fmt.Fprintln(c.Stdout, "  nothing in this profile; so it is the server, or the network between")
		}
		for _, line := range since {
			report.Wrapped(c.Stdout, "  · ", "    ", outside.Cell(line))
		}
	}
	return nil
}
