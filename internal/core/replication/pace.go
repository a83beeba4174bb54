package replication

import "time"

// What must have moved before an estimate is given: a rate of a moment, or of a few small
// objects, says nothing of what waits.
const (
	leastOver  = 15 * time.Second
	leastShare = 100 // of all, one part in
)

// DoneIn estimates in which time what waits is copied, from the bytes that moved over the last
// time; 0 as long as nothing can be said. Bytes that wait are those that are not sent yet.
func DoneIn(waiting, moved int64, over time.Duration) time.Duration {
	if waiting <= 0 || moved <= 0 || over < leastOver || moved < (waiting+moved)/leastShare {
		return 0
	}
	in := time.Duration(float64(over) / float64(moved) * float64(waiting))
	return in.Round(time.Second)
}
