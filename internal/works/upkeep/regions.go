package upkeep

import (
	"context"

	"golang.org/x/sync/errgroup"

	"spindle/internal/core/fault"
	"spindle/internal/core/region"
	"spindle/internal/works/crew"
)

// hearRegions asks every sister what it has, side by side, and keeps that.
func (c *Work) hearRegions(ctx context.Context, _ *crew.Lease) error {
	list, err := c.Store.Catalog.Regions(ctx)
	if err != nil {
		return err
	}
	var g errgroup.Group
	g.SetLimit(8)
	for _, r := range list {
		g.Go(func() error {
			err := c.Settings.Remote.HearRegion(ctx, r)
			switch was := r.State; {
			case err != nil && was == region.Here:
				c.Log.Warn("a region is away", "region", r.Name, "says", fault.From(err).Message)
			case err == nil && was == region.Away:
				c.Log.Info("a region is back", "region", r.Name)
			}
			return nil // it is kept how it stands
		})
	}
	return g.Wait()
}
