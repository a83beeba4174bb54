package catalog

import (
	"sync/atomic"
	"time"
)

// load says how much is being done by requests, for work that can wait until less is.
type load struct {
	window atomic.Int64 // number of the stretch of time that is counted
	now    atomic.Int64 // in it
	before atomic.Int64 // in the one before
}

const (
	loadWindow = 100 * time.Millisecond
	busyFrom   = 60 // in a window
)

// add counts what was done.
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

// busy reports whether that is a good deal at the moment.
func (l *load) busy() bool {
	l.turn(time.Now())
	return max(l.before.Load(), l.now.Load()) >= busyFrom
}

// Busy reports whether requests of this process write a good deal at the moment: work
// that nobody waits for leaves them the machine.
func (c *Catalog) Busy() bool { return c.load.busy() }

// Asked reports whether requests of this process read or write a good deal at the moment.
func (c *Catalog) Asked() bool { return c.load.busy() || c.reads.busy() }
