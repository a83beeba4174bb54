package objects

import (
	"cmp"
	"context"
	"slices"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/desk/middle"
)

const (
	thenPage   = 1000   // objects of the past that are looked at in one go
	sortedMost = 50_000 // objects that are kept while they are sorted
)

// findThen adds what one look into a bucket as it was finds, and moves the place on; "" at
// its end.
func (d *Desk) findThen(ctx context.Context, f *finding, b *catalog.Bucket, at *catalog.FindPlace, limit int,
	out *api.FindAnswer) error {
	page, next, err := d.Store.ListAsOf(ctx, b.Name, catalog.Listing{Prefix: f.prefix(), After: at.Key, Max: thenPage,
		Full: true}, f.asOf)
	if fault.HasCode(err, "bucket-missing") || fault.HasCode(err, "bucket-later") { // it was not there
		*at = catalog.FindPlace{}
		return nil
	}
	if err != nil {
		return err
	}
	seen := d.VeilOf(ctx, b.Account)
	for i, e := range page {
		v := e.Version
		out.Looked++
		o := query.Of(v)
		o.Bucket, o.Tier, o.Current = b.Name.String(), f.base.Tiers.Name(v.Body.Tier), true
		if !query.Holds(f.expr, o, f.asOf) {
			continue
		}
		out.Objects = append(out.Objects, d.foundObject(f, b, v, true, seen))
		if len(out.Objects) == limit && (i < len(page)-1 || next != "") {
			*at = catalog.FindPlace{Key: v.Key.String()}
			return nil
		}
	}
	*at = catalog.FindPlace{Key: next}
	return nil
}

func (d *Desk) foundObject(f *finding, b *catalog.Bucket, v *object.Version, current bool, seen middle.Veil) api.FoundObject {
	o := api.FoundObject{Bucket: b.Name.String(), ListedObject: listedOf(v, seen), Current: current,
		Tier:   f.base.Tiers.Name(v.Body.Tier),
		Sealed: v.Body.Sealed(), Tags: v.Tags}
	o.Metadata = v.Metadata
	return o
}

// orders are how found objects can be sorted beside by key.
var orders = map[string]func(a, b api.FoundObject) int{
	"size":    func(a, b api.FoundObject) int { return cmp.Compare(a.Size, b.Size) },
	"largest": func(a, b api.FoundObject) int { return cmp.Compare(b.Size, a.Size) },
	"changed": func(a, b api.FoundObject) int { return a.Created.Compare(b.Created) },
	"latest":  func(a, b api.FoundObject) int { return b.Created.Compare(a.Created) },
}

// findSorted gives the first of all that are found, in an order. It looks at all of them,
// for as long as a count may take.
func (d *Desk) findSorted(ctx context.Context, f *finding, by string, limit int, out *api.FindAnswer) error {
	begun := time.Now()
	cut := func(n int) {
		slices.SortStableFunc(out.Objects, orders[by])
		out.Objects = out.Objects[:min(n, len(out.Objects))]
	}
	for from := (foundAt{}); ; {
		page := api.FindAnswer{}
		if err := d.findFrom(ctx, f, from, thenPage, &page); err != nil {
			return err
		}
		out.Looked, out.Index = out.Looked+page.Looked, out.Index || page.Index
		if out.Objects = append(out.Objects, page.Objects...); len(out.Objects) > sortedMost {
			cut(limit)
		}
		if page.Next == "" {
			cut(limit)
			return nil
		}
		if time.Since(begun) > countFor {
			return fault.New(fault.Slow, "sort-long", "it takes longer than %d s to look at all that is found",
				int(countFor.Seconds())).
				Do("ask more narrowly, or for them by key")
		}
		var err error
		if from, err = readPlace(page.Next); err != nil {
			return err
		}
	}
}
