package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/report"
)

// bars are the heights of a small chart.
var bars = []rune("▁▂▃▄▅▆▇█")

// chart draws values as bars between nothing and the greatest; a negative one is a failure, and
// drawn as ×.
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

// repeated tests one profile again and again and shows how the times of each leg spread.
func testRepeatedly(ctx context.Context, c *call, word, as string, times int) error {
	_, terminal := width(c.Stderr)
	all, err := c.Repeat(ctx, word, times, func(i int) {
		if terminal {
			fmt.Fprintf(bare(c.Stderr), "\r%d of %d", i+1, times)
		}
	})
	if terminal {
		fmt.Fprint(bare(c.Stderr), "\r\x1b[K")
	}
	if err != nil {
		return err
	}
	if as == "json" {
		result := map[string]any{"profile": all.To.Name, "times": times, "failed": all.Failed, "legs": all.Legs}
		if all.LastBad != nil {
			result["finding"] = all.LastBad.Finding
		}
		err = report.JSON(c.Stdout, result)
	} else {
		printRepeated(c, all)
	}
	if err == nil && all.LastBad != nil {
		return world.Error{Code: all.LastBad.Exit}
	}
	return err
}

func printRepeated(c *call, all harbor.Repeated) {
	e := all.To.Effective
	fmt.Fprintf(c.Stdout, "%s  %s, tested %d times, %d failed\n\n", paint(c.Stdout, strong, report.Title(e)),
		report.Describe(e), len(all.Totals), all.Failed)
	if len(all.Legs) > 0 {
		var rows [][]string
		for _, s := range all.Legs {
			rows = append(rows, []string{s.Leg, fmt.Sprintf("%.1f", s.Min), fmt.Sprintf("%.1f", s.Median),
				fmt.Sprintf("%.1f", s.P95), fmt.Sprintf("%.1f", s.Max)})
		}
		report.Table(c.Stdout, []string{"leg", "min ms", "median", "95th percentile", "max"}, rows,
			map[int]bool{1: true, 2: true, 3: true, 4: true})
		fmt.Fprintf(c.Stdout, "\n  %s  each test in turn; the highest bar is %.1f ms\n\n",
			chart(all.Totals[max(0, len(all.Totals)-80):]), slices.Max(all.Totals))
	}
	if all.LastBad != nil {
		report.Finding(c.Stdout, *all.LastBad.Finding, all.To.Name)
	}
}
