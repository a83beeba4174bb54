package works

import (
	"context"
	"errors"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/object"
)

// mender is a space that keeps several copies.
type mender interface {
	Mend(ctx context.Context, ref object.BodyRef, size int64, crc uint64, limit func(n int) error) (bodies.Mended, error)
}

var _ mender = (*bodies.Shelf)(nil)

// check compares a body with its digest; copies that are damaged or missing are made
// anew from a good one, and the journal says so.
func (c *Crew) check(ctx context.Context, s catalog.Stored, limit func(n int) error) error {
	v := s.Version
	space, err := c.store.Spaces.Of(v.Body.Tier)
	if err != nil {
		return err
	}
	if far, ok := space.(*bodies.Elsewhere); ok && !c.settings.ReadElsewhere {
		return errors.Join(limit(1), far.Look(v.Body, v.Size))
	}
	_, err = c.mend(ctx, s, limit)
	return err
}

// restoreCopies makes the restored copies that are due, and lets go of those whose time
// is over.
func (c *Crew) restoreCopies(ctx context.Context, _ *lease) error {
	for {
		due, gone, err := c.store.Catalog.RestoredDue(ctx, 50)
		if err != nil {
			return err
		}
		for _, r := range due {
			if err := c.store.MakeRestored(ctx, *r); err != nil {
				return err
			}
		}
		for _, r := range gone {
			if err := c.store.Catalog.DropRestored(ctx, *r); err != nil {
				return err
			}
		}
		if len(due) < 50 && len(gone) < 50 {
			return nil
		}
	}
}
