package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/harbor"
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
	all := make([]*harbor.One, len(words))
	for i, word := range words {
		to, err := c.Aim(ctx, word, len(words) > 1)
		if err != nil {
			return err
		}
		// The secret is found once, before anybody waits.
		if to, err = c.FindOnce(ctx, to); err != nil {
			return err
		}
		all[i] = &harbor.One{Word: word, To: to}
	}
	teller := &teller{call: c, began: time.Now()}
	err = c.Await(ctx, all, harbor.Waiting{For: c.span, Every: c.every, Parallel: c.parallel, Whatever: c.whatever, Told: teller.tell})
	teller.end()
	if err != nil {
		return err
	}
	if c.json || c.as == "json" {
		c.as = "json"
	}
	return c.reported(all)
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
