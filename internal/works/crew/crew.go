package crew

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"runtime/debug"
	"sync"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/audit"
	"spindle/internal/core/fault"
	"spindle/internal/core/replication"
	"spindle/internal/core/syncing"
	"spindle/internal/places"
	"spindle/internal/remote"
	"spindle/internal/store"
)

// Drifts says what is not as the charters of an account declare; nil when nobody can say.
type Drifts func(ctx context.Context, account string) ([]audit.Drift, error)

// Working counts orders of a kind that this process works on.
func (c *Crew) Working(kind string, add int) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.under[kind] += add
	return c.under[kind]
}

// PlaceNeed is what a job needs of whoever saved it, at one of its sides.
type PlaceNeed struct {
	Place syncing.Place
	Do    access.Rights // on what is beneath its prefix, of a bucket here
}

// Settings of the background work. Zero values mean the defaults.
type Settings struct {
	CollectGrace  time.Duration // how old what nobody refers to must be; default 1 h
	CollectEvery  time.Duration // default 10 min
	SweepEvery    time.Duration // how often all files are looked at; default 6 h
	ScrubRate     int64         // bytes a second; default 20 MiB
	ReadElsewhere bool          // the scrubber reads bodies at endpoints too, instead of asking for their size
	RepairRate    int64         // bytes a second that repairs read; default 200 MiB
	RepairEvery   time.Duration // how often it is looked whether something is to be repaired; default 2 s
	ScrubEvery    time.Duration // from the start of one walk to the next; default 7 days
	RollUpEvery   time.Duration // default 1 s
	DamageRefresh time.Duration // how often it is asked whether that changed; default 1 s
	SumEvery      time.Duration // how often objects without SHA-256 of the whole are looked for; default 15 s
	OrdersEvery   time.Duration // how often orders are looked for; default 300 ms
	AgeEvery      time.Duration // how often it is looked for what has come to be due by the rules of a bucket; default 10 min
	AgeLook       time.Duration // how often it is looked for buckets whose turn it is; default 1 s
	AgeRate       int           // versions a second that rules act on at the most; default 2,000
	GuardShare    float64       // of a bucket that a run may remove without asking; default 0.2
	GuardLeast    int64         // versions that a run may remove without asking; default 100
	RestoreEvery  time.Duration // how often restored copies that are due are looked for; default 2 s
	ClockEvery    time.Duration // how often the clock is compared with the database's; default 10 s
	Drifts        Drifts        // of charters, for the audit
	KeepJournal   time.Duration // how long the journal is kept once all followers have read it; 0: for ever
	KeepTrail     time.Duration // how long entries of the audit trail are kept; default 400 days

	// Lease is how long work is claimed for; it is renewed beside the work, and when a
	// process dies another takes over after that. Default 30 s.
	Lease time.Duration

	TrafficEvery time.Duration // how often requests that were counted are written down; default 5 s

	IndexEvery time.Duration // how often the indexes of find are looked after; default 200 ms
	IndexLeast int64         // objects of a bucket that has one; default 20,000

	CheckEvery  time.Duration // how often endpoints are checked; default 1 min
	RegionEvery time.Duration // how often sisters are asked what they have; default 10 s
	// Remote reaches endpoints and sisters; nil: there are none.
	Remote *remote.Pool

	// MayReplicate refuses what a rule does with the rights of whoever saved it; nil lets
	// all go on.
	MayReplicate func(context.Context, *replication.Rule, *replication.Target) error

	// Processes is a folder in which each process of the house holds a lock on a file; ""
	// for none: the leases of one that died run out.
	Processes string

	// MayUse refuses places that whoever saved a sync job, or a census, may not use so any more.
	MayUse  func(context.Context, places.SavedBy, []PlaceNeed) error
	Folders []string // roots beneath which folders may be synced
	Scratch string   // a folder for work; "": the system's

	// May refuses an order whose giver may do it no more; nil lets all go on.
	May func(context.Context, *catalog.Order) error
}

