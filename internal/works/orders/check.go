package orders

import (
	"context"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/store"
)

// checkKind reads the bodies beneath a prefix now, all versions of them, and compares their
// digests; what is damaged is mended from another copy where there is one, or marked.
var checkKind = Kind{Name: "check", Parallel: 1, Counts: []string{"sound", "damaged"}, Needs: checkNeeds,
	Prepare: prepareCheck, Rehearse: rehearseCheck, Step: checkStep}

func checkNeeds(o *catalog.Order) ([]Need, error) {
	return []Need{{access.Read, o.Bucket, string(o.What.Prefix)}}, nil
}

func prepareCheck(ctx context.Context, s *store.Store, o *catalog.Order) error {
	_, err := s.Facts(ctx, o.Bucket)
	if o.What.Prefix == nil {
		o.What.Prefix = []byte{}
	}
	return err
}

func rehearseCheck(ctx context.Context, s *store.Store, o *catalog.Order) (r Rehearsal, err error) {
	f, err := s.Facts(ctx, o.Bucket)
	if err != nil {
		return r, err
	}
	r.Counts = map[string]int64{"sound": 0, "damaged": 0}
	for after := []byte{}; after != nil; {
		list, keys, last, err := s.Catalog.BodiesBeneath(ctx, f.ID, o.What.Prefix, after, 1000)
		if err != nil {
			return r, err
		}
		for _, b := range list {
			r.Bytes += b.Version.Size
		}
		r.Counts["sound"] += int64(keys)
		after = last
	}
	return r, nil
}

// checkStep reads the bodies of the next keys.
func checkStep(ctx context.Context, s *store.Store, o *catalog.Order) (more bool, err error) {
	f, err := s.Facts(ctx, o.Bucket)
	if err != nil {
		return false, err
	}
	list, keys, last, err := s.Catalog.BodiesBeneath(ctx, f.ID, o.What.Prefix, o.Progress.Cursor, 20)
	if err != nil {
		return false, err
	}
	p := o.Progress.Clone() // counted when the whole page is done: what is repeated counts once
	damaged := map[string]bool{}
	for _, b := range list {
		_, found := Mend(ctx, s, b, func(int) error { return ctx.Err() })
		bad, err := NoteCheck(ctx, s, b, found)
		if err != nil {
			return false, err
		}
		if p.Bytes += b.Version.Size; bad {
			damaged[b.Version.Key.String()] = true
		}
	}
	p.Count("sound", int64(keys-len(damaged)), 0)
	p.Count("damaged", int64(len(damaged)), 0)
	p.Cursor = last
	o.Progress = p
	if last == nil { // whoever waits for it is told at once what holds now
		err = s.RefreshDamage(ctx)
	}
	return last != nil, err
}
