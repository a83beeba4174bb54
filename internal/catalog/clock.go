package catalog

import (
	"context"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

// Apart is how far a process's clock may be from the database's before it does no
// work that judges ages, and says so.
const Apart = 5 * time.Second

// jumpMost is how far the database's clock may be from where it should have come to since the last look, before that
// is a jump: less does not matter to ages of days.
const jumpMost = time.Minute

// highestEvery is how often the highest time that was told is saved.
const highestEvery = 10 * time.Second

// clock tells the time of records and ages. It is the database's, and goes on by a clock that nobody sets: when the
// database's jumps back, the time that was told goes on; when it jumps ahead, that is noted and asked about.
type clock struct {
	own   atomic.Pointer[func() time.Time]          // the process's
	their atomic.Pointer[func(time.Time) time.Time] // makes something else of the database's, in tests
	boot  atomic.Pointer[func() time.Duration]      // the machine's, in tests
	apart atomic.Int64                              // what the own clock is ahead of the database's, in nanoseconds
	told  atomic.Pointer[told]
	doubt atomic.Bool // a jump is asked about

	mu    sync.Mutex // of looks
	saved time.Time  // the highest time, last
}

// told is what was told at the last look.
type told struct {
	at     time.Time
	boot   time.Duration // of the machine, then
	behind time.Duration // what the database's clock is behind it
	turn   int64         // how often somebody had said that it is right although it went back
}

// sinceBoot is the time since the machine started, with that in which it slept.
func sinceBoot() time.Duration {
	var at unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &at) != nil {
		return time.Duration(time.Now().UnixNano()) // no Linux since 2011 is without
	}
	return time.Duration(at.Nano())
}

func (c *clock) ownNow() time.Time { return (*c.own.Load())() }

func (c *clock) sinceBoot() time.Duration {
	if f := c.boot.Load(); f != nil {
		return (*f)()
	}
	return sinceBoot()
}

// builtForTests is "yes" in a program of which the environment may put the clocks out: its own by SPINDLE_CLOCK_APART, a
// duration; the whole machine's by what the file SPINDLE_CLOCK_JUMPS holds now.
var builtForTests string

// jumped is the duration that a file holds now; without one 0.
func jumped(path string) time.Duration {
	b, err := os.ReadFile(path)
	if err != nil {
		return 0
	}
	d, err := time.ParseDuration(strings.TrimSpace(string(b)))
	if err != nil {
		return 0
	}
	return d
}

// toldIn has a catalog that is opened be told another time by its database; of tests.
var toldIn func(*Catalog)

// setClocks gives a catalog its clocks: the right ones, but in tests.
func (c *Catalog) setClocks() error {
	c.OwnClock(time.Now)
	if apart := os.Getenv("SPINDLE_CLOCK_APART"); builtForTests == "yes" && apart != "" {
		d, err := time.ParseDuration(apart)
		if err != nil {
			return err
		}
		c.OwnClock(func() time.Time { return time.Now().Add(d) })
	}
	if path := os.Getenv("SPINDLE_CLOCK_JUMPS"); builtForTests == "yes" && path != "" {
		c.OwnClock(func() time.Time { return time.Now().Add(jumped(path)) })
		c.TheirClock(func(at time.Time) time.Time { return at.Add(jumped(path)) }, nil)
	}
	if toldIn != nil {
		toldIn(c)
	}
	return nil
}

// OwnClock has the process's own time told by f, for tests of clocks that are wrong.
func (c *Catalog) OwnClock(f func() time.Time) { c.clock.own.Store(&f) }

// TheirClock has the database's time be what f makes of it, and the machine's run as boot says, for tests of clocks
// that jump; nil for boot: as it does.
func (c *Catalog) TheirClock(f func(time.Time) time.Time, boot func() time.Duration) {
	c.clock.their.Store(&f)
	if boot != nil {
		c.clock.boot.Store(&boot)
	}
}

