package works

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// roomEvery is how often it is tried to make room on a full disk.
const roomEvery = 5 * time.Second

// makeRoom has the collector run at once when writes were refused as the disk is full.
func (c *Crew) makeRoom(ctx context.Context) error {
	if !c.store.WantsRoom() {
		return nil
	}
	if err := c.store.Catalog.DueWithin(ctx, "collector", 0); err != nil {
		return err
	}
	under, l, ok, err := c.claim(ctx, "collector")
	if err != nil || !ok {
		return err
	}
	if c.store.Catalog.Agrees() {
		err = c.collect(under, l)
	}
	if l.lost(under, err) {
		err = nil
	}
	return errors.Join(err, l.finish(c.settings.CollectEvery))
}

// deletable gives the moment before which what was let go of may be deleted: after the grace
// period, in which whoever reads it ends; when room is wanted, what nobody can read any more,
// which only the one process of a house knows.
func (c *Crew) deletable() (before time.Time, early bool) {
	before = c.store.Catalog.Now().Add(-c.settings.CollectGrace)
	if !c.store.WantsRoom() || !c.alone() {
		return before, false
	}
	if unread := c.store.Unread(); unread.After(before) {
		return unread, true
	}
	return before, false
}

// alone tells whether no other process of the house lives.
func (c *Crew) alone() bool {
	others, err := os.ReadDir(c.settings.Processes)
	if err != nil || c.here == nil {
		return false
	}
	for _, x := range others {
		if x.Name() == c.holder {
			continue
		}
		f, err := os.Open(filepath.Join(c.settings.Processes, x.Name()))
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return false
		}
		lives := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil
		f.Close()
		if lives {
			return false
		}
	}
	return true
}
