package catalog

import (
	"sync/atomic"
	"time"
)

// Load says how much is being written by requests, for work that can wait until less is.
type load struct {
	window atomic.Int64 // number of the stretch of time that is counted
	now    atomic.Int64 // changes in it
	before atomic.Int64 // changes in the one before
}

const (
	loadWindow = 100 * time.Millisecond
	busyFrom   = 60 // changes in a window
)

// add counts changes that were committed.
func (l *load) add(n int, at time.Time) {
	l.turn(at)
	l.now.Add(int64(n))
}

// turn begins a new stretch when the time of the last one is over.
func (l *load) turn(at time.Time) {
	w, was := at.UnixNano()/int64(loadWindow), l.window.Load()
	if w == was || !l.window.CompareAndSwap(was, w) {
		return
	}
	n := l.now.Swap(0)
	if w > was+1 {
		n = 0
	}
	l.before.Store(n)
}

// Busy reports whether requests of this process write a good deal at the moment: work
// that nobody waits for leaves them the machine.
func (c *Catalog) Busy() bool {
	c.load.turn(time.Now())
	return max(c.load.before.Load(), c.load.now.Load()) >= busyFrom
}
