package upkeep

import (
	"context"
	"errors"
	"time"
)

// roomEvery is how often it is tried to make room on a full disk.
const roomEvery = 5 * time.Second

// makeRoom has the collector run at once when writes were refused as the disk is full.
func (c *Work) makeRoom(ctx context.Context) error {
	if !c.Store.WantsRoom() {
		return nil
	}
	if err := c.Store.Catalog.DueWithin(ctx, "collector", 0); err != nil {
		return err
	}
	under, l, ok, err := c.Claim(ctx, "collector")
	if err != nil || !ok {
		return err
	}
	if c.Store.Catalog.Agrees() {
		err = c.collect(under, l)
	}
	if l.Lost(under, err) {
		err = nil
	}
	return errors.Join(err, l.Finish(c.Settings.CollectEvery))
}

// deletable gives the moment before which what was let go of may be deleted: after the grace
// period, in which whoever reads it ends; when room is wanted, what nobody can read any more,
// which only the one process of a house knows.
func (c *Work) deletable() (before time.Time, early bool) {
	before = c.Store.Catalog.Now().Add(-c.Settings.CollectGrace)
	if !c.Store.WantsRoom() || !c.Alone() {
		return before, false
	}
	if unread := c.Store.Unread(); unread.After(before) {
		return unread, true
	}
	return before, false
}
