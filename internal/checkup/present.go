package checkup

import (
	"context"
	"time"
)

// present is the context of the leg that is walked at the moment. After an address that took the
// time of its leg up the next one has a context of its own, which what goes on with the loop over
// addresses must not miss: a name after one that was silent is looked up too. What is begun with
// it belongs to the leg of that moment.
type present struct{ walk *walk }

func (p present) now() context.Context {
	p.walk.mu.Lock()
	defer p.walk.mu.Unlock()
	return p.walk.ctx
}

// Deadline gives when the leg's time is over, so that what tries several things can share it.
func (p present) Deadline() (time.Time, bool) {
	p.walk.mu.Lock()
	defer p.walk.mu.Unlock()
	return p.walk.over, !p.walk.over.IsZero()
}

// Done implements context.Context.
func (p present) Done() <-chan struct{} { return p.now().Done() }

// Err implements context.Context.
func (p present) Err() error { return p.now().Err() }

// Value implements context.Context. The present context itself answers, so that what is derived
// from it hangs on that very one.
func (p present) Value(key any) any { return p.now().Value(key) }

// allow has the leg that is walked take so long from now on; 0 for as long as it likes, since a
// person is asked.
func (w *walk) allow(limit time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.over = time.Time{}
	if limit > 0 {
		w.over = time.Now().Add(limit)
	}
}

// slow ends the leg that is walked: its time is over.
func (w *walk) slow() {
	w.mu.Lock()
	cancel := w.cancel
	w.mu.Unlock()
	cancel(errSlow)
}
