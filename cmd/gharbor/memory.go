package main

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
)

// usualMemory is up to where memory is collected seldom, in bytes. Beyond it the limit leaves
// room for as much again, and half as much, as is in use, and less of what is large: with little
// room, what each collection goes through grows with what is in use, and all work with it.
const usualMemory = 96 << 20

// collectSeldom sets how often memory is collected: a run is short and its memory is bounded
// elsewhere, so collecting less often makes a long list quicker. What is large is collected as
// often as it takes.
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
func memoryLimit(live int64) int64 {
	return max(usualMemory, min(live*5/2, max(live+64<<20, live*5/4)))
}

// afterEach has a function called after each collection.
func afterEach(do func()) {
	runtime.SetFinalizer(&struct{ mark [16]byte }{}, func(*struct{ mark [16]byte }) {
		do()
		afterEach(do)
	})
}
