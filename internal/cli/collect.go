package cli

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
)

// How much the heap may grow beyond what lives before memory is collected: to five times of what
// is little and short-lived, by headroom of what is more, and to twice of what is more than that.
const (
	headroom  = 64 << 20 // bytes
	mostGrow  = 400      // percent
	leastGrow = 100
)

// growth gives by how many percent the heap may grow of which so many bytes live.
func growth(live uint64) int {
	return int(min(mostGrow, max(leastGrow, headroom*100/max(live, 1))))
}

// collectByNeed keeps the growth of the heap to what lives in it, anew after each collection.
func collectByNeed() {
	set := mostGrow
	debug.SetGCPercent(set)
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	var watch func(struct{})
	watch = func(struct{}) {
		metrics.Read(live)
		if now := growth(live[0].Value.Uint64()); max(now, set)-min(now, set) > set/10 { // the change stops the world
			set = now
			debug.SetGCPercent(set)
		}
		runtime.AddCleanup(new([64]byte), watch, struct{}{})
	}
	watch(struct{}{})
}
