package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/shell"
)

var historyCommand = command{
	name: "history", synopsis: "NAME", about: "show the tests of a profile, and what changed since the last good one",
	examples: []string{"gharbor history huts/staging", "gharbor history huts/staging --json",
		"gharbor history huts/staging --as html --to history.html"},
	json:    true,
	options: optionsOf[historyOptions],
}

type historyOptions struct{ reported }

func (o *historyOptions) flags(fs flagSet, _ *harbor.Run) {
	fs.wordFlag("as", []string{"text", "json", "html"}, "text", &o.as)
	fs.textFlag("to", &o.to)
}

func (o *historyOptions) run(_ context.Context, c *call) error {
	name, err := c.profile()
	if err == nil {
		err = o.fits(c)
	}
	if err != nil {
		return err
	}
	list, since, err := c.History(name)
	if err != nil {
		return err
	}
	return o.printed(c, func(out io.Writer) error {
		switch o.as {
		case "json":
			if list == nil {
				list = []checkup.Past{}
			}
			return report.JSON(out, map[string]any{"profile": name, "tests": list, "changed": since})
		case "html":
			return report.HTMLHistory(out, c.Now(), name, list, since)
		}
		printHistory(out, name, list, since)
		return nil
	})
}

// printHistory prints the tests of a profile for people.
func printHistory(w io.Writer, name string, list []checkup.Past, since []string) {
	if len(list) == 0 {
		fmt.Fprintf(w, "%s was never tested. gharbor test %s tests it.\n", name, shell.Word(name))
		return
	}
	const shownRuns = 20
	var rows [][]string
	var times []float64
	for _, past := range list[max(0, len(list)-60):] {
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
		rows = append(rows, []string{past.When.Local().Format("2006-01-02 15:04:05"), state,
			fmt.Sprintf("%.1f", past.MS), past.Address, what})
		for i := range rows[len(rows)-1] {
			rows[len(rows)-1][i] = outside.Cell(rows[len(rows)-1][i])
		}
	}
	fmt.Fprintf(w, "%s  %d tests remembered\n\n", paint(w, strong, name), len(list))
	fmt.Fprintf(w, "  %s  bars from 0 to %.1f ms, the newest last; × is a failed test\n\n", chart(times),
		slices.Max(append([]float64{0}, times...)))
	report.Table(w, []string{"when", "", "ms", "address", "result"}, rows, map[int]bool{2: true})
	last := list[len(list)-1]
	future := 0
	for _, past := range list {
		if past.When.After(time.Now().Add(tooEarly)) {
			future++
		}
	}
	if future > 0 {
		fmt.Fprintln(w)
		report.Wrapped(w, "note: ", "      ",
			fmt.Sprintf("The clock of this machine was ahead: the times of %s are still to come.",
				report.Count(int64(future), "test")))
	}
	if last.OK {
		return
	}
	fmt.Fprintln(w)
	report.Wrapped(w, "", "  ", "The last test failed: "+paint(w, bad, last.Told().Cause))
	if good, ok := checkup.LastGood(list); ok && !last.Once {
		fmt.Fprintf(w, "The last test that passed was %s. What was different at the first one that failed:\n",
			timeAgo(good.When, time.Now()))
		if len(since) == 0 {
			fmt.Fprintln(w, "  nothing in this profile; so it is the server, or the network between")
		}
		for _, line := range since {
			report.Wrapped(w, "  · ", "    ", outside.Cell(line))
		}
	}
}
