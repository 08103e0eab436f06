package person

import (
	"bytes"
	"context"
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/harbor/world"
)

func TestTerminalLines(t *testing.T) {
	var out bytes.Buffer
	paused, resumed := 0, 0
	p := &Terminal{In: strings.NewReader("  one \r\ntwo\nthree"), Out: &out, Pause: func() func() {
		paused++
		return func() { resumed++ }
	}}
	if p.Here() {
		t.Error("a buffer is a person")
	}
	for _, want := range []string{"one", "two", "three"} {
		if got, err := p.Ask(t.Context(), "? "); err != nil || got != want {
			t.Errorf("%q, %v", got, err)
		}
	}
	if _, err := p.Ask(t.Context(), "? "); !errors.Is(err, world.ErrLeft) || paused != 4 || resumed != 4 {
		t.Errorf("%v, paused %d times", err, paused)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	waits, writer := io.Pipe()
	defer writer.Close()
	if _, err := (&Terminal{In: waits, Out: &out}).Ask(ctx, "? "); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("%v", err)
	}
}
