package checkup

import (
	"context"
	"sync"
	"testing"
	"time"
)

// TestRecent has many ask at the same time, one of them while nothing comes, and after a moment.
func TestRecent(t *testing.T) {
	now := time.Unix(1_700_000_000, 0)
	r := &recent[int]{clock: func() time.Time { return now }}
	looked := 0
	began, goOn := make(chan bool), make(chan bool)
	look := func(context.Context) int {
		looked++
		close(began)
		<-goOn
		return looked
	}
	var all sync.WaitGroup
	got := make([]int, 20)
	all.Go(func() { got[0] = r.get(t.Context(), look) })
	<-began
	for i := range got[1:] {
		all.Go(func() { got[i+1] = r.get(t.Context(), look) })
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	if n := r.get(over, look); n != 0 {
		t.Errorf("one who does not wait has %d", n)
	}
	close(goOn)
	all.Wait()
	for i, n := range got {
		if n != 1 {
			t.Errorf("%d has %d", i, n)
		}
	}
	again := func(context.Context) int { looked++; return looked }
	if n := r.get(t.Context(), again); n != 1 {
		t.Errorf("within the moment: %d", n)
	}
	now = now.Add(moment)
	if n := r.get(over, again); n != 2 {
		t.Errorf("after the moment: %d", n)
	}
	if n := r.get(t.Context(), again); n != 3 {
		t.Errorf("after a look that did not end in time: %d", n)
	}
}
