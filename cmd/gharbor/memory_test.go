package main

import "testing"

// TestMemoryLimit collects seldom up to the usual size, and beyond it no more often the more is in use.
func TestMemoryLimit(t *testing.T) {
	for live, want := range map[int64]int64{0: usualMemory, 10 << 20: usualMemory, 60 << 20: 150 << 20, 1000 << 20: 1442 << 20} {
		if got := memoryLimit(live); got != want {
			t.Errorf("%d: %d", live, got)
		}
	}
}
