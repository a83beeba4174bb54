package upkeep

import (
	"context"
	"slices"
	"time"

	"golang.org/x/time/rate"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
	"spindle/internal/works/crew"
	"spindle/internal/works/orders"
)

// Pauses of repairs.
const (
	repairAgain = time.Minute      // until bodies that wait for a volume are looked at again
	repairSave  = 2 * time.Second  // between two notes of how far it is
	repairTurn  = 20 * time.Second // of one repair, before what is owed is looked at again
)

// repair makes copies and pieces anew: first of bodies that were written short, then of all
// bodies of a tier whose repair was asked for.
func (c *Work) repair(ctx context.Context, _ *crew.Lease) error {
	limiter := rate.NewLimiter(rate.Limit(c.Settings.RepairRate), max(4<<20, int(c.Settings.RepairRate/10)))
	limit := func(n int) error { return limiter.WaitN(ctx, n) }
	whole, err := c.wholeTiers(ctx)
	if err != nil {
		return err
	}
	if err := c.payOwed(ctx, whole, limit); err != nil {
		return err
	}
	r, err := c.Store.Catalog.RepairDue(ctx)
	if err != nil || r == nil {
		return err
	}
	if !slices.Contains(whole, r.Tier) { // what is on a volume that is away is not lost
		r.After = c.Store.Catalog.Now().UTC().Add(repairAgain)
		return c.Store.Catalog.SaveRepair(ctx, r)
	}
	return c.repairTier(ctx, r, limit)
}

// wholeTiers gives the tiers of which no volume is away.
func (c *Work) wholeTiers(ctx context.Context) (out []int16, err error) {
	set, err := c.Store.Tiers(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range set {
		states, err := c.Store.VolumeStates(t.ID)
		if err == nil && !slices.ContainsFunc(states, func(s store.VolumeState) bool { return s.Away != nil }) {
			out = append(out, t.ID)
		}
	}
	return out, nil
}

// payOwed makes the pieces of bodies that were written short.
func (c *Work) payOwed(ctx context.Context, in []int16, limit func(int) error) error {
	for {
		due, err := c.Store.Catalog.OwedDue(ctx, in, 100)
		if err != nil || len(due) == 0 {
			return err
		}
		for _, f := range due {
			again, err := c.payOne(ctx, f, limit)
			if err != nil {
				return err
			}
			if err := c.Store.Catalog.Paid(ctx, f, again); err != nil {
				return err
			}
		}
	}
}

// payOne makes the pieces of a body that was written short, and gives the pause after which it is
// to be looked at again, 0 for never. Holders are asked first, then references: who held it
// may have committed since.
func (c *Work) payOne(ctx context.Context, f object.BodyFile, limit func(int) error) (again time.Duration, err error) {
	space, err := c.Store.Spaces.Of(f.Tier)
	if err != nil {
		return 0, err
	}
	if held, err := space.Held(f.File); held || err != nil {
		return repairAgain, nil // it is not committed yet, or nobody can look
	}
	s, err := c.Store.Catalog.BodyIn(ctx, f)
	if err != nil || s == nil { // nothing refers to it any more
		return 0, err
	}
	if m, err := c.mend(ctx, *s, limit); err != nil || m.Missing > 0 {
		return repairAgain, ctx.Err()
	}
	return 0, nil
}

// repairTier goes on with the repair of a tier for a turn.
func (c *Work) repairTier(ctx context.Context, r *catalog.Repair, limit func(int) error) error {
	until, saved := time.Now().Add(repairTurn), time.Now()
	for {
		list, next, more, err := c.Store.Catalog.WalkBodies(ctx, r.Place, 500)
		if err != nil {
			return err
		}
		for _, s := range list {
			if s.Version.Body.Tier != r.Tier {
				continue
			}
			m, err := c.mend(ctx, s, limit)
			switch {
			case ctx.Err() != nil:
				return ctx.Err()
			case fault.KindOf(err) == fault.Damaged:
				r.Damaged++
			case err != nil || m.Missing > 0:
				r.Waiting++
			}
			r.Bodies, r.Bytes, r.Made = r.Bodies+1, r.Bytes+s.Version.Size, r.Made+int64(m.Copies)
			if r.Place.Stage < 2 { // parts are passed a page at a time
				r.Place.Bucket, r.Place.Key, r.Place.Number = s.Bucket, []byte(s.Version.Key.String()), s.Version.Number
			}
			if time.Since(saved) > repairSave {
				if err := c.Store.Catalog.SaveRepair(ctx, r); err != nil {
					return err
				}
				saved = time.Now()
			}
		}
		if r.Place = next; !more {
			c.endRepair(r)
		}
		if !more || time.Now().After(until) {
			return c.Store.Catalog.SaveRepair(ctx, r)
		}
	}
}

// endRepair says what comes after a walk: nothing, or another one for what waits.
func (c *Work) endRepair(r *catalog.Repair) {
	now := c.Store.Catalog.Now().UTC()
	if r.Place = (catalog.WalkPlace{}); r.Waiting > 0 {
		r.After, r.Waiting, r.Bodies, r.Bytes, r.Damaged = now.Add(repairAgain), 0, 0, 0, 0
		return
	}
	r.Finished = &now
	c.Log.Info("a tier was repaired", "tier", r.Tier, "bodies", r.Bodies, "made", r.Made, "damaged", r.Damaged)
}

// mend makes missing and damaged copies and pieces of a body anew, and log and journal say so.
func (c *Work) mend(ctx context.Context, s catalog.Stored, limit func(n int) error) (bodies.Mended, error) {
	m, err := orders.Mend(ctx, c.Store, s, limit)
	if m.Failed != nil {
		c.Log.Warn("what is missing of a body cannot be written", "bucket", s.Bucket, "key", s.Version.Key.String(),
			"missing", m.Missing, "error", m.Failed)
	}
	if m.Copies > 0 {
		c.Log.Warn("copies of a body were made anew", "bucket", s.Bucket, "key", s.Version.Key.String(), "copies", m.Copies,
			"why", m.Says)
	}
	return m, err
}
