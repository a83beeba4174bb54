package works

import (
	"context"
	"crypto/sha256"

	"golang.org/x/time/rate"

	"spindle/internal/core/fault"
)

// forgetUploads forgets uploads that ended long ago.
func (c *Crew) forgetUploads(ctx context.Context, _ *lease) error {
	return c.store.Catalog.ForgetUploads(ctx, c.store.Catalog.Now())
}

// sum works out the SHA-256 of the whole of objects that came in parts, at the
// scrubber's rate.
func (c *Crew) sum(ctx context.Context, _ *lease) error {
	limiter := rate.NewLimiter(rate.Limit(c.settings.ScrubRate), max(1<<20, int(c.settings.ScrubRate/10)))
	list, err := c.store.Catalog.Unsummed(ctx, 50)
	if err != nil {
		return err
	}
	for _, s := range list {
		v := s.Version
		h := sha256.New()
		err := c.store.ReadAll(ctx, v, h, func(n int) error { return limiter.WaitN(ctx, n) })
		switch {
		case fault.KindOf(err) == fault.Damaged, fault.HasCode(err, "volume-away"):
			continue // the scrubber reports it, the overview tells
		case err != nil:
			return err
		}
		if err := c.store.Catalog.SaveSum(ctx, v.Body, h.Sum(nil)); err != nil {
			return err
		}
	}
	return nil
}