func (s Settings) withDefaults() Settings {
	set := func(d *time.Duration, v time.Duration) {
		if *d == 0 {
			*d = v
		}
	}
	set(&s.CollectGrace, time.Hour)
	set(&s.CollectEvery, 10*time.Minute)
	set(&s.SweepEvery, 6*time.Hour)
	set(&s.ScrubEvery, 7*24*time.Hour)
	set(&s.RegionEvery, 10*time.Second)
	set(&s.RepairEvery, 2*time.Second)
	set(&s.RollUpEvery, time.Second)
	set(&s.DamageRefresh, time.Second)
	set(&s.SumEvery, 15*time.Second)
	set(&s.OrdersEvery, 300*time.Millisecond)
	set(&s.RestoreEvery, 2*time.Second)
	set(&s.AgeEvery, 10*time.Minute)
	set(&s.AgeLook, min(time.Second, max(s.AgeEvery, 10*time.Millisecond)))
	set(&s.ClockEvery, 10*time.Second)
	set(&s.TrafficEvery, 5*time.Second)
	set(&s.IndexEvery, 200*time.Millisecond)
	set(&s.CheckEvery, time.Minute)
	set(&s.KeepTrail, 400*24*time.Hour)
	set(&s.Lease, 30*time.Second)
	if s.IndexLeast == 0 {
		s.IndexLeast = 20_000
	}
	if s.AgeRate == 0 {
		s.AgeRate = 2000
	}
	if s.GuardShare == 0 {
		s.GuardShare = 0.2
	}
	if s.GuardLeast == 0 {
		s.GuardLeast = 100
	}
	if s.ScrubRate == 0 {
		s.ScrubRate = 20 << 20
	}
	if s.RepairRate == 0 {
		s.RepairRate = 200 << 20
	}
	return s
}

// Crew runs the background work of one process.
type Crew struct {
	Store    *store.Store
	Settings Settings
	Holder   string // of leases
	Log      *slog.Logger
	Done     sync.WaitGroup // of what Stop waits for

	stop  context.CancelFunc
	mu    sync.Mutex
	under map[string]int // pieces of work that are worked on, by kind
	here  *os.File       // whose lock says that this process lives
}

// New makes a crew, and the context of all it does.
func New(s *store.Store, settings Settings, log *slog.Logger) (*Crew, context.Context) {
	ctx, stop := context.WithCancel(context.Background())
	return &Crew{Store: s, Settings: settings.withDefaults(), Holder: rand.Text(), Log: log, stop: stop,
		under: map[string]int{}}, ctx
}

// Stop ends the work and gives up its leases.
func (c *Crew) Stop() {
	c.stop()
	c.Done.Wait()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if err := c.Store.Catalog.KeepTraffic(ctx); err != nil {
		c.Log.Warn("requests of the last seconds are not counted", "error", err)
	}
	if err := c.Store.Catalog.ReleaseWork(ctx, c.Holder); err != nil {
		c.Log.Debug("leases are left to run out", "error", err)
	}
	c.leave()
}

// Standing does a piece of standing work, which is always there: one process at a
// time, and after it nobody before the pause has passed.
func (c *Crew) Standing(ctx context.Context, name string, every time.Duration, f func(context.Context, *Lease) error) {
	first := true
	c.Every(ctx, name, every, func(ctx context.Context) error {
		if first { // what an earlier setting put off for longer is not waited for
			if err := c.Store.Catalog.DueWithin(ctx, name, every); err != nil {
				return err
			}
			first = false
		}
		under, l, ok, err := c.Claim(ctx, name)
		if err != nil || !ok {
			return err
		}
		err = Guarded(func() error { return f(under, l) })
		if l.Lost(under, err) {
			err = nil // somebody else does it
		}
		wait := every
		if err != nil {
			wait = 0 // it is tried again by whoever comes first
		}
		return errors.Join(err, l.Finish(wait))
	})
}

// Aged is standing for work that judges ages: a process whose clock is wrong leaves
// it to others.
func (c *Crew) Aged(ctx context.Context, name string, every time.Duration, f func(context.Context, *Lease) error) {
	c.Standing(ctx, name, every, func(ctx context.Context, l *Lease) error {
		if !c.Store.Catalog.Agrees() {
			return nil
		}
		return f(ctx, l)
	})
}

// Guarded does something, and makes an error of a panic: what is wrong with one piece of work
// takes neither the others down nor the service.
func Guarded(f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fault.New(fault.Internal, "internal", "the work broke off by a fault of the program: %v", p).
				Because(fmt.Errorf("%v\n%s", p, debug.Stack()))
		}
	}()
	return f()
}

// Every does something again and again, with a pause between; after a failure with
// pauses that grow.
func (c *Crew) Every(ctx context.Context, name string, every time.Duration, f func(context.Context) error) {
	c.Done.Go(func() {
		failed := 0
		for {
			err := Guarded(func() error { return f(ctx) })
			wait := every
			switch {
			case ctx.Err() != nil:
				return
			case err != nil:
				wait = max(every, min(Pause(failed)/4, 30*time.Second))
				if failed++; failed == 1 || failed%10 == 0 {
					c.Log.Warn("background work failed and will be tried again", "work", name, "times", failed, "error", err)
				}
			default:
				failed = 0
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(wait):
			}
		}
	})
}
