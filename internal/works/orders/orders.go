package orders

import (
	"context"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/works/crew"
)

// orderStep is how many keys are dealt with between two looks at an order.
const orderStep = 500

// orderRate is how many keys a second an order deals with before it rests between its steps while
// requests have a good deal to do.
const orderRate = 5000

// attemptsMost is how often an order is tried again that fails for a reason nobody
// knows; one that fails because the database is away is tried for ever.
const attemptsMost = 8

// orders takes up what somebody ordered: every process looks, one claims. Of each
// kind a process works on a few at a time, those due longest first.
func (c *Work) orders(ctx context.Context) error {
	if err := c.Store.Catalog.FailUnknownOrders(ctx, KindNames()); err != nil {
		return err
	}
	for i := range Kinds {
		k := &Kinds[i]
		free := k.Parallel - c.Working(k.Name, 0)
		if free <= 0 {
			continue
		}
		ids, err := c.Store.Catalog.OrdersDue(ctx, k.Name, free)
		if err != nil {
			return err
		}
		for _, id := range ids {
			under, l, ok, err := c.Claim(ctx, catalog.OrderWork(id))
			if err != nil {
				return err
			}
			if !ok {
				continue
			}
			c.Working(k.Name, 1)
			c.Done.Go(func() {
				defer c.Working(k.Name, -1)
				if err := c.order(under, l, k, id); err != nil && ctx.Err() == nil {
					c.Log.Warn("an order broke off and will be taken up again", "order", id, "error", err)
				}
			})
		}
	}
	return nil
}

// order does an order step by step until it ends, is stopped, or fails.
func (c *Work) order(ctx context.Context, l *crew.Lease, k *Kind, id int64) (err error) {
	defer func() {
		if ferr := l.Finish(0); err == nil {
			err = ferr
		}
	}()
	o, err := c.Store.Catalog.Order(ctx, id)
	if err != nil || o.State != catalog.OrderRunning {
		return err
	}
	for {
		begun, before := time.Now(), o.Progress.Done()
		more, err := false, c.mayGoOn(ctx, o)
		if err == nil {
			err = crew.Guarded(func() (err error) {
				more, err = k.Step(ctx, c.Store, o)
				return err
			})
		}
		if l.Lost(ctx, err) {
			return nil // somebody else goes on with it
		}
		saving, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second) // also what was done before a stop
		state, serr := c.Store.Catalog.SaveOrder(saving, id, o.Progress, err == nil)
		cancel()
		switch {
		case err != nil && ctx.Err() != nil, err == nil && l.Lost(ctx, serr):
			return nil
		case err != nil:
			return c.orderFailed(ctx, o, err)
		case serr != nil:
			return serr
		case !more:
			return c.Store.Catalog.EndOrder(ctx, id, catalog.OrderDone, "")
		case state != catalog.OrderRunning:
			return nil // stopped on request
		}
		o.Attempts = 0
		c.yield(ctx, o.Progress.Done()-before, begun)
	}
}

// yield rests after a step while requests have a good deal to do: as long as it took, but for no
// longer than the order's rate allows.
func (c *Work) yield(ctx context.Context, keys int64, begun time.Time) {
	took := time.Since(begun)
	wait := min(took, time.Duration(keys)*time.Second/orderRate-took)
	if wait <= 0 || !c.Store.Catalog.Asked() {
		return
	}
	select {
	case <-ctx.Done():
	case <-time.After(wait):
	}
}

// orderFailed puts an order off whose failure may pass, and ends one that fails for
// its own reason, or again and again for one that nobody knows.
func (c *Work) orderFailed(ctx context.Context, o *catalog.Order, why error) error {
	f := fault.From(why)
	says := f.Message
	if f.Remedy != "" {
		says += ". Fix: " + f.Remedy
	}
	switch {
	case f.Kind == fault.Unavailable, f.Kind == fault.Internal && o.Attempts < attemptsMost:
		wait := crew.Pause(o.Attempts)
		c.Log.Warn("an order failed and will be tried again", "order", o.ID, "attempts", o.Attempts+1, "in", wait, "error",
			why)
		return c.Store.Catalog.DelayOrder(ctx, o.ID, wait, says)
	case f.Kind == fault.Internal:
		c.Log.Error("an order failed again and again", "order", o.ID, "error", why)
	}
	return c.Store.Catalog.EndOrder(ctx, o.ID, catalog.OrderFailed, says)
}

// mayGoOn refuses an order whose giver may do it no more, or whose buckets are no
// longer those that were meant.
func (c *Work) mayGoOn(ctx context.Context, o *catalog.Order) error {
	if o.What.ToID != 0 {
		to, err := object.ParseBucketName(o.What.ToBucket)
		if err != nil {
			return err
		}
		f, err := c.Store.Catalog.Facts(ctx, to)
		if err != nil {
			return err
		}
		if f.ID != o.What.ToID {
			return fault.New(fault.Conflict, "bucket-changed", "the bucket %q was removed and made again since the order", to).
				In("target").Do("order it anew if it is still wanted")
		}
	}
	if c.Settings.May == nil {
		return nil
	}
	return c.Settings.May(ctx, o)
}

func author(o *catalog.Order) catalog.Author { return catalog.Author{Who: o.Who, Source: o.Source} }
