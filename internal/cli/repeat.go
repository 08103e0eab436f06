package cli

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/report"
)

// bars are the heights of a small chart.
var bars = []rune("▁▂▃▄▅▆▇█")

// chart draws values as bars between nothing and the greatest; a negative one is a failure, and drawn as ×.
func chart(values []float64) string {
	top := slices.Max(append([]float64{0}, values...))
	var b strings.Builder
	for _, v := range values {
		switch {
		case v < 0:
			b.WriteRune('×')
		case top == 0:
			b.WriteRune(bars[0])
		default:
			b.WriteRune(bars[min(len(bars)-1, int(v/top*float64(len(bars))))])
		}
	}
	return b.String()
}

// share gives the value below which a part of sorted values lies (nearest rank).
func share(sorted []float64, part float64) float64 {
	return sorted[max(0, int(math.Ceil(part*float64(len(sorted))))-1)]
}

// repeated tests one profile again and again and shows how the times of each leg spread. The secret is found
// anew each time, but typed once.
func (c *call) repeated(ctx context.Context, word string) error {
	to, err := c.Aim(ctx, word, false)
	if err != nil {
		return err
	}
	times := map[string][]float64{}
	var order []string
	var totals []float64
	failed := 0
	var last *checkup.Report
	for i := range c.repeat {
		report, err := c.Test(ctx, to, nil)
		if err != nil {
			return err
		}
		if _, terminal := width(c.Stderr); terminal {
			fmt.Fprintf(bare(c.Stderr), "\r%d of %d", i+1, c.repeat)
		}
		if !report.OK {
			failed++
			last = report
			totals = append(totals, -1)
			continue
		}
		totals = append(totals, report.MS)
		for _, leg := range report.Legs {
			if times[leg.Name] == nil {
				order = append(order, leg.Name)
			}
			times[leg.Name] = append(times[leg.Name], leg.MS)
		}
	}
	if _, terminal := width(c.Stderr); terminal {
		fmt.Fprint(bare(c.Stderr), "\r\x1b[K")
	}
	type spread struct {
		Leg    string  `json:"leg"`
		Min    float64 `json:"min_ms"`
		Median float64 `json:"median_ms"`
		P95    float64 `json:"p95_ms"`
		Max    float64 `json:"max_ms"`
	}
	var spreads []spread
	var rows [][]string
	good := slices.DeleteFunc(slices.Clone(totals), func(v float64) bool { return v < 0 })
	if len(good) > 0 {
		times["all"] = good
		order = append(order, "all")
	}
	for _, name := range order {
		sorted := slices.Sorted(slices.Values(times[name]))
		s := spread{name, sorted[0], share(sorted, 0.5), share(sorted, 0.95), sorted[len(sorted)-1]}
		spreads = append(spreads, s)
		rows = append(rows, []string{name, fmt.Sprintf("%.1f", s.Min), fmt.Sprintf("%.1f", s.Median), fmt.Sprintf("%.1f", s.P95), fmt.Sprintf("%.1f", s.Max)})
	}
	if c.as == "json" {
		result := map[string]any{"profile": to.Name, "times": c.repeat, "failed": failed, "legs": spreads}
		if last != nil {
			result["finding"] = last.Finding
		}
		if err := writeJSON(c.Stdout, result); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(c.Stdout, "%s  %s, tested %d times, %d failed\n\n", paint(c.Stdout, strong, report.Title(to.Effective)), report.Describe(to.Effective), c.repeat, failed)
		if len(rows) > 0 {
			rowsTable(c.Stdout, []string{"leg", "least ms", "median", "95 of 100 below", "most"}, rows, map[int]bool{1: true, 2: true, 3: true, 4: true})
			fmt.Fprintf(c.Stdout, "\n  %s  each test in turn; the highest bar is %.1f ms\n\n", chart(totals[max(0, len(totals)-80):]), slices.Max(good))
		}
		if last != nil {
			printFinding(c.Stdout, *last.Finding, to.Name)
		}
	}
	if last != nil {
		return exit{Code: last.Exit}
	}
	return nil
}
