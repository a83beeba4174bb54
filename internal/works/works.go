package works

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"log/slog"
	"sync"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/store"
)

// Settings of the background work. Zero values mean the defaults.
type Settings struct {
	CollectGrace  time.Duration // how old what nobody refers to must be; default 1 h
	CollectEvery  time.Duration // default 10 min
	SweepEvery    time.Duration // how often all files are looked at; default 6 h
	ScrubRate     int64         // bytes a second; default 20 MiB
	ScrubEvery    time.Duration // from the start of one walk to the next; default 7 days
	RollUpEvery   time.Duration // default 1 s
	DamageRefresh time.Duration // default 10 s
	AbandonEvery  time.Duration // how often uploads that are due are looked for; default 10 min
	SumEvery      time.Duration // how often objects without SHA-256 of the whole are looked for; default 15 s
	OrdersEvery   time.Duration // how often orders are looked for; default 300 ms
	KeepTrail     time.Duration // how long entries of the audit trail are kept; default 400 days

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
	set(&s.RollUpEvery, time.Second)
	set(&s.DamageRefresh, 10*time.Second)
	set(&s.AbandonEvery, 10*time.Minute)
	set(&s.SumEvery, 15*time.Second)
	set(&s.OrdersEvery, 300*time.Millisecond)
	set(&s.KeepTrail, 400*24*time.Hour)
	if s.ScrubRate == 0 {
		s.ScrubRate = 20 << 20
	}
	return s
}

// Crew runs the background work of one process.
type Crew struct {
	store    *store.Store
	settings Settings
	holder   string
	log      *slog.Logger
	stop     context.CancelFunc
	done     sync.WaitGroup

	mu    sync.Mutex
	under map[int64]bool // orders that are worked on
}

const lease = 30 * time.Second

// Start begins the background work. Stop it before closing the store.
func Start(s *store.Store, settings Settings, log *slog.Logger) *Crew {
	ctx, stop := context.WithCancel(context.Background())
	c := &Crew{store: s, settings: settings.withDefaults(), holder: rand.Text(), log: log, stop: stop, under: map[int64]bool{}}
	c.every(ctx, "damage", c.settings.DamageRefresh, false, func(ctx context.Context, _ *job) error { return s.RefreshDamage(ctx) })
	c.every(ctx, "usage", c.settings.RollUpEvery, true, c.rollUp)
	c.every(ctx, "partitions", time.Hour, true, func(ctx context.Context, _ *job) error {
		return s.Catalog.EnsurePartitions(ctx, time.Now(), time.Now().AddDate(0, 2, 0))
	})
	c.every(ctx, "trail", time.Hour, true, func(ctx context.Context, _ *job) error {
		n, err := s.Catalog.ForgetTrail(ctx, time.Now().Add(-c.settings.KeepTrail))
		if n > 0 {
			log.Info("old entries of the audit trail were forgotten", "entries", n)
		}
		if err != nil {
			return err
		}
		return s.Catalog.ForgetOld(ctx)
	})
	c.every(ctx, "orders", c.settings.OrdersEvery, false, c.orders)
	c.every(ctx, "abandoner", c.settings.AbandonEvery, true, c.abandonDue)
	c.every(ctx, "summer", c.settings.SumEvery, true, c.sum)
	c.every(ctx, "collector", c.settings.CollectEvery, true, c.collect)
	c.every(ctx, "scrubber", min(time.Minute, c.settings.ScrubEvery), true, c.scrub)
	return c
}

// Stop ends the work and gives up its leases.
func (c *Crew) Stop() {
	c.stop()
	c.done.Wait()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if err := c.store.Catalog.ReleaseWork(ctx, c.holder); err != nil {
		c.log.Debug("leases are left to run out", "error", err)
	}
}

// job is a piece of work while this process holds its lease.
type job struct {
	crew  *Crew
	name  string
	state []byte
}

// load reads where the work stands into v.
func (j *job) load(v any) error {
	if len(j.state) == 0 {
		return nil
	}
	return json.Unmarshal(j.state, v)
}

// save keeps where the work stands and holds the lease on. It reports an error
// when another process took the work over.
func (j *job) save(ctx context.Context, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	_, ok, err := j.crew.store.Catalog.ClaimWork(ctx, j.name, j.crew.holder, lease)
	if err != nil {
		return err
	}
	if !ok {
		return context.Canceled
	}
	j.state = b
	return j.crew.store.Catalog.SaveWork(ctx, j.name, j.crew.holder, b)
}

func (c *Crew) every(ctx context.Context, name string, pause time.Duration, claimed bool, f func(context.Context, *job) error) {
	c.done.Go(func() {
		failed := 0
		for {
			err := c.once(ctx, name, claimed, f)
			wait := pause
			switch {
			case ctx.Err() != nil:
				return
			case err != nil:
				failed++
				wait = min(max(pause, 200*time.Millisecond<<min(failed, 8)), 30*time.Second)
				if failed == 1 || failed%10 == 0 {
					c.log.Warn("background work failed and will be tried again", "work", name, "times", failed, "error", err)
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

func (c *Crew) once(ctx context.Context, name string, claimed bool, f func(context.Context, *job) error) error {
	j := &job{crew: c, name: name}
	if claimed {
		state, ok, err := c.store.Catalog.ClaimWork(ctx, name, c.holder, lease)
		if err != nil || !ok {
			return err
		}
		j.state = state
	}
	return f(ctx, j)
}

func (c *Crew) rollUp(ctx context.Context, _ *job) error {
	for {
		n, err := c.store.Catalog.RollUp(ctx, 10_000)
		if err != nil || n < 10_000 {
			return err
		}
	}
}
