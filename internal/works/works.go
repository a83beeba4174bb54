package works

import (
	"context"
	"log/slog"
	"time"

	"spindle/internal/store"
	"spindle/internal/works/ageing"
	"spindle/internal/works/crew"
	"spindle/internal/works/jobs"
	"spindle/internal/works/orders"
	"spindle/internal/works/replicate"
	"spindle/internal/works/upkeep"
)

// Settings of the background work. Zero values mean the defaults.
type Settings = crew.Settings

// Crew runs the background work of one process.
type Crew struct {
	*crew.Crew
	orders    *orders.Work
	Ageing    *ageing.Work
	upkeep    *upkeep.Work
	Replicate *replicate.Work
	jobs      *jobs.Work
}

// Start begins the background work. Stop it before closing the store.
func Start(s *store.Store, settings Settings, log *slog.Logger) *Crew {
	base, ctx := crew.New(s, settings, log)
	c := &Crew{base, orders.New(base), ageing.New(base), upkeep.New(base), replicate.New(base), jobs.New(base)}
	if err := c.Enter(ctx); err != nil {
		log.Warn("leases of processes that died are left to run out", "error", err)
	}
	c.Every(ctx, "clock", c.Settings.ClockEvery, c.lookAtClock)
	c.Every(ctx, "damage", c.Settings.DamageRefresh, s.RefreshDamage)
	c.Every(ctx, "tiers", c.Settings.DamageRefresh, s.RefreshTiers)
	c.Standing(ctx, "usage", c.Settings.RollUpEvery, c.rollUp)
	c.Standing(ctx, "partitions", time.Hour, c.partitions)
	c.Aged(ctx, "trail", time.Hour, c.forget)
	c.Every(ctx, "traffic", c.Settings.TrafficEvery, s.Catalog.KeepTraffic)
	c.orders.Begin(ctx)
	c.Ageing.Begin(ctx)
	c.upkeep.Begin(ctx)
	c.Replicate.Begin(ctx)
	c.jobs.Begin(ctx)
	return c
}

// lookAtClock compares the process's clock with the database's, and says once when
// they come apart or together.
func (c *Crew) lookAtClock(ctx context.Context) error {
	before := c.Store.Catalog.Agrees()
	err := c.Store.Catalog.LookAtClock(ctx)
	if after := c.Store.Catalog.Agrees(); err == nil && before != after {
		if after {
			c.Log.Info("the clock agrees with the database's again")
		} else {
			c.Log.Error("the clock is wrong: work that judges ages is left to others", "ahead of the database",
				c.Store.Catalog.Ahead())
		}
	}
	return err
}

func (c *Crew) rollUp(ctx context.Context, _ *crew.Lease) error {
	for {
		n, err := c.Store.Catalog.RollUp(ctx, 10_000)
		if err != nil || n < 10_000 {
			return err
		}
	}
}

// partitions makes the journal's next months.
func (c *Crew) partitions(ctx context.Context, _ *crew.Lease) error {
	now := c.Store.Catalog.Now()
	return c.Store.Catalog.EnsurePartitions(ctx, now, now.AddDate(0, 2, 0))
}

// forget removes what was kept long enough.
func (c *Crew) forget(ctx context.Context, _ *crew.Lease) error {
	n, err := c.Store.Catalog.ForgetTrail(ctx, c.Store.Catalog.Now().Add(-c.Settings.KeepTrail))
	if err != nil {
		return err
	}
	if n > 0 {
		c.Log.Info("old entries of the audit trail were forgotten", "entries", n)
	}
	if err := c.Store.Catalog.ForgetOld(ctx); err != nil {
		return err
	}
	if n, err = c.Store.Catalog.ClearGaps(ctx); err != nil {
		return err
	}
	if n > 0 {
		c.Log.Info("entries that journals leave out were removed", "entries", n)
	}
	if c.Settings.KeepJournal == 0 {
		return nil
	}
	gone, err := c.Store.Catalog.ForgetJournal(ctx, c.Store.Catalog.Now().Add(-c.Settings.KeepJournal))
	if len(gone) > 0 {
		c.Log.Info("months of the journal were let go", "months", gone)
	}
	return err
}
