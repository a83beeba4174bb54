package jobs

import (
	"context"
	"time"

	"spindle/internal/works/crew"
)

const (
	indexStep   = 4096            // entries that the index of find reads in one go
	indexAtOnce = 2000            // entries that it does not wait for more of
	indexWait   = 5 * time.Second // after which it reads what there is
	indexTurn   = 5 * time.Second // of work on runs, before the journal is looked at again
)

// rest is how long a step is rested after: as long as it took, and longer while requests
// write a good deal.
func rest(took time.Duration, busy bool) time.Duration {
	if busy {
		return 4 * took
	}
	return took
}

// indexFind keeps the indexes of find: it reads the journal on when there is enough in it,
// builds what is new, and puts runs together. It rests as long as it works, so that others
// have the machine too.
func (c *Work) indexFind(ctx context.Context, _ *crew.Lease) error {
	cat := c.Store.Catalog
	tiers, err := c.Store.Tiers(ctx)
	if err != nil {
		return err
	}
	lag, err := cat.FindLag(ctx, "", indexAtOnce)
	if err != nil {
		return err
	}
	if lag >= indexAtOnce || lag > 0 && time.Since(c.indexed) > indexWait {
		for {
			n, err := cat.FollowFind(ctx, tiers, indexStep)
			if err != nil {
				return err
			}
			if n < indexStep {
				break
			}
		}
		c.indexed = time.Now()
	}
	if time.Since(c.enrolled) > 10*c.Settings.IndexEvery {
		if err := cat.EnrolFind(ctx, c.Settings.IndexLeast); err != nil {
			return err
		}
		c.enrolled = time.Now()
	}
	for begun := time.Now(); time.Since(begun) < indexTurn; {
		step := time.Now()
		did, err := cat.WorkOnFind(ctx, tiers)
		if err != nil || !did {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(rest(time.Since(step), cat.Busy())):
		}
	}
	return nil
}
