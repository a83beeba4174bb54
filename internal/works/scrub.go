package works

import (
	"context"
	"time"

	"golang.org/x/time/rate"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/store"
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
func (c *Crew) scrub(ctx context.Context, l *lease) error {
	var at Scrubbed
	if err := l.load(&at); err != nil {
		return err
	}
	underWay := at.Finished.Before(at.Started)
	if !underWay {
		if c.store.Catalog.Now().Sub(at.Started) < c.settings.ScrubEvery && at.Bodies > 0 {
			return nil
		}
		at = Scrubbed{Started: c.store.Catalog.Now().UTC(), Finished: at.Finished}
	}
	// The burst is what one read of a buffer may ask for at once.
	limiter := rate.NewLimiter(rate.Limit(c.settings.ScrubRate), max(1<<20, int(c.settings.ScrubRate/10)))
	for {
		list, next, more, err := c.store.Catalog.WalkBodies(ctx, at.WalkPlace, 200)
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
				c.log.Error("a body is damaged", "bucket", s.Bucket, "key", s.Version.Key.String(), "file", s.Version.Body.File)
			}
			at.Bodies++
			at.Bytes += s.Version.Size
			if at.Stage < 2 { // parts are passed a page at a time
				at.Bucket, at.Key, at.Number = s.Bucket, []byte(s.Version.Key.String()), s.Version.Number
			}
		}
		at.WalkPlace = next
		if !more {
			at.Finished, at.WalkPlace = c.store.Catalog.Now().UTC(), catalog.WalkPlace{}
			return l.save(ctx, at)
		}
		if err := l.save(ctx, at); err != nil {
			return err
		}
	}
}

// scrubOne reads a body, and notes what is found.
func (c *Crew) scrubOne(ctx context.Context, s catalog.Stored, limit func(n int) error) (damaged bool, err error) {
	return noteCheck(ctx, c.store, s, c.check(ctx, s, limit))
}

// noteCheck notes what reading a body said: that it is damaged, or that it is sound again. Only
// bytes that were read say so; a volume that is away says nothing.
func noteCheck(ctx context.Context, st *store.Store, s catalog.Stored, found error) (damaged bool, err error) {
	v := s.Version
	switch {
	case fault.HasCode(found, "volume-away"):
		return false, nil // it is no loss; the overview tells of it
	case found == nil:
		return false, st.Catalog.MendDamage(ctx, s.Bucket, v, st.Catalog.Now())
	case !unreadable(ctx, found):
		return false, found
	}
	// It is none if the body was moved or replaced while we looked.
	return st.Catalog.ReportDamage(ctx, s.Bucket, v, fault.From(found).Message, st.Catalog.Now())
}

// unreadable reports whether an error is of the bytes: they are not what they were, or the disk
// does not give them.
func unreadable(ctx context.Context, err error) bool {
	kind := fault.KindOf(err)
	return kind == fault.Damaged || kind == fault.Internal && ctx.Err() == nil && !fault.HasCode(err, "database-error")
}
