package route

import (
	"context"
	"sync"
	"time"
)

// Steps is the context of what tries one thing after the other, such as the names and the
// addresses of a server, without knowing how many there are: each step has a third of the time
// that is left, so that a silent one leaves time for those after it. It is for one goroutine that
// goes on to the next step; what is begun with it belongs to the step of that moment.
type Steps struct {
	parent context.Context

	mu     sync.Mutex
	step   context.Context
	cancel context.CancelFunc
}

// NewSteps gives steps within ctx, which should have a deadline. The first has begun.
func NewSteps(ctx context.Context) *Steps {
	s := &Steps{parent: ctx}
	s.Next()
	return s
}

// Next ends the step, and begins the next one.
func (s *Steps) Next() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cancel != nil {
		s.cancel()
	}
	if end, has := s.parent.Deadline(); has {
		s.step, s.cancel = context.WithTimeout(s.parent, max(time.Until(end)/3, leastShare))
		return
	}
	s.step, s.cancel = context.WithCancel(s.parent)
}

// End ends the step, and with it all.
func (s *Steps) End() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.cancel()
}

func (s *Steps) now() context.Context {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.step
}

// Deadline gives when the step's time is over.
func (s *Steps) Deadline() (time.Time, bool) { return s.now().Deadline() }

// Done implements context.Context.
func (s *Steps) Done() <-chan struct{} { return s.now().Done() }

// Err implements context.Context.
func (s *Steps) Err() error { return s.now().Err() }

// Value implements context.Context. The step itself answers, so that what is derived from it
// hangs on that very step, and not on whichever is the present one when it ends.
func (s *Steps) Value(key any) any { return s.now().Value(key) }
