package main

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
)

// usualMemory is up to where memory is collected seldom, in bytes. Beyond it the limit is a quarter more than what is in use: with a fixed limit a run that needs more would do
// little else than collect.
const usualMemory = 48 << 20

// collectSeldom sets how often memory is collected: a run is short and its memory is bounded elsewhere, so collecting less often makes a long list quicker. What is
// large is collected as often as it takes.
func collectSeldom() {
	debug.SetGCPercent(400)
	debug.SetMemoryLimit(usualMemory)
	afterEach(func() {
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		if metrics.Read(live); live[0].Value.Kind() == metrics.KindUint64 {
			debug.SetMemoryLimit(memoryLimit(int64(min(live[0].Value.Uint64(), 1<<50))))
		}
	})
}

// memoryLimit gives the limit for what is in use.
func memoryLimit(live int64) int64 { return max(usualMemory, live*5/4+usualMemory/3) }

// afterEach has a function called after each collection.
func afterEach(do func()) {
	runtime.SetFinalizer(&struct{ mark [16]byte }{}, func(*struct{ mark [16]byte }) {
		do()
		afterEach(do)
	})
}
