package harbor

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// One is a profile among several, and how its test went; Err is for one that could not be read.
type One struct {
	Word   string // as it was named
	To     Aim
	Report *checkup.Report
	Err    error
	// Written is the report as it was written before it was let go, nil where it is whole.
	Written []byte
}

// LetGo keeps of a test that has ended what a table shows, and what was written of it: of many
// the rest would take too much memory.
func (one *One) LetGo(written []byte) {
	one.Written, one.To = written, Aim{}
	if one.Report != nil {
		one.Report = one.Report.Brief()
	}
}

// usual is how many tests run side by side where nobody says.
const usual = 8

// Aims takes the words of several profiles; one that cannot be read has its error. Any other
// error ends it.
func (r Run) Aims(ctx context.Context, words []string) ([]*One, error) {
	all := make([]*One, len(words))
	l, err := r.loader()
	if err != nil {
		return nil, err
	}
	l.changed = &changed{}
	defer l.changed.remark(r)
	l.ahead(slices.DeleteFunc(slices.Clone(words), func(word string) bool {
		return word == "-" || profile.IsConnectionString(word)
	}))
	for i, word := range words {
		all[i] = &One{Word: word}
		to, err := r.aim(ctx, word, true, func() (Aim, error) { return l.load(ctx, word, true) })
		var e world.Error
		switch {
		case errors.As(err, &e) && e.Code == world.ExitSettings:
			all[i].Err = err
		case err != nil:
			return nil, err
		}
		all[i].To = to
	}
	return all, nil
}

// AimsWithSecrets is Aims for a run that tests each profile again and again: the secrets are
// found once, before anybody waits, and any error ends it.
func (r Run) AimsWithSecrets(ctx context.Context, words []string) ([]*One, error) {
	all := make([]*One, len(words))
	l, err := r.loader()
	if err != nil {
		return nil, err
	}
	l.changed = &changed{}
	defer l.changed.remark(r)
	for i, word := range words {
		to, err := r.aim(ctx, word, len(words) > 1, func() (Aim, error) { return l.load(ctx, word, len(words) > 1) })
		if err != nil {
			return nil, err
		}
		if to, err = r.FindOnce(ctx, to); err != nil {
			return nil, err
		}
		all[i] = &One{Word: word, To: to}
	}
	return all, nil
}

// TestAll tests profiles side by side, at most parallel of them (0 for the usual number). Secrets
// that a person types are asked for one after the other. Where a server says that it is full
// while other tests of this run were at it, the test is made once more when all others are done,
// one after the other. Done is called as each ends, never twice at the same time.
func (r Run) TestAll(ctx context.Context, all []*One, parallel int, done func(i int)) error {
	silences := &sync.Map{}
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(atOnce(parallel))
	var mu sync.Mutex
	at := map[string]int{} // how many tests are at each place now
	beside := func(place string, more int) int {
		mu.Lock()
		defer mu.Unlock()
		at[place] += more
		return at[place]
	}
	again := map[int]int{} // those for which there was no room, and beside how many others
	for i, one := range all {
		if one.Err != nil {
			mu.Lock()
			done(i)
			mu.Unlock()
			continue
		}
		group.Go(func() error {
			to := one.To
			before := beside(to.Place(), 1) - 1
			report, err := r.Test(within, to, silences)
			others := max(before, beside(to.Place(), -1)) // those that were at it, or are now
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			if one.Report = report; others > 0 && slices.Contains(full, report.Code()) {
				again[i] = others
				return nil
			}
			done(i)
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	waits := mostWaits
	for _, i := range slices.Sorted(maps.Keys(again)) {
		one := all[i]
		report, err := r.Test(ctx, one.To, silences)
		for ; err == nil && waits > 0 && slices.Contains(full, report.Code()); waits-- {
			select {
			case <-time.After(leaving):
			case <-ctx.Done():
				return ctx.Err()
			}
			report, err = r.Test(ctx, one.To, silences)
		}
		if err != nil {
			return err
		}
		report.Crowded = again[i]
		report.Notes = append(report.Notes,
			fmt.Sprintf("The server had no room while %s of this run were at it; this is the result of a test by itself.",
				otherTests(again[i])))
		one.Report = report
		done(i)
	}
	return nil
}

// A server may count a session for a moment after its client has gone: a full one is given that long,
// so many times in one run.
const (
	leaving   = 200 * time.Millisecond
	mostWaits = 5
)

func otherTests(n int) string {
	if n == 1 {
		return "another test"
	}
	return fmt.Sprintf("%d other tests", n)
}

// full are what a server says that has no room for a further connection.
var full = []finding.Code{finding.DatabaseTooManyConnections, finding.DatabaseUserLimit, finding.DatabaseBaseLimit}

func atOnce(parallel int) int {
	if parallel > 0 {
		return parallel
	}
	return usual
}

// Waiting tests profiles until they pass.
type Waiting struct {
	Run        Run
	For, Every time.Duration
	Parallel   int  // how many tests side by side, 0 for the usual number
	Whatever   bool // go on after what waiting cannot fix, too
	// Told is called after each test with the finding's code, "" for a good one; never twice at
	// the same time.
	Told func(word, code string)
}

// Await tests each profile until it passes, until waiting cannot fix what is wrong, or until the
// time is over. The profiles' secrets are to be found already ([Run.FindOnce]).
func (how Waiting) Await(ctx context.Context, all []*One) error {
	within, cancel := context.WithTimeout(ctx, how.For)
	defer cancel()
	turns := make(chan bool, atOnce(how.Parallel))
	var mu sync.Mutex
	told := how.Told
	how.Told = func(word, code string) {
		mu.Lock()
		defer mu.Unlock()
		told(word, code)
	}
	var group errgroup.Group // each waits on its own; turns bound the tests
	for _, one := range all {
		group.Go(func() error { return how.one(ctx, within, one, turns) })
	}
	return group.Wait()
}

func (how Waiting) one(ctx, within context.Context, one *One, turns chan bool) error {
	for tests := 0; ; {
		// The first test of a profile waits for its turn however long that takes: without one
		// there is nothing to report.
		over := within.Done()
		if one.Report == nil {
			over = nil
		}
		select {
		case turns <- true:
		case <-over:
			return ctx.Err()
		case <-ctx.Done():
			return ctx.Err()
		}
		report, err := how.Run.TestAgain(ctx, one.To, one.Report)
		<-turns
		if err != nil {
			return err
		}
		how.Told(one.Word, string(report.Code()))
		one.Report = report
		tests++
		report.Awaited = &checkup.Awaited{Tests: tests, Ended: checkup.TimeOver}
		switch {
		case report.OK:
			report.Awaited.Ended = checkup.Passed
			how.Run.remember(ctx, one.To, report) // those that failed on the way are no results
			return nil
		case !report.Waits() && !how.Whatever:
			report.Awaited.Ended = checkup.Hopeless
			return nil
		}
		select {
		case <-time.After(how.Every):
		case <-within.Done():
			return ctx.Err()
		}
	}
}

// ExitOf gives the exit code of several tests: that of the failed ones when they fail alike, else
// 1; 0 when none failed.
func ExitOf(all []*One) int {
	code := 0
	for _, one := range all {
		exit := world.ExitSettings
		if one.Err == nil {
			exit = one.Report.Exit
		}
		switch {
		case exit == 0 || exit == code:
		case code == 0:
			code = exit
		default:
			code = finding.ExitMixed
		}
	}
	return code
}
