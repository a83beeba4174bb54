package works

import (
	"context"
	"errors"
	"slices"
	"time"

	"spindle/internal/bodies"
	"spindle/internal/core/object"
)

// Collected is where the collector stands, as the desk shows it.
type Collected struct {
	LastRun   time.Time `json:"lastRun"`
	LastSweep time.Time `json:"lastSweep"`
	Files     int64     `json:"files"` // deleted in all
	Bytes     int64     `json:"bytes"`
}

// collect deletes what nobody refers to: first the files that versions let go
// of, then, less often, whatever a look at every file finds.
func (c *Crew) collect(ctx context.Context, l *lease) error {
	var at Collected
	if err := l.load(&at); err != nil {
		return err
	}
	before := c.store.Catalog.Now().Add(-c.settings.CollectGrace)
	for {
		list, err := c.store.Catalog.ReleasedBefore(ctx, before, 500)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			break
		}
		files, ids := make([]int64, len(list)), make([]int64, len(list))
		for i, r := range list {
			files[i], ids[i] = r.File, r.ID
		}
		// Objects that came in parts let go of the parts; these come round again.
		if err := c.store.Catalog.ReleaseParts(ctx, files); err != nil {
			return err
		}
		if err := c.deleteUnreferenced(ctx, slices.DeleteFunc(files, func(f int64) bool { return f < 0 }), &at); err != nil {
			return err
		}
		if err := c.store.Catalog.ForgetReleased(ctx, ids); err != nil {
			return err
		}
		if err := l.save(ctx, at); err != nil {
			return err
		}
	}
	at.LastRun = c.store.Catalog.Now().UTC()
	if c.store.Catalog.Now().Sub(at.LastSweep) >= c.settings.SweepEvery {
		if err := c.sweep(ctx, before, &at); err != nil {
			return err
		}
		at.LastSweep = c.store.Catalog.Now().UTC()
	}
	return l.save(ctx, at)
}

func (c *Crew) deleteUnreferenced(ctx context.Context, files []int64, at *Collected) error {
	free, err := c.store.Catalog.Unreferenced(ctx, files)
	if err != nil {
		return err
	}
	for _, id := range free {
		n, err := c.store.Volume.RemoveWhole(id)
		if err != nil {
			return err
		}
		if n > 0 {
			at.Files++
			at.Bytes += n
		}
	}
	return nil
}

func (c *Crew) sweep(ctx context.Context, before time.Time, at *Collected) error {
	var whole []int64
	err := c.store.Volume.Walk(func(f bodies.File) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if f.Changed.After(before) {
			return nil
		}
		if f.Segment {
			return c.compact(ctx, f, at)
		}
		if whole = append(whole, f.ID); len(whole) == 500 {
			err := c.deleteUnreferenced(ctx, whole, at)
			whole = whole[:0]
			return err
		}
		return nil
	})
	if err != nil {
		return err
	}
	return c.deleteUnreferenced(ctx, whole, at)
}

// compact deletes a segment without residents, and moves the residents of one
// of which less than half is alive. A segment that was emptied is kept for
// another grace period: somebody may just have looked up a body in it.
func (c *Crew) compact(ctx context.Context, f bodies.File, at *Collected) error {
	unlock, ok, err := c.store.Volume.LockSegment(f.ID)
	if err != nil || !ok {
		return err
	}
	defer unlock()
	residents, err := c.store.Catalog.Residents(ctx, f.ID)
	if err != nil {
		return err
	}
	var live int64
	for _, r := range residents {
		live += r.Size
	}
	switch {
	case len(residents) == 0:
		if err := c.store.Volume.RemoveSegment(f.ID); err != nil {
			return err
		}
		at.Files++
		at.Bytes += f.Size
		return nil
	case live*2 >= f.Size:
		return nil
	}
	from := object.BodyRef{File: f.ID}
	for _, r := range residents {
		from.Offset = r.Offset
		to, err := c.store.Volume.CopySmall(from, r.Size, uint64(r.CRC64))
		if err != nil {
			c.log.Warn("a body cannot be moved out of its segment", "segment", f.ID, "offset", r.Offset, "error", err)
			continue // the scrubber reports it
		}
		_, err = c.store.Catalog.ReplaceBody(ctx, from, to.Ref)
		to.Release()
		if err != nil {
			return err
		}
	}
	return errors.Join(c.store.Volume.TouchSegment(f.ID), ctx.Err())
}
