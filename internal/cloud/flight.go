package cloud

import (
	"context"
	"sync"
)

// flight lets several goroutines wait for one piece of work: who asks while it is under way gets
// its result. Nobody waits longer than its own context allows, and the work ends when nobody
// waits for it any more. No lock is held while it is under way.
type flight[T any] struct {
	mu  sync.Mutex
	now *underWay[T]
}

// underWay is one piece of work.
type underWay[T any] struct {
	done    chan struct{}
	waiting int
	stop    context.CancelFunc
	result  T
	err     error
}

// do joins the work that is under way, or begins it. The work's context has the values of the one
// that began it, and not its end.
func (f *flight[T]) do(ctx context.Context, work func(ctx context.Context) (T, error)) (result T, err error) {
	f.mu.Lock()
	u := f.now
	if u == nil {
		limited, stop := context.WithCancel(context.WithoutCancel(ctx))
		u = &underWay[T]{done: make(chan struct{}), stop: stop}
		f.now = u
		go func() {
			u.result, u.err = work(limited)
			f.mu.Lock()
			if f.now == u {
				f.now = nil
			}
			f.mu.Unlock()
			close(u.done)
			stop()
		}()
	}
	u.waiting++
	f.mu.Unlock()
	select {
	case <-u.done:
		return u.result, u.err
	case <-ctx.Done():
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if u.waiting--; u.waiting == 0 {
		u.stop()
		if f.now == u { // the next one begins anew
			f.now = nil
		}
	}
	return result, ctx.Err()
}
