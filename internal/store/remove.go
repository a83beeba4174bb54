package store

import (
	"context"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// Remove removes the current object at an address; where versioning is on or
// paused it leaves a delete marker. Result.Number is 0 when nothing was there
// and no marker was left, which is no error unless etag is given.
func (s *Store) Remove(ctx context.Context, a catalog.Address, etag *object.ETag, by catalog.Author) (catalog.Result,
	error) {
	by = s.Now(by)
	return s.commit(ctx, a.Bucket, catalog.Change{Kind: catalog.ObjectRemoved, Key: a.Key.String(), IfETag: etag,
		Author: by})
}

// RemoveVersion removes a version for good. When it was the current one, the one
// before it becomes current. The error for none has the code version-missing.
func (s *Store) RemoveVersion(ctx context.Context, a catalog.Address, id object.VersionID,
	by catalog.Author) (catalog.Result, error) {
	by = s.Now(by)
	return s.commit(ctx, a.Bucket, catalog.Change{Kind: catalog.VersionRemoved, Key: a.Key.String(), ID: id, Author: by})
}

// Removal of one of many: the current object of a key, or a version of it.
type Removal struct {
	Key object.Key
	ID  object.VersionID
}

// RemoveMany carries out removals and gives a result and an error for each, in
// their order. Doubles count once. What is not there is no error.
func (s *Store) RemoveMany(ctx context.Context, bucket object.BucketName, removals []Removal,
	by catalog.Author) ([]catalog.Result, []error, error) {
	facts, err := s.Facts(ctx, bucket)
	if err != nil {
		return nil, nil, err
	}
	by = s.Now(by)
	results, errs := make([]catalog.Result, len(removals)), make([]error, len(removals))
	first := map[Removal]int{}
	var left []int
	for i, r := range removals {
		if _, twice := first[r]; !twice {
			first[r] = i
			left = append(left, i)
		}
	}
	// A batch holds each key once: what names it again comes with the next.
	for len(left) > 0 {
		var batch, rest []int
		seen := map[object.Key]bool{}
		var changes []catalog.Change
		for _, i := range left {
			r := removals[i]
			if seen[r.Key] {
				rest = append(rest, i)
				continue
			}
			seen[r.Key] = true
			ch := catalog.Change{Kind: catalog.ObjectRemoved, Bucket: facts.ID, Key: r.Key.String(), ID: r.ID, Author: by}
			if r.ID != object.Current {
				ch.Kind = catalog.VersionRemoved
			}
			batch, changes = append(batch, i), append(changes, ch)
		}
		rs, es := s.Catalog.CommitMany(ctx, changes)
		for n, i := range batch {
			results[i], errs[i] = rs[n], es[n]
			if fault.HasCode(es[n], "version-missing") {
				errs[i] = nil
			}
		}
		left = rest
	}
	for i, r := range removals {
		results[i], errs[i] = results[first[r]], errs[first[r]]
	}
	return results, errs, nil
}

// Cleared says what one step of a removal beneath a prefix removed.
type Cleared struct {
	catalog.Usage
	Retained []string // keys of which something must be kept: they stay
	More     bool
}

// RemoveUnder removes the next objects, at most limit, beneath a prefix ("" for
// all of a bucket). Called until More is false it empties the prefix of all but
// what is retained; it is safe to stop and to repeat.
func (s *Store) RemoveUnder(ctx context.Context, bucket object.BucketName, prefix string, limit int,
	by catalog.Author) (Cleared, error) {
	f, err := s.Facts(ctx, bucket)
	if err != nil {
		return Cleared{}, err
	}
	by = s.Now(by)
	return cleared(func(after string, c *Cleared) (string, bool, error) {
		page, more, err := s.Catalog.List(ctx, catalog.Listing{Bucket: f.ID, Prefix: prefix, After: after, Max: limit})
		if err != nil || len(page) == 0 {
			return "", false, err
		}
		changes := make([]catalog.Change, len(page))
		for i, e := range page {
			changes[i] = catalog.Change{Kind: catalog.ObjectRemoved, Bucket: f.ID, Key: e.Name(), Author: by}
		}
		results, errs := s.Catalog.CommitMany(ctx, changes)
		for i, e := range page {
			switch {
			case fault.HasCode(errs[i], "version-retained"):
				c.Retained = append(c.Retained, e.Name())
			case errs[i] != nil:
				return "", false, errs[i]
			case results[i].Number > 0:
				c.Objects++
				c.Bytes += e.Version.Size
			}
		}
		return page[len(page)-1].Name(), more, nil
	})
}

// PurgeUnder removes the next keys, at most limit, beneath a prefix with all
// their versions and delete markers, for good. Keys of which something is
// retained stay.
func (s *Store) PurgeUnder(ctx context.Context, bucket object.BucketName, prefix string, limit int,
	by catalog.Author) (Cleared, error) {
	f, err := s.Facts(ctx, bucket)
	if err != nil {
		return Cleared{}, err
	}
	by = s.Now(by)
	return cleared(func(after string, c *Cleared) (string, bool, error) {
		keys, err := s.Catalog.Keys(ctx, f.ID, prefix, after, limit)
		if err != nil || len(keys) == 0 {
			return "", false, err
		}
		u, stay, err := s.Catalog.Purge(ctx, f.ID, keys, by)
		c.Usage.Add(u)
		c.Retained = append(c.Retained, stay...)
		return keys[len(keys)-1], len(keys) == limit, err
	})
}

// cleared takes page after page, until one of which not all stays, or the last.
func cleared(page func(after string, c *Cleared) (last string, more bool, err error)) (c Cleared, err error) {
	for last := ""; ; {
		if last, c.More, err = page(last, &c); err != nil || !c.More || c.Usage != (catalog.Usage{}) {
			return c, err
		}
	}
}