// Now gives the time of records and ages: the database's, to the precision of the last look, as it was before it
// jumped back.
func (c *Catalog) Now() time.Time {
	t := c.clock.told.Load()
	return t.at.Add(c.clock.sinceBoot() - t.boot)
}

// Ahead gives what the process's clock is ahead of the database's.
func (c *Catalog) Ahead() time.Duration { return time.Duration(c.clock.apart.Load()) }

// Behind gives how far the database's clock jumped back; 0 when it did not.
func (c *Catalog) Behind() time.Duration { return c.clock.told.Load().behind }

// Doubtful reports whether the database's clock jumped, and nobody said yet that it is right.
func (c *Catalog) Doubtful() bool { return c.clock.doubt.Load() }

// Agrees reports whether the process's clock is near enough to the database's for
// work that judges ages, and that has not jumped back.
func (c *Catalog) Agrees() bool { return c.Ahead().Abs() <= Apart && c.Behind() == 0 }

// LookAtClock compares the clocks. A look that takes long tells little, and is let
// be when an earlier one stands.
func (c *Catalog) LookAtClock(ctx context.Context) error {
	c.clock.mu.Lock()
	defer c.clock.mu.Unlock()
	begun, boot := c.clock.ownNow(), c.clock.sinceBoot()
	var row struct {
		Theirs  time.Time `db:"theirs"`
		Highest time.Time `db:"highest"`
		Turn    int64     `db:"turn"`
		Doubt   bool      `db:"doubt"`
		Back    bool      `db:"back"`
	}
	if err := c.db.GetContext(ctx, &row, `select clock_timestamp() as theirs,
		highest, turn, exists (select 1 from clock_jumps where state = 0) as doubt,
		exists (select 1 from clock_jumps where state = 0 and at < until) as back from clock`); err != nil {
		return mapError(err)
	}
	took := c.clock.sinceBoot() - boot
	before := c.clock.told.Load()
	if took > time.Second && before != nil {
		return nil
	}
	theirs := row.Theirs
	if f := c.clock.their.Load(); f != nil {
		theirs = (*f)(theirs)
	}
	ahead := begun.Add(took / 2).Sub(theirs)
	if ahead.Abs() < took/2+10*time.Millisecond { // no more than the look itself may be wrong
		ahead = 0
	}
	c.clock.apart.Store(int64(ahead))
	c.clock.doubt.Store(row.Doubt)
	now := &told{at: theirs, boot: boot + took/2, turn: row.Turn}
	if ahead == 0 { // what is known to agree is told as the process's own
		now.at = begun.Add(took / 2)
	}
	expected := row.Highest
	if before != nil {
		expected = before.at.Add(now.boot - before.boot)
	}
	if err := c.follow(ctx, before, now, expected, row.Back); err != nil {
		return err
	}
	c.clock.told.Store(now)
	if now.at.Sub(c.clock.saved).Abs() < highestEvery {
		return nil
	}
	c.clock.saved = now.at
	_, err := c.db.ExecContext(ctx, `update clock set highest = $1 where highest < $1`, now.at)
	return mapError(err)
}

// follow decides what the time is, from where it should have come to and what the database's clock says now. At the
// first look of a process nobody knows how long it was stopped: it may be later than expected.
func (c *Catalog) follow(ctx context.Context, before, now *told, expected time.Time, back bool) error {
	off := now.at.Sub(expected)
	switch {
	case before != nil && before.turn != now.turn: // somebody said that it is right as it is
		return nil
	case off.Abs() <= jumpMost, before == nil && off > 0 && !back:
		if back {
			return c.wentOn(ctx)
		}
		return nil
	case off > 0: // also when the time went on by itself and the service was stopped meanwhile
		c.clock.doubt.Store(true)
		if err := c.wentOn(ctx); err != nil {
			return err
		}
		return c.noteJump(ctx, expected, now.at)
	}
	undone, err := c.undoJump(ctx, off)
	if err != nil || undone {
		return err
	}
	if err := c.noteBack(ctx, expected, now.at); err != nil {
		return err
	}
	c.clock.doubt.Store(true)
	now.at, now.behind = expected, -off
	return nil
}
