package harbor

import (
	"context"
	"math"
	"slices"

	"gentle-harbor/internal/checkup"
)

// Spread is how the times of a leg spread over several tests, in milliseconds; the leg "all" is
// the whole test.
type Spread struct {
	Leg    string  `json:"leg"`
	Min    float64 `json:"min_ms"`
	Median float64 `json:"median_ms"`
	P95    float64 `json:"p95_ms"`
	Max    float64 `json:"max_ms"`
}

// Repeated is the result of testing one profile several times.
type Repeated struct {
	To      Aim
	Legs    []Spread  // of the tests that passed
	Totals  []float64 // each test's time, -1 for one that failed
	Failed  int
	LastBad *checkup.Report // nil when all passed
}

// Repeat tests one profile a number of times. The secret is found anew each time, but typed once.
// Done is called after each test.
func (r Run) Repeat(ctx context.Context, word string, times int, done func(i int)) (Repeated, error) {
	var all Repeated
	var err error
	if all.To, err = r.Aim(ctx, word, false); err != nil {
		return all, err
	}
	legs := map[string][]float64{}
	var order []string
	var good []float64
	for i := range times {
		report, err := r.Test(ctx, all.To, nil)
		if err != nil {
			return all, err
		}
		done(i)
		if !report.OK {
			all.Failed++
			all.LastBad = report
			all.Totals = append(all.Totals, -1)
			continue
		}
		all.Totals, good = append(all.Totals, report.MS), append(good, report.MS)
		for _, leg := range report.Legs {
			if legs[leg.Name] == nil {
				order = append(order, leg.Name)
			}
			legs[leg.Name] = append(legs[leg.Name], leg.MS)
		}
	}
	if len(good) > 0 {
		legs["all"] = good
		order = append(order, "all")
	}
	for _, name := range order {
		sorted := slices.Sorted(slices.Values(legs[name]))
		all.Legs = append(all.Legs, Spread{name, sorted[0], share(sorted, 0.5), share(sorted, 0.95), sorted[len(sorted)-1]})
	}
	return all, nil
}

// share gives the value below which a part of sorted values lies (nearest rank).
func share(sorted []float64, part float64) float64 {
	return sorted[max(0, int(math.Ceil(part*float64(len(sorted))))-1)]
}
