package orders

import (
	"context"
	"fmt"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

// restoreKind brings all beneath a prefix back to how it stood at a moment.
var restoreKind = Kind{Name: "restore", Parallel: 2, Counts: []string{"restored", "removed", "unchanged"},
	Needs: restoreNeeds, Prepare: prepareRestore, Rehearse: rehearseRestore, Step: restoreStep}

func restoreNeeds(o *catalog.Order) ([]Need, error) {
	return []Need{{access.List | access.Read | access.Write | access.Remove, o.Bucket, string(o.What.Prefix)}}, nil
}

func prepareRestore(ctx context.Context, s *store.Store, o *catalog.Order) error {
	f, err := s.Catalog.Facts(ctx, o.Bucket)
	if err == nil {
		err = needVersioning(f)
	}
	if err != nil {
		return err
	}
	return catalog.BucketBefore(f, o.What.AsOf)
}

// needVersioning refuses work that would lose what it replaces. The error has the
// code versioning-not-on.
func needVersioning(f catalog.BucketFacts) error {
	if f.Versioning != object.On {
		return fault.New(fault.Conflict, "versioning-not-on", "versioning is %s: what the restore replaces would be gone",
			f.Versioning).In("versioning").Do("switch versioning on first")
	}
	return nil
}

func rehearseRestore(ctx context.Context, s *store.Store, o *catalog.Order) (r Rehearsal, err error) {
	f, err := s.Catalog.Facts(ctx, o.Bucket)
	if err != nil {
		return r, err
	}
	r.Counts = map[string]int64{"restored": 0, "removed": 0, "unchanged": 0}
	for after := ""; ; {
		list, err := s.Catalog.Differences(ctx, f.ID, string(o.What.Prefix), after, o.What.AsOf, 1000)
		if err != nil {
			return r, err
		}
		for _, d := range list {
			switch {
			case d.Same:
				r.Counts["unchanged"]++
			case d.Then:
				r.Counts["restored"]++
				r.Bytes += d.Bytes
			case d.Now:
				r.Counts["removed"]++
			}
			after = d.Key
		}
		if len(list) < 1000 {
			return r, nil
		}
	}
}

// restoreStep brings the next keys back to how they stood. A key that stands so
// already is left alone, so a step can be repeated.
func restoreStep(ctx context.Context, s *store.Store, o *catalog.Order) (more bool, err error) {
	f, err := s.Catalog.Facts(ctx, o.Bucket)
	if err != nil {
		return false, err
	}
	if err := needVersioning(f); err != nil {
		return false, err
	}
	list, err := s.Catalog.Differences(ctx, f.ID, string(o.What.Prefix), string(o.Progress.Cursor), o.What.AsOf, orderStep)
	if err != nil {
		return false, err
	}
	p := o.Progress.Clone()
	var back []store.PutBack
	var keys []string
	var numbers []int64
	for _, d := range list {
		switch {
		case d.Then && !d.Same && !d.Current:
			keys, numbers = append(keys, d.Key), append(numbers, d.Version)
		case !d.Then && d.Now:
			key, err := object.ParseKey(d.Key)
			if err != nil {
				return false, err
			}
			back = append(back, store.PutBack{Key: key})
		default: // as it was, or but for its metadata
			counter, bytes, err := restoreOne(ctx, s, o, d)
			if err != nil {
				return false, err
			}
			p.Count(counter, 1, bytes)
		}
	}
	was, err := s.VersionsAsOf(ctx, o.Bucket, keys, numbers, o.What.AsOf)
	if err != nil {
		return false, err
	}
	for _, v := range was {
		if v == nil {
			continue // it was removed for good meanwhile
		}
		back = append(back, store.PutBack{Key: v.Key, Was: v})
	}
	if len(list) > 0 {
		p.Cursor = []byte(list[len(list)-1].Key)
	}
	before := p
	err = s.PutBackMany(ctx, o.Bucket, back, author(o), func(made []*object.Version) (int64, catalog.OrderProgress) {
		p = before.Clone() // it is asked again when the transaction is tried again
		for i, b := range back {
			switch {
			case b.Was == nil:
				p.Count("removed", 1, 0)
			case made[i] != nil:
				p.Count("restored", 1, made[i].Size)
			}
		}
		return o.ID, p
	})
	if err != nil {
		return false, err
	}
	o.Progress = p
	return len(list) == orderStep, nil
}

// restoreOne brings one key back, and says which counter tells of it.
func restoreOne(ctx context.Context, s *store.Store, o *catalog.Order, d catalog.Difference) (counter string,
	bytes int64, err error) {
	key, err := object.ParseKey(d.Key)
	if err != nil {
		return "", 0, err
	}
	a := catalog.Address{Bucket: o.Bucket, Key: key}
	switch {
	case d.Then && !d.Same:
		v, err := s.Restore(ctx, a, object.Current, o.What.AsOf, author(o))
		if err != nil {
			return "", 0, fmt.Errorf("%s: %w", key, err)
		}
		return "restored", v.Size, nil
	case d.Now && !d.Same:
		if _, err := s.Remove(ctx, a, nil, author(o)); err != nil {
			return "", 0, fmt.Errorf("%s: %w", key, err)
		}
		return "removed", 0, nil
	}
	return "unchanged", 0, nil
}
