package route

import (
	"context"
	"errors"
	"net"
	"testing"
	"time"
)

// TestDialEach gives a silent address its share of the time, and the others theirs.
func TestDialEach(t *testing.T) {
	refused := errors.New("refused")
	type call struct {
		address string
		share   time.Duration
	}
	dial := func(calls *[]call) func(ctx context.Context, address string) (net.Conn, error) {
		return func(ctx context.Context, address string) (net.Conn, error) {
			end, _ := ctx.Deadline()
			*calls = append(*calls, call{address, time.Until(end)})
			switch address {
			case "good":
				conn, _ := net.Pipe()
				return conn, nil
			case "silent":
				<-ctx.Done()
				return nil, ctx.Err()
			}
			return nil, refused
		}
	}
	for about, each := range map[string]struct {
		addresses []string
		good      bool
		tried     int
	}{
		"the first":             {[]string{"good", "refused"}, true, 1},
		"after a refusal":       {[]string{"refused", "good"}, true, 2},
		"after silence":         {[]string{"silent", "good"}, true, 2},
		"after two silent ones": {[]string{"silent", "silent", "good"}, true, 3},
		"none":                  {[]string{"refused", "refused"}, false, 2},
		"no address":            {nil, false, 0},
	} {
		ctx, cancel := context.WithTimeout(t.Context(), 4*time.Second)
		var calls []call
		conn, err := DialEach(ctx, each.addresses, dial(&calls))
		cancel()
		if (conn != nil) != each.good || len(calls) != each.tried ||
			!each.good && each.tried > 0 && !errors.Is(err, refused) {
			t.Errorf("%s: %v, %v", about, calls, err)
		}
		for i, c := range calls {
			if left := 4 * time.Second; c.share > left/time.Duration(min(len(each.addresses)-i, 2))+leastShare {
				t.Errorf("%s: %v", about, calls)
			}
		}
	}
	// Whoever interrupts does not wait for the others.
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	var calls []call
	if _, err := DialEach(ctx, []string{"silent", "good"}, dial(&calls)); !errors.Is(err, context.Canceled) ||
		len(calls) != 1 {
		t.Errorf("interrupted: %v, %v", calls, err)
	}
}

// TestSteps has silent names and addresses before a good one: each ends in its share, and the
// good one still has time.
func TestSteps(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), time.Hour)
	defer cancel()
	steps := NewSteps(ctx)
	defer steps.End()
	left := time.Hour
	for i := range 6 {
		end, has := steps.Deadline()
		if share := time.Until(end); !has || share > left/3+time.Second || share < left/3-time.Minute {
			t.Errorf("step %d: %s of %s", i, share, left)
		}
		// What was begun in a step ends with it; the next one is not touched.
		begun, stop := context.WithTimeout(steps, time.Hour)
		steps.Next()
		<-begun.Done()
		stop()
		if steps.Err() != nil {
			t.Fatal(steps.Err())
		}
	}
	cancel()
	if !errors.Is(steps.Err(), context.Canceled) {
		t.Errorf("the end of all: %v", steps.Err())
	}
	steps.Next()
	if steps.Err() == nil {
		t.Error("a step after the end")
	}
}
