package works

import (
	"context"

	"golang.org/x/sync/errgroup"

	"spindle/internal/core/fault"
	"spindle/internal/core/region"
)

// hearRegions asks every sister what it has, side by side, and keeps that.
func (c *Crew) hearRegions(ctx context.Context, _ *lease) error {
	list, err := c.store.Catalog.Regions(ctx)
	if err != nil {
		return err
	}
	var g errgroup.Group
	g.SetLimit(8)
	for _, r := range list {
		g.Go(func() error {
			err := c.settings.Remote.HearRegion(ctx, r)
			switch was := r.State; {
			case err != nil && was == region.Here:
				c.log.Warn("a region is away", "region", r.Name, "says", fault.From(err).Message)
			case err == nil && was == region.Away:
				c.log.Info("a region is back", "region", r.Name)
			}
			return nil // it is kept how it stands
		})
	}
	return g.Wait()
}
