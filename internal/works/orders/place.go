package orders

import (
	"context"
	"fmt"

	"golang.org/x/sync/errgroup"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/tier"
	"spindle/internal/store"
)

// placeKind gives a bucket a placement, and writes what is there anew as it says.
var placeKind = Kind{Name: "place", Parallel: 1, Counts: []string{"placed", "unchanged"}, Needs: placeNeeds,
	Prepare: preparePlace, Rehearse: rehearsePlace, Step: placeStep}

// What placing is reckoned with, when it is said how long it may take: bytes and versions a
// second that a middling disk takes.
const (
	placedBytes    = 80 << 20
	placedVersions = 400
)

func placeNeeds(o *catalog.Order) ([]Need, error) {
	return []Need{{access.Settings, o.Bucket, ""}}, nil
}

// placing is what an order of the kind works with.
type placing struct {
	facts catalog.BucketFacts
	tiers tier.Set
	to    *tier.Tier
	want  catalog.Wanted
}

func newPlacing(ctx context.Context, s *store.Store, o *catalog.Order) (p placing, err error) {
	if o.What.Place == nil || len(o.What.Prefix) > 0 {
		return p, fault.New(fault.Invalid, "placement", "a whole bucket has a placement, and none is named").In("placement").
			Do("name one (spindle placement list)")
	}
	if p.facts, err = s.Facts(ctx, o.Bucket); err != nil {
		return p, err
	}
	to, err := s.Catalog.Placement(ctx, o.What.Place.Placement)
	if err != nil {
		return p, err
	}
	if p.tiers, err = s.Tiers(ctx); err != nil {
		return p, err
	}
	if p.to, err = p.tiers.Find(to.Tier); err != nil {
		return p, err
	}
	p.want = catalog.Wanted{From: o.What.Place.From, To: p.to.ID, Pieces: p.to.Pieces != nil,
		Sealed: to.Sealing || p.facts.Sealing, All: o.What.Place.All}
	return p, nil
}

// preparePlace notes from which tier the bucket comes.
func preparePlace(ctx context.Context, s *store.Store, o *catalog.Order) error {
	p, err := newPlacing(ctx, s, o)
	if err != nil {
		return err
	}
	what := *o.What.Place
	what.From = p.facts.Tier
	o.What.Place, o.What.Prefix = &what, []byte{}
	return nil
}

func rehearsePlace(ctx context.Context, s *store.Store, o *catalog.Order) (r Rehearsal, err error) {
	p, err := newPlacing(ctx, s, o)
	if err != nil {
		return r, err
	}
	r.Counts, r.Limits = map[string]int64{"placed": 0, "unchanged": 0}, p.to.Limits()
	var versions, before, after int64
	for cursor := []byte{}; cursor != nil; {
		list, keys, last, err := s.Catalog.Misplaced(ctx, p.facts.ID, cursor, p.want, 1000)
		if err != nil {
			return r, err
		}
		changed := map[string]bool{}
		for _, v := range list {
			changed[v.Key.String()] = true
			r.Bytes, versions, after = r.Bytes+v.Size, versions+1, after+p.to.MonthCost(v.Size)
			if from := p.tiers.Of(v.Body.Tier); from != nil {
				before += from.MonthCost(v.Size)
			}
		}
		r.Counts["unchanged"] += int64(keys - len(changed))
		r.Counts["placed"] += int64(len(changed))
		cursor = last
	}
	r.Seconds = r.Bytes/placedBytes + versions/placedVersions
	r.MonthBefore, r.MonthAfter = float64(before)/1e6, float64(after)/1e6
	return r, nil
}

// placeStep gives the bucket its placement first, then writes the bodies of the next keys
// anew. What is so already is passed, so a step can be repeated.
func placeStep(ctx context.Context, s *store.Store, o *catalog.Order) (more bool, err error) {
	p, err := newPlacing(ctx, s, o)
	if err != nil {
		return false, err
	}
	if len(o.Progress.Cursor) == 0 {
		if err := s.ChangeBucket(ctx, o.Bucket, 0, author(o), bucket.Placement(o.What.Place.Placement)); err != nil {
			return false, err
		}
	}
	list, keys, last, err := s.Catalog.Misplaced(ctx, p.facts.ID, o.Progress.Cursor, p.want, 100)
	if err != nil {
		return false, err
	}
	progress := o.Progress.Clone() // counted when the whole page is done: what is repeated counts once
	changed := map[string]bool{}
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for _, v := range list {
		changed[v.Key.String()] = true
		progress.Bytes += v.Size
		g.Go(func() error {
			err := s.Rekeep(gctx, p.facts.ID, v, p.to, p.want.Sealed, store.Moving{Author: author(o)})
			if fault.HasCode(err, "version-moved") || fault.HasCode(err, "version-missing") {
				return nil // it was changed meanwhile, and is as the bucket is now
			}
			if fault.KindOf(err) == fault.Damaged {
				return fmt.Errorf("%s: %w", v.Key, err)
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return false, err
	}
	progress.Count("unchanged", int64(keys-len(changed)), 0)
	progress.Count("placed", int64(len(changed)), 0)
	progress.Cursor = last
	o.Progress = progress
	return last != nil, nil
}
