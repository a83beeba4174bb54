package ageing

import (
	"context"
	"crypto/sha256"

	"golang.org/x/time/rate"

	"spindle/internal/core/fault"
	"spindle/internal/works/crew"
)

// forgetUploads forgets uploads that ended long ago.
func (c *Work) forgetUploads(ctx context.Context, _ *crew.Lease) error {
	return c.Store.Catalog.ForgetUploads(ctx, c.Store.Catalog.Now())
}

// sum works out the SHA-256 of the whole of objects that came in parts, at the
// scrubber's rate.
func (c *Work) sum(ctx context.Context, _ *crew.Lease) error {
	limiter := rate.NewLimiter(rate.Limit(c.Settings.ScrubRate), max(1<<20, int(c.Settings.ScrubRate/10)))
	list, err := c.Store.Catalog.Unsummed(ctx, 50)
	if err != nil {
		return err
	}
	for _, s := range list {
		v := s.Version
		h := sha256.New()
		err := c.Store.ReadAll(ctx, v, h, func(n int) error { return limiter.WaitN(ctx, n) })
		switch {
		case fault.KindOf(err) == fault.Damaged, fault.HasCode(err, "volume-away"):
			continue // the scrubber reports it, the overview tells
		case err != nil:
			return err
		}
		if err := c.Store.Catalog.SaveSum(ctx, v.Body, h.Sum(nil)); err != nil {
			return err
		}
	}
	return nil
}
