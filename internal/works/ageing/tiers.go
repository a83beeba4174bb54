package ageing

import (
	"context"

	"spindle/internal/bodies"
	"spindle/internal/works/crew"
	"spindle/internal/works/orders"
)

var _ orders.Mender = (*bodies.Shelf)(nil)

// restoreCopies makes the restored copies that are due, and lets go of those whose time
// is over.
func (c *Work) restoreCopies(ctx context.Context, _ *crew.Lease) error {
	for {
		due, gone, err := c.Store.Catalog.RestoredDue(ctx, 50)
		if err != nil {
			return err
		}
		for _, r := range due {
			if err := c.Store.MakeRestored(ctx, *r); err != nil {
				return err
			}
		}
		for _, r := range gone {
			if err := c.Store.Catalog.DropRestored(ctx, *r); err != nil {
				return err
			}
		}
		if len(due) < 50 && len(gone) < 50 {
			return nil
		}
	}
}
