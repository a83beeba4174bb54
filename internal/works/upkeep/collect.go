package upkeep

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/bodies"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/works/crew"
)

// Collected is where the collector stands, as the desk shows it.
type Collected struct {
	LastRun   time.Time `json:"lastRun"`
	LastSweep time.Time `json:"lastSweep"`
	Files     int64     `json:"files"` // deleted in all
	Bytes     int64     `json:"bytes"`
}

// earlySweep is how often all files are looked at while the disk is full.
const earlySweep = time.Minute

// collect deletes what nobody refers to: first the files that versions let go
// of, then, less often, whatever a look at every file finds.
func (c *Work) collect(ctx context.Context, l *crew.Lease) error {
	var at Collected
	if err := l.Load(&at); err != nil {
		return err
	}
	if held, err := c.Store.Catalog.BodiesHeld(ctx); held || err != nil {
		return err // a backup is being made
	}
	before, early := c.deletable()
	for {
		list, err := c.Store.Catalog.ReleasedBefore(ctx, before, 500)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			break
		}
		var files []object.BodyFile
		var inParts, ids []int64
		for _, r := range list {
			ids = append(ids, r.ID)
			if r.File < 0 {
				inParts = append(inParts, r.File)
			} else {
				files = append(files, r.BodyFile)
			}
		}
		// Objects that came in parts let go of the parts; these come round again.
		if err := c.Store.Catalog.ReleaseParts(ctx, inParts); err != nil {
			return err
		}
		if err := c.deleteUnreferenced(ctx, files, &at); err != nil {
			return err
		}
		if err := c.Store.Catalog.ForgetReleased(ctx, ids); err != nil {
			return err
		}
		if err := l.Save(ctx, at); err != nil {
			return err
		}
	}
	at.LastRun = c.Store.Catalog.Now().UTC()
	sweepEvery := c.Settings.SweepEvery
	if early {
		sweepEvery = min(sweepEvery, earlySweep)
	}
	if c.Store.Catalog.Now().Sub(at.LastSweep) >= sweepEvery {
		if err := c.sweep(ctx, before, &at); err != nil {
			return err
		}
		at.LastSweep = c.Store.Catalog.Now().UTC()
	}
	return l.Save(ctx, at)
}

// mayDelete refuses to delete bodies while a backup is being made: its snapshot may refer to
// them. The error has the code backup-running.
func (c *Work) mayDelete(ctx context.Context) error {
	held, err := c.Store.Catalog.BodiesHeld(ctx)
	if err == nil && held {
		err = fault.New(fault.Unavailable, "backup-running", "a backup is being made; bodies stay until it is done")
	}
	return err
}

// removalsAtOnce is how many files are removed side by side: some are far away.
const removalsAtOnce = 8

// deleteUnreferenced removes those of files that nobody holds and nobody refers to. It is
// asked in this order: whoever held a body when the catalog was asked may have committed
// since.
func (c *Work) deleteUnreferenced(ctx context.Context, files []object.BodyFile, at *Collected) error {
	if err := c.mayDelete(ctx); err != nil {
		return err
	}
	var idle []object.BodyFile
	for _, f := range files {
		space, err := c.Store.Spaces.Of(f.Tier)
		if err != nil {
			return err
		}
		held, err := space.Held(f.File)
		if err != nil {
			return err
		}
		if !held {
			idle = append(idle, f)
		}
	}
	free, err := c.Store.Catalog.Unreferenced(ctx, idle)
	if err != nil {
		return err
	}
	var gone, bytes atomic.Int64
	var g errgroup.Group
	g.SetLimit(removalsAtOnce)
	for _, f := range free {
		space, err := c.Store.Spaces.Of(f.Tier)
		if err != nil {
			return errors.Join(err, g.Wait())
		}
		g.Go(func() error {
			n, err := space.RemoveWhole(f.File)
			if n > 0 {
				gone.Add(1)
				bytes.Add(n)
			}
			return err
		})
	}
	err = g.Wait()
	at.Files += gone.Load()
	at.Bytes += bytes.Load()
	return err
}

func (c *Work) sweep(ctx context.Context, before time.Time, at *Collected) error {
	return c.Store.Spaces.Each(func(space bodies.Space) error { return c.sweepSpace(ctx, space, before, at) })
}

func (c *Work) sweepSpace(ctx context.Context, space bodies.Space, before time.Time, at *Collected) error {
	var whole []object.BodyFile
	err := space.Walk(ctx, func(f bodies.File) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if f.Changed.After(before) {
			return nil
		}
		if f.Segment {
			return c.compact(ctx, space, f, at)
		}
		if whole = append(whole, object.BodyFile{Tier: space.Tier(), File: f.ID}); len(whole) == 500 {
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
func (c *Work) compact(ctx context.Context, space bodies.Space, f bodies.File, at *Collected) error {
	if err := c.mayDelete(ctx); err != nil {
		return err
	}
	unlock, ok, err := space.LockSegment(f.ID)
	if err != nil || !ok {
		return err
	}
	defer unlock()
	residents, err := c.Store.Catalog.Residents(ctx, object.BodyFile{Tier: space.Tier(), File: f.ID})
	if err != nil {
		return err
	}
	var live int64
	for _, r := range residents {
		live += r.Size
	}
	switch {
	case len(residents) == 0:
		if err := space.RemoveSegment(f.ID); err != nil {
			return err
		}
		at.Files++
		at.Bytes += f.Size
		return nil
	case live*2 >= f.Size:
		return nil
	}
	from := object.BodyRef{Tier: space.Tier(), File: f.ID}
	for _, r := range residents {
		from.Offset = r.Offset
		to, err := space.CopySmall(from, r.Size, uint64(r.CRC64))
		if fault.KindOf(err) == fault.Full {
			return nil // there is no room to make room in
		}
		if err != nil {
			c.Log.Warn("a body cannot be moved out of its segment", "segment", f.ID, "offset", r.Offset, "error", err)
			continue // the scrubber reports it
		}
		_, err = c.Store.Catalog.ReplaceBody(ctx, from, to.Ref)
		to.Release()
		if err != nil {
			return err
		}
	}
	return errors.Join(space.TouchSegment(f.ID), ctx.Err())
}
