package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

var awaitCommand = command{
	name: "await", synopsis: "NAME…", about: "test until all pass, or for as long as is said",
	text: `It ends at once on what waiting cannot mend (a refused login, a missing database), unless --whatever is given. At a
terminal one line is kept up to date; elsewhere each change of state is a line.`,
	examples: []string{"gharbor await huts/local --for 60s", "gharbor await huts/ --every 500ms --for 2m"},
	settings: true, connects: true, json: true,
	flags: func(fs *flag.FlagSet, c *call) {
		c.choosing(fs)
		fs.DurationVar(&c.span, "for", time.Minute, "how long to go on")
		fs.DurationVar(&c.every, "every", time.Second, "how long to pause between two tests of a profile")
		fs.BoolVar(&c.whatever, "whatever", false, "go on after what waiting cannot mend, too")
	},
	run: runAwait,
}

func runAwait(ctx context.Context, c *call) error {
	if c.span <= 0 || c.every < 10*time.Millisecond {
		return usage("--for is more than nothing, and --every at least 10ms")
	}
	words, err := c.chosen()
	if err != nil {
		return err
	}
	all := make([]*tried, len(words))
	for i, word := range words {
		to, err := c.target(ctx, word, len(words) > 1)
		if err != nil {
			return err
		}
		// The secret is found once, before anybody waits.
		found, err := c.foundOnce(ctx, to)
		if err != nil {
			return err
		}
		all[i] = &tried{word: word, to: found}
	}
	began := time.Now()
	within, cancel := context.WithDeadline(ctx, began.Add(c.span))
	defer cancel()
	teller := &teller{call: c, began: began}
	var group errgroup.Group
	group.SetLimit(max(1, orDefault(c.parallel, 8)) + len(all)) // each waits on its own; --parallel bounds the tests
	tests := make(chan bool, orDefault(c.parallel, 8))
	for _, one := range all {
		group.Go(func() error { return c.awaitOne(ctx, within, one, tests, teller) })
	}
	err = group.Wait()
	teller.end()
	if err != nil {
		return err
	}
	if c.json || c.as == "json" {
		c.as = "json"
	}
	return c.reported(all)
}

// awaitOne tests a profile until it passes, waiting cannot mend it, or the time is over.
func (c *call) awaitOne(ctx, within context.Context, one *tried, tests chan bool, teller *teller) error {
	for {
		// The first test of a profile waits for its turn however long that takes: without one there is nothing to report.
		over := within.Done()
		if one.report == nil {
			over = nil
		}
		select {
		case tests <- true:
		case <-over:
			return ctx.Err()
		case <-ctx.Done():
			return ctx.Err()
		}
		report, err := c.awaited(ctx, one)
		<-tests
		if err != nil {
			return err
		}
		teller.tell(one.word, report.Code())
		one.report = report
		if report.OK {
			return nil
		}
		if entry, _ := finding.Lookup(report.Code()); !entry.Mends && !c.whatever {
			return nil
		}
		select {
		case <-time.After(c.every):
		case <-within.Done():
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return nil
		}
	}
}

// awaited makes one test. What is around is looked at when the state is a new one; as long as it stays the same,
// what was seen the first time still stands.
func (c *call) awaited(ctx context.Context, one *tried) (*checkup.Report, error) {
	if !one.to.admitted.OK() {
		return checkup.NotAgreed(one.to.Effective, one.to.notAgreed), nil
	}
	checker := c.checker(one.to.known)
	checker.Before = one.to.before
	if one.report == nil {
		return checker.Test(ctx, one.to.admitted)
	}
	checker.NoEvidence = true
	report, err := checker.Test(ctx, one.to.admitted)
	switch {
	case err != nil || report.OK:
		return report, err
	case report.Code() == one.report.Code():
		report.Finding.Seen, report.Finding.Try = one.report.Finding.Seen, one.report.Finding.Try
		return report, nil
	}
	checker.NoEvidence = false
	return checker.Test(ctx, one.to.admitted)
}

// foundOnce finds a profile's secret, so that waiting asks nobody again and runs no program again. What keeps
// it from being found is the tests' to say.
func (c *call) foundOnce(ctx context.Context, to aim) (aim, error) {
	if !to.admitted.OK() || len(to.Problems) > 0 {
		return to, nil
	}
	found, err := c.checker(to.known).Find(ctx, to.admitted)
	var problem *finding.Problem
	switch {
	case errors.As(err, &problem):
		return to, nil
	case err != nil:
		return to, err
	}
	to.before = &found
	return to, nil
}

// teller says how the waiting goes: one line at a terminal, a line for each change elsewhere.
type teller struct {
	mu     sync.Mutex
	call   *call
	began  time.Time
	states map[string]string
	order  []string
	tests  int
}

func (t *teller) tell(word, code string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.tests++
	if code == "" {
		code = "ok"
	}
	if t.states == nil {
		t.states = map[string]string{}
	}
	old, known := t.states[word]
	if !known {
		t.order = append(t.order, word)
	}
	t.states[word] = code
	columns, terminal := width(t.call.Stderr)
	if terminal {
		var parts []string
		for _, each := range t.order {
			parts = append(parts, outside.Cell(each)+": "+t.states[each])
		}
		line := []rune(fmt.Sprintf("%3.0f s, %d tests; %s", time.Since(t.began).Seconds(), t.tests, strings.Join(parts, ", ")))
		fmt.Fprintf(bare(t.call.Stderr), "\r\x1b[K%s", string(line[:min(len(line), columns-1)]))
		return
	}
	if old != code {
		fmt.Fprintf(t.call.Stderr, "%5.1f s  %s: %s\n", time.Since(t.began).Seconds(), outside.Cell(word), code)
	}
}

func (t *teller) end() {
	if _, terminal := width(t.call.Stderr); terminal {
		fmt.Fprint(bare(t.call.Stderr), "\r\x1b[K")
	}
}
