package checkup

import (
	"context"
	"sync"
	"time"

	"gentle-harbor/internal/container"
	"gentle-harbor/internal/discover"
)

// Around is what the tests of one run see on this machine after a failure. What many tests look
// for at the same time is looked up once for all of them, and serves for a moment. The zero value
// has seen nothing yet.
type Around struct {
	servers    recent[[]Listener]
	containers recent[[]*container.Container]
	mu         sync.Mutex
	running    map[string]*recent[[]discover.Process] // by family of engines
}

// moment is how long something that was looked up counts as just now.
const moment = time.Second

// runs gives the servers of a family that run here.
func (a *Around) runs(ctx context.Context, family string) []discover.Process {
	a.mu.Lock()
	if a.running[family] == nil {
		if a.running == nil {
			a.running = map[string]*recent[[]discover.Process]{}
		}
		a.running[family] = &recent[[]discover.Process]{}
	}
	r := a.running[family]
	a.mu.Unlock()
	return r.get(ctx, func(context.Context) []discover.Process { return discover.Running(family) })
}

// recent is a value that is looked up for all who ask within a moment.
type recent[T any] struct {
	mu    sync.Mutex
	value T
	until time.Time     // how long the value serves
	busy  chan struct{} // closed when who looks now is done; nil while nobody does
	clock func() time.Time
}

func (r *recent[T]) now() time.Time {
	if r.clock != nil {
		return r.clock()
	}
	return time.Now()
}

// get gives the value, its zero value where ctx ends before another has found it. What look finds
// until its ctx ends is shared with those who wait for it, and only what it finds in time serves
// longer.
func (r *recent[T]) get(ctx context.Context, look func(ctx context.Context) T) (value T) {
	r.mu.Lock()
	switch {
	case r.now().Before(r.until):
		defer r.mu.Unlock()
		return r.value
	case r.busy != nil:
		busy := r.busy
		r.mu.Unlock()
		select {
		case <-busy:
		case <-ctx.Done():
			return value
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		return r.value
	}
	busy := make(chan struct{})
	r.busy = busy
	r.mu.Unlock()
	value = look(ctx)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.value, r.busy = value, nil; ctx.Err() == nil {
		r.until = r.now().Add(moment)
	}
	close(busy)
	return value
}
