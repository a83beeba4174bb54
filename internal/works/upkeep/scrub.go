package upkeep

import (
	"context"
	"errors"
	"time"

	"golang.org/x/time/rate"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/works/crew"
	"spindle/internal/works/orders"
)

// Scrubbed is where the scrubber stands, as the desk shows it.
type Scrubbed struct {
	Started           time.Time `json:"started"`  // of the walk under way or of the last one
	Finished          time.Time `json:"finished"` // of the last complete walk
	catalog.WalkPlace           // reached: zero between walks
	Bodies            int64     `json:"bodies"` // read in this walk
	Bytes             int64     `json:"bytes"`
	Damaged           int64     `json:"damaged"`
}

// scrub reads every body at a limited rate and compares it with its digest. A
// walk that found no body at all is begun anew a minute later.
func (c *Work) scrub(ctx context.Context, l *crew.Lease) error {
	var at Scrubbed
	if err := l.Load(&at); err != nil {
		return err
	}
	underWay := at.Finished.Before(at.Started)
	if !underWay {
		if c.Store.Catalog.Now().Sub(at.Started) < c.Settings.ScrubEvery && at.Bodies > 0 {
			return nil
		}
		at = Scrubbed{Started: c.Store.Catalog.Now().UTC(), Finished: at.Finished}
	}
	// The burst is what one read of a buffer may ask for at once.
	limiter := rate.NewLimiter(rate.Limit(c.Settings.ScrubRate), max(1<<20, int(c.Settings.ScrubRate/10)))
	for {
		list, next, more, err := c.Store.Catalog.WalkBodies(ctx, at.WalkPlace, 200)
		if err != nil {
			return err
		}
		for _, s := range list {
			damaged, err := c.scrubOne(ctx, s, func(n int) error { return limiter.WaitN(ctx, n) })
			if err != nil {
				return err
			}
			if damaged {
				at.Damaged++
				c.Log.Error("a body is damaged", "bucket", s.Bucket, "key", s.Version.Key.String(), "file", s.Version.Body.File)
			}
			at.Bodies++
			at.Bytes += s.Version.Size
			if at.Stage < 2 { // parts are passed a page at a time
				at.Bucket, at.Key, at.Number = s.Bucket, []byte(s.Version.Key.String()), s.Version.Number
			}
		}
		at.WalkPlace = next
		if !more {
			at.Finished, at.WalkPlace = c.Store.Catalog.Now().UTC(), catalog.WalkPlace{}
			return l.Save(ctx, at)
		}
		if err := l.Save(ctx, at); err != nil {
			return err
		}
	}
}

// scrubOne reads a body, and notes what is found.
func (c *Work) scrubOne(ctx context.Context, s catalog.Stored, limit func(n int) error) (damaged bool, err error) {
	return orders.NoteCheck(ctx, c.Store, s, c.check(ctx, s, limit))
}

// check compares a body with its digest; copies that are damaged or missing are made
// anew from a good one, and the journal says so.
func (c *Work) check(ctx context.Context, s catalog.Stored, limit func(n int) error) error {
	v := s.Version
	space, err := c.Store.Spaces.Of(v.Body.Tier)
	if err != nil {
		return err
	}
	if far, ok := space.(*bodies.Elsewhere); ok && !c.Settings.ReadElsewhere {
		return errors.Join(limit(1), far.Look(v.Body, v.Size))
	}
	_, err = c.mend(ctx, s, limit)
	return err
}
