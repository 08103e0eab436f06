package main

import "testing"

// TestMemoryLimit collects seldom up to the usual size, and beyond it no more often the more is
// in use.
func TestMemoryLimit(t *testing.T) {
	for live, want := range map[int64]int64{0: usualMemory, 10 << 20: usualMemory, 40 << 20: 100 << 20,
		60 << 20: 124 << 20, 1000 << 20: 1250 << 20} {
		if got := memoryLimit(live); got != want {
			t.Errorf("%d: %d", live, got)
		}
	}
}
