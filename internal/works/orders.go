package works

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

// orders takes up what somebody ordered: every process looks, one claims.
func (c *Crew) orders(ctx context.Context, _ *job) error {
	ids, err := c.store.Catalog.RunningOrders(ctx)
	if err != nil {
		return err
	}
	for _, id := range ids {
		if c.busy(id, true) {
			continue
		}
		name := fmt.Sprintf("order %d", id)
		_, ok, err := c.store.Catalog.ClaimWork(ctx, name, c.holder, lease)
		if err != nil || !ok {
			c.busy(id, false)
			if err != nil {
				return err
			}
			continue
		}
		c.done.Go(func() {
			defer c.busy(id, false)
			j := &job{crew: c, name: name}
			if err := c.order(ctx, j, id); err != nil && ctx.Err() == nil {
				c.log.Warn("an order broke off and will be taken up again", "order", id, "error", err)
			}
		})
	}
	return nil
}

// busy notes which orders this process works on; it reports whether it did already.
func (c *Crew) busy(id int64, yes bool) (was bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	was = c.under[id]
	if yes {
		c.under[id] = true
	} else {
		delete(c.under, id)
	}
	return was
}

// orderStep is how many keys are dealt with between two looks at the order.
const orderStep = 200

func (c *Crew) order(ctx context.Context, j *job, id int64) error {
	o, err := c.store.Catalog.Order(ctx, id)
	if err != nil || o.State != catalog.OrderRunning {
		return err
	}
	step := map[string]func(context.Context, *catalog.Order) (bool, error){"rename": c.renameStep, "restore": c.restoreStep, "convert": c.convertStep}[o.Kind]
	if step == nil {
		_, err := c.store.Catalog.TurnOrder(ctx, id, catalog.OrderFailed, "this version of the service does not know the kind of order "+o.Kind, catalog.OrderRunning)
		return err
	}
	for {
		more, err := false, c.mayGoOn(ctx, o)
		if err == nil {
			more, err = step(ctx, o)
		}
		saving, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second) // also what was done before a stop
		state, serr := c.store.Catalog.SaveOrder(saving, id, o.Progress)
		cancel()
		switch f := fault.From(err); {
		case err != nil && (ctx.Err() != nil || f.Kind == fault.Unavailable || f.Kind == fault.Internal):
			return err // it stays running: somebody takes it up again
		case err != nil:
			problem := f.Message
			if f.Remedy != "" {
				problem += ". To mend it: " + f.Remedy
			}
			_, err := c.store.Catalog.TurnOrder(ctx, id, catalog.OrderFailed, problem, catalog.OrderRunning)
			return err
		case serr != nil:
			return serr
		case !more:
			_, err := c.store.Catalog.TurnOrder(ctx, id, catalog.OrderDone, "", catalog.OrderRunning, catalog.OrderStopped)
			return err
		case state != catalog.OrderRunning:
			return nil // stopped on request
		}
		if err := j.save(ctx, struct{}{}); err != nil {
			return err
		}
	}
}

// mayGoOn refuses an order whose giver may do it no more, or whose buckets are no
// longer those that were meant.
func (c *Crew) mayGoOn(ctx context.Context, o *catalog.Order) error {
	if o.What.ToID != 0 {
		to, err := object.ParseBucketName(o.What.ToBucket)
		if err != nil {
			return err
		}
		f, err := c.store.Catalog.Facts(ctx, to)
		if err != nil {
			return err
		}
		if f.ID != o.What.ToID {
			return fault.New(fault.Conflict, "bucket-changed", "the bucket %q was removed and made again since the order", to).In("target").Do("order it anew if it is still wanted")
		}
	}
	if c.settings.May == nil {
		return nil
	}
	return c.settings.May(ctx, o)
}

func author(o *catalog.Order) catalog.Author { return catalog.Author{Who: o.Who, Source: o.Source} }

