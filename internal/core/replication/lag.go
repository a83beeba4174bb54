package replication

import (
	"math/bits"
	"time"
)

// LagSlots is how many slots there are for lags.
const LagSlots = 32

// Lags counts how long changes waited for their replicas: slot n those below 2^n
// milliseconds.
type Lags [LagSlots]int64

// LagSlot gives the slot of a lag.
func LagSlot(d time.Duration) int {
	return min(bits.Len64(uint64(max(0, d.Milliseconds()))), LagSlots-1)
}

// Add counts a lag.
func (l *Lags) Add(d time.Duration) { l[LagSlot(d)]++ }

// All is how many were counted.
func (l *Lags) All() (n int64) {
	for _, c := range l {
		n += c
	}
	return n
}

// Percentile gives below which time a share of them was, within a factor of two; 0 when
// there are none.
func (l *Lags) Percentile(share float64) time.Duration {
	want := int64(share*float64(l.All()) + 0.999999)
	if want == 0 {
		return 0
	}
	for n, c := range l {
		if want -= c; want <= 0 {
			return time.Millisecond << n
		}
	}
	return time.Millisecond << (LagSlots - 1)
}

// Within gives the share of them that was surely below a time; 1 when there are none.
func (l *Lags) Within(d time.Duration) float64 {
	all := l.All()
	if all == 0 {
		return 1
	}
	var n int64
	for i, c := range l {
		if time.Millisecond<<i <= d {
			n += c
		}
	}
	return float64(n) / float64(all)
}
