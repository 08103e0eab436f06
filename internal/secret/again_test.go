//go:build unix

package secret

import (
	"context"
	"errors"
	"testing"
	"time"
)

// TestCommandEnds runs programs that do not want to end.
func TestCommandEnds(t *testing.T) {
	run := func(ctx context.Context, script string) (Secret, time.Duration, error) {
		began := time.Now()
		s, _, err := Finder{}.Find(ctx, Want{Ref: Reference{Kind: Command, Args: []string{"sh", "-c", script}}})
		return s, time.Since(began), err
	}
	if s, took, err := run(t.Context(), "sleep 30 & printf "+canary); err != nil || s.Reveal() != canary ||
		took > 8*time.Second {
		t.Errorf("a child that holds the output: %v after %s", err, took)
	}
	if _, took, err := run(t.Context(), "yes"); err == nil || took > 8*time.Second {
		t.Errorf("endless output: %v after %s", err, took)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	if _, took, err := run(ctx, "trap '' TERM; sleep 30; sleep 30"); !errors.Is(err,
		context.DeadlineExceeded) || took > 8*time.Second {
		t.Errorf("interrupted: %v after %s", err, took)
	}
}
