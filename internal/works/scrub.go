package works

import (
	"context"
	"time"

	"golang.org/x/time/rate"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
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
			v := s.Version
			err := c.check(ctx, s, func(n int) error { return limiter.WaitN(ctx, n) })
			switch {
			case fault.HasCode(err, "volume-away"):
				continue // it is no loss; the overview tells of it
			case err == nil:
				err = c.store.Catalog.MendDamage(ctx, s.Bucket, v, c.store.Catalog.Now())
			case fault.KindOf(err) == fault.Damaged:
				problem := err
				var current bool
				// It is none if the body was moved or replaced while we looked.
				if current, err = c.store.Catalog.ReportDamage(ctx, s.Bucket, v, fault.From(err).Message,
					c.store.Catalog.Now()); current {
					at.Damaged++
					c.log.Error("a body is damaged", "bucket", s.Bucket, "key", v.Key.String(), "file", v.Body.File, "error", problem)
				}
			}
			if err != nil {
				return err
			}
			at.Bodies++
			at.Bytes += v.Size
			if at.Stage < 2 { // parts are passed a page at a time
				at.Bucket, at.Key, at.Number = s.Bucket, []byte(v.Key.String()), v.Number
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
