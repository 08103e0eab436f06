package world

import (
	"context"
	"slices"
	"sync"

	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Typed remembers what was typed in this run, so that a profile that is tested again does not ask
// again. What was typed serves the one target that it was typed for; for another one of the same
// user and place, a person is asked whether it may be used there too. Several tests at the same
// time ask one after the other.
type Typed struct {
	mu    sync.Mutex
	known []typedSecret
}

type typedSecret struct {
	dest   target.Target
	secret secret.Secret
}

// same reports whether two targets are one.
func same(a, b target.Target) bool {
	return a.Key() == b.Key() && a.TLS == b.TLS && a.SameTrust(b) && a.Strange == b.Strange
}

// Asking gives what asks for the secret of a target: ask has it typed, and offer asks whether one
// that was typed for another target may be used.
func (t *Typed) Asking(ask func(context.Context, target.Target) (secret.Secret, error),
	offer func(ctx context.Context, typed, now target.Target) (bool, error)) func(context.Context,
	target.Target) (secret.Secret, error) {
	return func(ctx context.Context, dest target.Target) (secret.Secret, error) {
		t.mu.Lock()
		defer t.mu.Unlock()
		for _, each := range t.known {
			if same(each.dest, dest) {
				return each.secret, nil
			}
		}
		for _, each := range slices.Backward(t.known) {
			if offer == nil || each.dest.User != dest.User || each.dest.Place() != dest.Place() {
				continue
			}
			yes, err := offer(ctx, each.dest, dest)
			if err != nil {
				return secret.Secret{}, err
			}
			if yes {
				t.known = append(t.known, typedSecret{dest, each.secret})
				return each.secret, nil
			}
			break
		}
		s, err := ask(ctx, dest)
		if err == nil {
			t.known = append(t.known, typedSecret{dest, s})
		}
		return s, err
	}
}

// Of gives what was typed for a target, and whether anything was.
func (t *Typed) Of(dest target.Target) (secret.Secret, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, each := range t.known {
		if same(each.dest, dest) {
			return each.secret, true
		}
	}
	return secret.Secret{}, false
}

// Forget drops what was typed: the server refused it.
func (t *Typed) Forget() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.known = nil
}

// Move has what was typed for one target serve another one of the same user: it was sent to
// neither.
func (t *Typed) Move(from, to target.Target) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for i, each := range t.known {
		if same(each.dest, from) && from.User == to.User {
			t.known[i].dest = to
		}
	}
}

// OneAtATime keeps other questions for secrets waiting until done is called.
func (t *Typed) OneAtATime() (done func()) {
	t.mu.Lock()
	return t.mu.Unlock
}
