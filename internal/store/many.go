package store

import (
	"context"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/object"
)

// Renaming is a rename of one of many keys.
type Renaming struct{ From, To object.Key }

// RenameMany renames keys of a bucket, into another one or within it, in one transaction that
// also notes how far an order is; see catalog.MakeMany. ok is false when that cannot be, as a
// key is named twice, bytes have to be written anew, or the bucket asks for metadata: then
// nothing was done, and Copy does it one by one. What is gone meanwhile is left out.
func (s *Store) RenameMany(ctx context.Context, from, to object.BucketName, list []Renaming, replace bool,
	by catalog.Author, step catalog.Step) (ok bool, err error) {
	source, _, err := s.bucketFacts(ctx, from)
	if err != nil {
		return false, err
	}
	target, _, err := s.bucketFacts(ctx, to)
	if err != nil {
		return false, err
	}
	if from != to && (target.Sealing || target.Fixed != "") || len(target.Required) > 0 {
		return false, nil
	}
	by = s.Now(by)
	many := make([]catalog.Each, len(list))
	for i, x := range list {
		many[i] = catalog.Each{Key: x.From.String(), ID: object.Current, Make: catalog.Change{Kind: catalog.ObjectRenamed,
			Bucket: target.ID, Key: x.To.String(), IfAbsent: !replace, Author: by},
			Edit: func(found *object.Version) (*object.Version, error) {
				v := *found
				v.Origin = ""
				return becomes(&v, x.To, by), nil
			}}
	}
	if !catalog.Distinct(source.ID, many) {
		return false, nil
	}
	_, err = s.Catalog.MakeMany(ctx, source.ID, many, step)
	return true, err
}

// becomes makes a version that was found a new one, written now.
func becomes(v *object.Version, key object.Key, by catalog.Author) *object.Version {
	v.Key, v.Created, v.By, v.Source, v.Revision, v.Marker = key, by.At, by.Who, by.Source, 1, false
	v.Changed = time.Time{}
	return v
}

// VersionsAsOf gives versions of keys by their numbers; see catalog.VersionsAsOf.
func (s *Store) VersionsAsOf(ctx context.Context, bucket object.BucketName, keys []string, numbers []int64,
	at time.Time) ([]*object.Version, error) {
	f, _, err := s.bucketFacts(ctx, bucket)
	if err != nil {
		return nil, err
	}
	return s.Catalog.VersionsAsOf(ctx, f.ID, keys, numbers, at)
}

// PutBack brings one of many keys back to a version that it had, or has it removed.
type PutBack struct {
	Key object.Key
	Was *object.Version // with the metadata of then; nil: nothing was there
}

// PutBackMany brings keys of a bucket that keeps versions back, in one transaction that also
// notes how far an order is; see catalog.MakeMany.
func (s *Store) PutBackMany(ctx context.Context, bucket object.BucketName, list []PutBack, by catalog.Author,
	step catalog.Step) error {
	f, _, err := s.bucketFacts(ctx, bucket)
	if err != nil {
		return err
	}
	by = s.Now(by)
	many := make([]catalog.Each, len(list))
	var adds int64
	for i, x := range list {
		ch := catalog.Change{Kind: catalog.ObjectRemoved, Bucket: f.ID, Key: x.Key.String(), Author: by}
		if x.Was == nil {
			many[i] = catalog.Each{Make: ch}
			continue
		}
		adds += x.Was.Size
		ch.Kind = catalog.ObjectRestored
		many[i] = catalog.Each{Key: x.Key.String(), ID: x.Was.ID(), Make: ch,
			Edit: func(found *object.Version) (*object.Version, error) {
				v := *found
				v.Headers, v.Metadata, v.Tags, v.Origin = x.Was.Headers, x.Was.Metadata, x.Was.Tags, ""
				return becomes(&v, x.Key, by), nil
			}}
	}
	if err := fits(f, adds); err != nil {
		return err
	}
	_, err = s.Catalog.MakeMany(ctx, f.ID, many, step)
	return err
}
