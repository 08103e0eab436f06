package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
)

var awaitCommand = command{
	name: "await", synopsis: "NAME…", about: "test until all pass, or until the time is over",
	text: `It ends immediately on what waiting cannot fix (a refused login, a missing database, a changed host key), unless
--keep-waiting is given. At a terminal one line is kept up to date; elsewhere each change of state is a line. At the end it says why it
ended, and after how many tests.`,
	examples: []string{"gharbor await huts/local --for 60s", "gharbor await huts/ --every 500ms --for 2m"},
	settings: true, connects: true, json: true,
	options: optionsOf[awaitOptions],
}

type awaitOptions struct {
	choice
	span, every time.Duration
	keepWaiting bool
}

func (o *awaitOptions) flags(fs flagSet, run *harbor.Run) {
	o.choice.flags(fs, run)
	fs.spanFlag("for", time.Minute, &o.span)
	fs.spanFlag("every", time.Second, &o.every)
	fs.onFlag("keep-waiting", &o.keepWaiting)
}

func (o *awaitOptions) run(ctx context.Context, c *call) error {
	if o.every < 10*time.Millisecond {
		return usage("--every is at least 10ms, such as --every 1s")
	}
	words, err := c.chosen(o.choice)
	if err != nil {
		return err
	}
	all, err := c.AimsWithSecrets(ctx, words)
	if err != nil {
		return err
	}
	teller := &teller{out: c.Stderr, began: time.Now()}
	err = harbor.Waiting{Run: c.Run, For: o.span, Every: o.every, Parallel: o.parallel, Whatever: o.keepWaiting,
		Told: teller.tell}.Await(ctx, all)
	teller.end()
	if err != nil {
		return err
	}
	for _, one := range all {
		if r := one.Report; r != nil && r.Awaited != nil {
			fmt.Fprintln(c.Stderr, outside.Cell(one.Word)+" "+endedWords(r, o.span))
		}
	}
	form := reported{}
	if c.json {
		form.as = "json"
	}
	return form.print(c, all)
}

// endedWords says why a waiting ended, and after how many tests.
func endedWords(r *checkup.Report, span time.Duration) string {
	tests := fmt.Sprintf("%d tests", r.Awaited.Tests)
	if r.Awaited.Tests == 1 {
		tests = "1 test"
	}
	switch r.Awaited.Ended {
	case checkup.Passed:
		return "passed after " + tests
	case checkup.Hopeless:
		return fmt.Sprintf("ended after %s: waiting does not help with %s (with --keep-waiting it goes on)", tests, r.Code())
	}
	return fmt.Sprintf("ended after %s: the time was over (--for %s), and the last one failed with %s", tests,
		span, r.Code())
}

// teller says how the waiting goes: one line at a terminal, a line for each change elsewhere.
type teller struct {
	mu     sync.Mutex
	out    io.Writer
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
	columns, terminal := width(t.out)
	if terminal {
		var parts []string
		for _, each := range t.order {
			parts = append(parts, outside.Cell(each)+": "+t.states[each])
		}
		line := []rune(fmt.Sprintf("%3.0f s, %d tests; %s", time.Since(t.began).Seconds(), t.tests,
			strings.Join(parts, ", ")))
		fmt.Fprintf(bare(t.out), "\r\x1b[K%s", string(line[:min(len(line), columns-1)]))
		return
	}
	if old != code {
		fmt.Fprintf(t.out, "%5.1f s  %s: %s\n", time.Since(t.began).Seconds(), outside.Cell(word), code)
	}
}

func (t *teller) end() {
	if _, terminal := width(t.out); terminal {
		fmt.Fprint(bare(t.out), "\r\x1b[K")
	}
}
