package catalog

import (
	"context"
	"sync/atomic"
	"time"
)

// Apart is how far a process's clock may be from the database's before it does no
// work that judges ages, and says so.
const Apart = 5 * time.Second

// clock tells the database's time from the process's own, as far as they were apart
// when that was looked at last. Ages and the times of records are judged by it: a
// process whose clock is wrong makes nothing old before its time.
type clock struct {
	own   atomic.Pointer[func() time.Time]
	apart atomic.Int64 // what the own clock is ahead, in nanoseconds
}

func (c *clock) now() time.Time { return (*c.own.Load())() }

// builtApart puts the clock of a program out that was built with it, a duration: so tests have
// processes whose clocks are wrong.
var builtApart string

// builtClock is the clock of the process.
func builtClock() (func() time.Time, error) {
	if builtApart == "" {
		return time.Now, nil
	}
	d, err := time.ParseDuration(builtApart)
	return func() time.Time { return time.Now().Add(d) }, err
}

// OwnClock has the process's own time told by f, for tests of clocks that are wrong.
func (c *Catalog) OwnClock(f func() time.Time) { c.clock.own.Store(&f) }

// Now gives the database's time, to the precision of the last look.
func (c *Catalog) Now() time.Time {
	return c.clock.now().Add(-c.Ahead())
}

// Ahead gives what the process's clock is ahead of the database's.
func (c *Catalog) Ahead() time.Duration { return time.Duration(c.clock.apart.Load()) }

// Agrees reports whether the process's clock is near enough to the database's for
// work that judges ages.
func (c *Catalog) Agrees() bool { return c.Ahead().Abs() <= Apart }

// LookAtClock compares the clocks. A look that takes long tells little, and is let
// be when an earlier one stands.
func (c *Catalog) LookAtClock(ctx context.Context) error {
	begun := c.clock.now()
	var theirs time.Time
	if err := c.db.GetContext(ctx, &theirs, `select clock_timestamp()`); err != nil {
		return mapError(err)
	}
	took := c.clock.now().Sub(begun)
	if took > time.Second && c.clock.apart.Load() != 0 {
		return nil
	}
	ahead := begun.Add(took / 2).Sub(theirs)
	if ahead.Abs() < took/2+10*time.Millisecond { // no more than the look itself may be wrong
		ahead = 0
	}
	c.clock.apart.Store(int64(ahead))
	return nil
}
