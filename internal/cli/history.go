package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
)

var historyCommand = command{
	name: "history", synopsis: "NAME", about: "show the tests of a profile, and what changed since the last good one",
	examples: []string{"gharbor history huts/staging", "gharbor history huts/staging --json"},
	json:     true,
	run:      runHistory,
}

func runHistory(ctx context.Context, c *call) error {
	names, err := c.profiles()
	if err != nil {
		return err
	}
	if len(names) != 1 {
		return usage("history takes one name")
	}
	library, err := c.Library()
	if err != nil {
		return err
	}
	store, bare, err := c.found(library, names[0])
	if err != nil {
		return err
	}
	state, err := c.State()
	if err != nil {
		return err
	}
	list, err := harbor.HistoryIn(state).Read(store.Path(bare))
	if err != nil {
		return wrong("the history cannot be read: %v", err)
	}
	since := changesSince(list)
	if c.json {
		if list == nil {
			list = []checkup.Past{}
		}
		return writeJSON(c.Stdout, map[string]any{"profile": names[0], "tests": list, "changed": since})
	}
	if len(list) == 0 {
		fmt.Fprintf(c.Stdout, "%s was never tested.\n", names[0])
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
			state, what = "FAILED", past.Code
		}
		rows = append(rows, []string{past.When.Local().Format("2006-01-02 15:04:05"), state, fmt.Sprintf("%.1f", past.MS), past.Address, what})
		for i := range rows[len(rows)-1] {
			rows[len(rows)-1][i] = outside.Cell(rows[len(rows)-1][i])
		}
	}
	fmt.Fprintf(c.Stdout, "%s  %d tests remembered\n\n", paint(c.Stdout, strong, names[0]), len(list))
	fmt.Fprintf(c.Stdout, "  %s\n  each test's time, the newest last; × is a failed one\n\n", chart(times))
	rowsTable(c.Stdout, []string{"when", "", "ms", "address", "what came of it"}, rows, map[int]bool{2: true})
	if good, ok := checkup.LastGood(list); ok && !list[len(list)-1].OK && !list[len(list)-1].Once {
		fmt.Fprintf(c.Stdout, "\nThe last good one was %s ago. Between it and the first bad one after it changed:\n", age(time.Since(good.When)))
		if len(since) == 0 {
			fmt.Fprintln(c.Stdout, "  nothing of this profile; so it is the server, or the way to it")
		}
		for _, line := range since {
			wrapped(c.Stdout, "  · ", "    ", outside.Cell(line))
		}
	}
	return nil
}

// changesSince tells what was otherwise at the first bad test after the last good one.
func changesSince(list []checkup.Past) []string {
	lines := []string{}
	list = slices.DeleteFunc(slices.Clone(list), func(p checkup.Past) bool { return p.Once })
	for i := len(list) - 1; i > 0; i-- {
		if list[i-1].OK {
			if !list[i].OK {
				lines = append(lines, list[i-1].Differs(list[i])...)
			}
			break
		}
	}
	return lines
}

// age says how long ago something was, in one unit.
func age(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}