// renameStep renames the next objects. What is renamed is no longer beneath the
// prefix, so the same step again goes on where this one stopped.
func (c *Crew) renameStep(ctx context.Context, o *catalog.Order) (more bool, err error) {
	to, err := object.ParseBucketName(o.What.ToBucket)
	if err != nil {
		return false, err
	}
	page, more, err := c.store.List(ctx, o.Bucket, catalog.Listing{Prefix: string(o.What.Prefix), Max: orderStep})
	if err != nil {
		return false, err
	}
	var mu sync.Mutex
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for _, e := range page {
		key := e.Version.Key
		g.Go(func() error {
			name, err := object.ParseKey(string(o.What.ToPrefix) + strings.TrimPrefix(key.String(), string(o.What.Prefix)))
			if err != nil {
				return err
			}
			v, err := c.store.Copy(gctx, store.Copy{From: catalog.Address{Bucket: o.Bucket, Key: key}, To: catalog.Address{Bucket: to, Key: name}, Author: author(o), Move: true, IfAbsent: !o.What.Replace})
			switch {
			case fault.HasCode(err, "key-missing"), fault.HasCode(err, "key-deleted"):
				return nil // somebody removed it meanwhile
			case fault.HasCode(err, "exists"):
				return fault.New(fault.Precondition, "exists", "%s/%s is there already", to, name).In("target").Do("remove it, or let what is there be replaced (--yes)")
			case err != nil:
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			o.Progress.Renamed++
			o.Progress.Bytes += v.Size
			return nil
		})
	}
	return more, g.Wait()
}

// restoreStep brings the next keys back to how they stood. A key that stands so
// already is left alone, so a step can be repeated.
func (c *Crew) restoreStep(ctx context.Context, o *catalog.Order) (more bool, err error) {
	f, err := c.store.Catalog.Facts(ctx, o.Bucket)
	if err != nil {
		return false, err
	}
	if err := NeedVersioning(f); err != nil {
		return false, err
	}
	list, err := c.store.Catalog.Differences(ctx, f.ID, string(o.What.Prefix), string(o.Progress.Cursor), o.What.AsOf, orderStep)
	if err != nil {
		return false, err
	}
	// A few side by side; the cursor moves on when all of them are done.
	for few := range slices.Chunk(list, 16) {
		p := o.Progress
		var mu sync.Mutex
		g, gctx := errgroup.WithContext(ctx)
		g.SetLimit(8)
		for _, d := range few {
			g.Go(func() error { return c.restoreOne(gctx, o, d, &p, &mu) })
		}
		if err := g.Wait(); err != nil {
			return false, err
		}
		p.Cursor = []byte(few[len(few)-1].Key)
		o.Progress = p
	}
	return len(list) == orderStep, nil
}

func (c *Crew) restoreOne(ctx context.Context, o *catalog.Order, d catalog.Difference, p *catalog.OrderProgress, mu *sync.Mutex) error {
	key, err := object.ParseKey(d.Key)
	if err != nil {
		return err
	}
	a := catalog.Address{Bucket: o.Bucket, Key: key}
	count := func(n *int64, bytes int64) {
		mu.Lock()
		defer mu.Unlock()
		*n++
		p.Bytes += bytes
	}
	switch {
	case d.Same:
		count(&p.Unchanged, 0)
	case d.Then:
		v, err := c.store.Restore(ctx, a, object.Current, o.What.AsOf, author(o))
		if err != nil {
			return fmt.Errorf("%s: %w", key, err)
		}
		count(&p.Restored, v.Size)
	case d.Now:
		if _, err := c.store.Remove(ctx, a, nil, author(o)); err != nil {
			return fmt.Errorf("%s: %w", key, err)
		}
		count(&p.Removed, 0)
	}
	return nil
}

// convertStep writes the bodies of the next keys anew, sealed or plain. What is so
// already is passed, so a step can be repeated. The cursor of the last page is kept
// until its bodies are done.
func (c *Crew) convertStep(ctx context.Context, o *catalog.Order) (more bool, err error) {
	f, err := c.store.Catalog.Facts(ctx, o.Bucket)
	if err != nil {
		return false, err
	}
	list, keys, last, err := c.store.Catalog.Unlike(ctx, f.ID, o.What.Prefix, o.Progress.Cursor, o.What.Sealed, 50)
	if err != nil {
		return false, err
	}
	changed := map[string]bool{}
	for _, b := range list {
		moved, err := c.store.Convert(ctx, b, o.What.Sealed)
		if fault.KindOf(err) == fault.Damaged {
			err = fmt.Errorf("%s: %w", b.Key, err)
		}
		if err != nil {
			return false, err
		}
		if moved {
			o.Progress.Bytes += b.Size
			changed[string(b.Key)] = true
		}
	}
	o.Progress.Unchanged += int64(keys - len(changed))
	o.Progress.Converted += int64(len(changed))
	o.Progress.Cursor = last
	return last != nil, nil
}

// NeedVersioning refuses work that would lose what it replaces. The error has
// the code versioning-not-on.
func NeedVersioning(f catalog.BucketFacts) error {
	if f.Versioning != object.On {
		return fault.New(fault.Conflict, "versioning-not-on", "versioning is %s: what the restore replaces would be gone", f.Versioning).In("versioning").Do("switch versioning on first")
	}
	return nil
}

// Rehearsal says what an order would do.
type Rehearsal struct {
	Restored  int64  `json:"restored,omitempty" doc:"Objects that would be brought back or set back"`
	Removed   int64  `json:"removed,omitempty" doc:"Objects that were not there then and would be deleted, with a delete marker"`
	Unchanged int64  `json:"unchanged,omitempty"`
	Renamed   int64  `json:"renamed,omitempty"`
	Taken     int64  `json:"taken,omitempty" doc:"Of the renamed, those whose new key is taken"`
	First     string `json:"first,omitempty" doc:"The first key that is taken"`
	Converted int64  `json:"converted,omitempty" doc:"Objects whose content would be written anew, sealed or plain"`
	Bytes     int64  `json:"bytes" doc:"Of the objects renamed or restored, none of which are moved; of bodies to be written anew"`
}

// Rehearse works out what an order would do, on the real catalogue, without
// doing it, and checks that it can be done.
func Rehearse(ctx context.Context, s *store.Store, o *catalog.Order) (r Rehearsal, err error) {
	f, err := s.Catalog.Facts(ctx, o.Bucket)
	if err != nil {
		return r, err
	}
	prefix := string(o.What.Prefix)
	switch o.Kind {
	case "restore":
		if err := NeedVersioning(f); err != nil {
			return r, err
		}
		if err := catalog.BucketBefore(f, o.What.AsOf); err != nil {
			return r, err
		}
		for after := ""; ; {
			list, err := s.Catalog.Differences(ctx, f.ID, prefix, after, o.What.AsOf, 1000)
			if err != nil {
				return r, err
			}
			for _, d := range list {
				switch {
				case d.Same:
					r.Unchanged++
				case d.Then:
					r.Restored++
					r.Bytes += d.Bytes
				case d.Now:
					r.Removed++
				}
				after = d.Key
			}
			if len(list) < 1000 {
				return r, nil
			}
		}
	case "convert":
		if o.What.Sealed = f.Sealing; o.What.Prefix == nil {
			o.What.Prefix = []byte{}
		}
		for after := []byte{}; after != nil; {
			list, keys, last, err := s.Catalog.Unlike(ctx, f.ID, o.What.Prefix, after, f.Sealing, 1000)
			if err != nil {
				return r, err
			}
			changed := map[string]bool{}
			for _, b := range list {
				r.Bytes += b.Size
				changed[string(b.Key)] = true
			}
			r.Unchanged += int64(keys - len(changed))
			r.Converted += int64(len(changed))
			after = last
		}
		return r, nil
	case "rename":
		to, err := object.ParseBucketName(o.What.ToBucket)
		if err != nil {
			return r, err
		}
		if to == o.Bucket && strings.HasPrefix(string(o.What.ToPrefix), prefix) {
			return r, fault.New(fault.Invalid, "rename-beneath", "the new prefix lies beneath the old one").In("target").Do("choose one that does not")
		}
		tf, err := s.Catalog.Facts(ctx, to)
		if err != nil {
			return r, err
		}
		o.What.ToID = tf.ID
		for after := ""; ; {
			page, more, err := s.Catalog.List(ctx, catalog.Listing{Bucket: f.ID, Prefix: prefix, After: after, Max: 1000})
			if err != nil {
				return r, err
			}
			names := make([]string, len(page))
			for i, e := range page {
				r.Renamed++
				r.Bytes += e.Version.Size
				after = e.Name()
				key, err := object.ParseKey(string(o.What.ToPrefix) + strings.TrimPrefix(after, prefix))
				if err != nil {
					return r, err
				}
				names[i] = key.String()
			}
			taken, err := s.Catalog.Taken(ctx, tf.ID, names)
			if err != nil {
				return r, err
			}
			if r.Taken += int64(len(taken)); r.First == "" && len(taken) > 0 {
				r.First = taken[0]
			}
			if !more {
				return r, nil
			}
		}
	}
	return r, orderKind(o.Kind)
}

// Order records an order after its rehearsal; the crew of some process takes it
// up within a second. One that is the same and has not finished goes on instead.
func Order(ctx context.Context, s *store.Store, o *catalog.Order, by catalog.Author) (int64, error) {
	r, err := Rehearse(ctx, s, o)
	if err != nil {
		return 0, err
	}
	if r.Taken > 0 && !o.What.Replace {
		return 0, fault.New(fault.Precondition, "exists", "%d of the new keys are taken; the first is %s/%s", r.Taken, o.What.ToBucket, r.First).In("target").
			Do("choose another prefix, or let what is there be replaced")
	}
	by.At = time.Now().UTC().Truncate(time.Microsecond)
	o.Progress = catalog.OrderProgress{Total: r.Renamed + r.Restored + r.Removed + r.Unchanged + r.Converted, Began: by.At}
	return s.Catalog.CreateOrder(ctx, o, by)
}
